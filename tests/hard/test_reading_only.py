"""What is asked of databases can only read: refused at once, in probes and in kits' targets."""

from __future__ import annotations

import pytest

from balise.client import BaliseError
from balise.core.kits.reading import refused_redis, refused_sql
from running import Service


@pytest.mark.parametrize(
    ("kind", "query"),
    [
        ("postgresql", "begin read write; create table t (x int); commit; select 1"),
        ("postgresql", "copy t to program 'id'"),
        ("postgresql", "do $$ begin end $$"),
        ("mariadb", "set global read_only = 0"),
        ("mariadb", "select 1 into outfile '/tmp/x'"),
        ("redis", "FLUSHALL"),
        ("redis", "CONFIG SET dir /tmp"),
        ("redis", "config get requirepass"),
    ],
)
def test_a_probe_that_would_do_more_than_read_is_refused(service: Service, kind: str, query: str) -> None:
    body = {"kind": kind, "target": "127.0.0.1", "query": query, "every": "60s"}
    with service.client("operator") as caller:
        for method, path in (("PUT", "/probes/db"), ("POST", "/probes/db/try")):
            with pytest.raises(BaliseError, match="query: ") as error:
                caller.call(method, path, body)
            assert error.value.status == 422


@pytest.mark.parametrize(
    "query",
    ["select 1", " ( SELECT 1 ) union (select 2);", "-- what is sold\nwith a as (select 1) table a", "SHOW STATUS",
     "values (1)", "/* why */ explain select 1", "# note\nselect 1"],
)  # fmt: skip
def test_queries_are_asked(query: str) -> None:
    assert refused_sql(query) == ""


@pytest.mark.parametrize(
    "query", ["", ";", "--select", "/*select*/drop table t", "1", "/*!select*/ 1", "call f()", "selectx"]
)
def test_what_is_no_query_is_not(query: str) -> None:
    assert refused_sql(query)


def test_commands_of_redis_are_known_by_their_first_words() -> None:
    for words in (["PING"], ["get", "set"], ["Memory", "Usage", "k"], ["SLOWLOG", "GET", "5"]):
        assert refused_redis(words) == ""
    for words in ([], ["memory"], ["MEMORY", "PURGE"], ["slowlog", "reset"], ["getset", "a", "b"], ["eval", "get"]):
        assert refused_redis(words)

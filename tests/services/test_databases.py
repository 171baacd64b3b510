"""Kits of databases against the real ones: what is read agrees with what their own clients say."""

from __future__ import annotations

import threading
import time
from typing import Any

import pytest

import real
from balise.api.services import ServiceTarget
from balise.collect.kits.folder import shipped_kits
from balise.collect.kits.reader import ServiceReader
from balise.core.kits.documents import TargetError, read_kit
from reading import login, read, value, values
from running import until


def test_postgresql_is_read_in_depth(postgres: real.Postgres) -> None:
    with postgres.connect() as db:
        size = db.execute("select pg_database_size('postgres')").fetchone()[0]
        version = db.execute("show server_version").fetchone()[0]
        settings = db.execute("select count(*) from pg_settings").fetchone()[0]
        for _ in range(12):
            db.execute("select count(*) from fares where price > 0")
        db.execute("select pg_stat_force_next_flush()")
        backups = {"backup-query": "select extract(epoch from now() - max(finished)) from backups"}
        found = until(
            lambda: (f := read("postgresql", postgres.target | backups, login())).tables.get("without-index") and f
        )
    assert found.problem is None and found.problems == [], found.problems
    assert found.facts["version"] == version and found.facts["role"] == "primary"
    assert value(found, "postgresql.connection.limit") == 100
    assert value(found, "postgresql.database.size", "postgres") == pytest.approx(size, rel=0.1)
    assert value(found, "postgresql.backup.age") == pytest.approx(7200, abs=60)
    assert value(found, "postgresql.table.rows", "postgres", "public.fares", "live") == pytest.approx(20000, rel=0.1)
    assert values(found, "postgresql.locks").keys() == {("held",), ("waiting",)}
    twice = [r for r in found.tables["indexes"] if r["index"] == "fares_who_again"]
    assert [r["why"] for r in twice] == ["the same as another"]
    assert {r["why"] for r in found.tables["indexes"] if r["index"] == "fares_who"} == {"never used"}
    assert [r["table"] for r in found.tables["without-index"]] == ["public.fares"]
    [dear] = [r for r in found.tables["statements"] if "from fares where price" in str(r["statement"])]
    series = {(r.metric, r.attributes.get("postgresql.query_id")): r.value for r in found.readings}
    assert series["postgresql.query.time", dear["id"]] == pytest.approx(float(str(dear["seconds"])), abs=1e-6)
    assert series["postgresql.query.calls", dear["id"]] == float(str(dear["calls"]))
    assert 300 < len(found.configuration) <= settings
    assert found.configuration["max_connections"] == "100"
    assert len({r.metric for r in found.readings}) >= 35
    assert all(found.meanings[r.metric].unit and found.meanings[r.metric].description for r in found.readings)


def test_a_chain_of_blocked_sessions_has_its_root(postgres: real.Postgres) -> None:
    sessions = [postgres.connect(name, autocommit=False) for name in ("tariff-import", "booking-1", "booking-2")]
    for number, session in enumerate(sessions[:2], 1):
        session.execute(f"update fares set price = 0 where id = {number}")
    threads = []
    for session, number in ((sessions[1], 1), (sessions[2], 2)):

        def wait(session: Any = session, number: int = number) -> None:
            try:
                session.execute(f"update fares set price = 1 where id = {number}")
            except Exception:
                return

        threads.append(threading.Thread(target=wait, daemon=True))
        threads[-1].start()
        pid = session.info.backend_pid
        with postgres.connect() as db:
            until(lambda: db.execute("select cardinality(pg_blocking_pids(%s))", [pid]).fetchone()[0])  # noqa: B023
    found = read("postgresql", postgres.target, login())
    pids = [str(s.info.backend_pid) for s in sessions]
    by_id = {s["id"]: s for s in found.sessions or []}
    assert [by_id[p]["blocked_by"] for p in pids] == [None, pids[0], pids[1]]
    assert by_id[pids[0]]["application"] == "tariff-import" and "idle in transaction" in by_id[pids[0]]["state"]
    assert value(found, "postgresql.sessions.blocked") == 2
    for session in sessions:
        session.cancel()
    for thread in threads:
        thread.join(5)
    for session in sessions:
        session.close()


def test_what_is_not_granted_is_said_and_the_rest_is_read(postgres: real.Postgres) -> None:
    with postgres.connect() as db:
        db.execute("CREATE ROLE poor LOGIN PASSWORD 'poorpw'")
    found = read("postgresql", postgres.target, login("poorpw", "poor"))
    assert found.problem is None and value(found, "postgresql.connection.limit") == 100
    for words, problem in (
        (read("postgresql", postgres.target, login("wrong")), "did not accept the user or the password"),
        (read("postgresql", postgres.target | {"port": 1}, login()), "refused the connection"),
        (read("postgresql", postgres.target | {"database": "nowhere"}, login()), "does not exist"),
    ):
        assert problem in str(words.problem), words.problem
        assert value(words, "balise.service.up") == 0


def test_a_target_that_is_no_server_is_refused_before_anything_is_sent() -> None:
    for address in ("169.254.169.254", "224.0.0.1", "0.0.0.0"):
        with pytest.raises(TargetError, match="link-local, multicast or reserved"):
            read("postgresql", {"address": address}, login())
    with pytest.raises(TargetError, match="no name and password in the URL"):
        read("nginx", {"url": "http://user:pw@127.0.0.1/"})


def test_a_kit_can_only_read(postgres: real.Postgres) -> None:
    with postgres.connect() as db:
        before = db.execute("select count(*) from fares").fetchone()[0]
        db.execute(
            "create or replace function plant() returns int language sql as 'insert into fares values (9) returning 1'"
        )
    for query, words in (
        ("update fares set price = 5", "only a query is sent"),
        ("begin read write; create table taken (x int); commit; select 1", "only a query is sent"),
        ("select 1; commit; create table taken (x int)", "cannot insert multiple commands"),
        ("/* select */ create table taken (x int)", "only a query is sent"),
        ("copy (select 1) to program 'touch /tmp/taken'", "only a query is sent"),
        ("with new as (insert into fares values (9) returning 1) select * from new", "read-only transaction"),
        ("select plant()", "read-only transaction"),
        ("explain analyze insert into fares values (9)", "read-only transaction"),
        ("select 1 from set_config('transaction_read_only', 'off', false), plant()", "before any query"),
        ("select pg_sleep(30)", "longer than its time limit"),
    ):
        found = read(
            "sql", postgres.target | {"engine": "postgresql", "query": query}, login("secret", "postgres"), 0.6
        )
        assert words in found.problems[0]
    found = read(
        "sql",
        postgres.target | {"engine": "postgresql", "query": "select 'pier' as quay, 3 as gates, 2.5 as depth"},
        login(),
    )
    assert values(found, "sql.value") == {("pier", "gates"): 3.0, ("pier", "depth"): 2.5}
    with postgres.connect() as db:
        assert db.execute("select to_regclass('taken')").fetchone()[0] is None
        assert db.execute("select count(*) from fares").fetchone()[0] == before


def test_a_connection_that_ends_is_made_again(postgres: real.Postgres) -> None:
    kit = shipped_kits()["postgresql"].kit
    service = ServiceTarget(
        id=1, name="pg", kit=kit, target=postgres.target, credential=login(), every=30, time_limit=5
    )
    reader = ServiceReader(service)
    assert reader.read(1000.0).problem is None
    with postgres.connect() as db:
        db.execute("select pg_terminate_backend(pid) from pg_stat_activity where application_name = 'balise'")
    assert "terminating connection" in str(reader.read(1030.0).problem)
    again = reader.read(1060.0)
    assert again.problem is None
    # Parts with an interval of their own are not read at every turn.
    assert "sizes" not in {p.part for p in again.parts} and "server" in {p.part for p in again.parts}
    assert "sizes" in {p.part for p in reader.read(1400.0).parts}
    reader.close()


def test_postgresql_is_split_by_database_and_its_kit_is_our_own_format(postgres: real.Postgres) -> None:
    with postgres.connect() as db:
        db.execute("CREATE DATABASE timetable")
    text = """
kit: berths
version: "1.0"
title: Berths
about: rows of every database
by: postgresql
target:
  address: {about: where, kind: address, default: 127.0.0.1}
  port: {about: its port, kind: port, needed: true}
  database: {about: which, default: postgres}
read:
  - part: each
    each: {ask: {sql: "select datname from pg_database where not datistemplate order by 1"}, column: datname, field: database}
    ask: {sql: "select count(*) as n from pg_class"}
    attributes: {db.namespace: database}
    metrics:
      berths.relations: {about: relations of a database, unit: "{relation}", column: n}
"""
    from balise.collect.kits.reader import once

    found = once(read_kit(text), postgres.target, login(), 5.0, "berths", time.time())
    assert {k for (k,) in values(found, "berths.relations")} == {"postgres", "timetable"}


def test_mariadb_is_read_with_its_blocked_transactions(maria: real.Maria) -> None:
    first, second = maria.connect(autocommit=False), maria.connect(autocommit=False)
    with first.cursor() as cursor:
        cursor.execute("update fares.fare set price = 9 where id = 1")

    def wait() -> None:
        try:
            with second.cursor() as cursor:
                cursor.execute("update fares.fare set price = 8 where id = 1")
        except Exception:
            return

    thread = threading.Thread(target=wait, daemon=True)
    thread.start()
    found = until(lambda: (f := read("mariadb", maria.target, login())) and value(f, "mariadb.sessions.blocked") and f)
    by_id = {s["id"]: s for s in found.sessions or []}
    assert by_id[str(second.thread_id())]["blocked_by"] == str(first.thread_id())
    assert found.problems == [] and found.facts["version"].startswith("10.")
    assert value(found, "mariadb.connection.limit") == 151
    assert value(found, "mariadb.threads", "connected") >= 3
    assert found.configuration["max_connections"] == "151"
    first.rollback()
    thread.join(5)
    first.close(), second.close()
    assert "did not accept the user or the password" in str(read("mariadb", maria.target, login("wrong")).problem)
    for query, words in (
        ("update fares.fare set price = 1", "only a query is sent"),
        ("select 1 into outfile '/tmp/taken'", "writes a file"),
        ("select 1 into/**/dumpfile '/tmp/taken'", "writes a file"),
        ("select 1 /*!50000 into outfile '/tmp/taken' */", "carries out"),
        ("select 1; set session transaction read write", "syntax"),
        ("select * from fares.fare for update", "no permission"),
    ):
        found = read("sql", maria.target | {"engine": "mariadb", "query": query}, login())
        assert words in found.problems[0], query


def test_redis_is_read_with_no_right_to_any_key(redis: real.Redis) -> None:
    client = redis.client()
    client.eval("local t = 0 for i = 1, 3000000 do t = t + i end return t", 0)
    found = read("redis", redis.target, login())
    assert found.problems == []
    assert value(found, "redis.keys", "db0") == client.dbsize() == 50
    assert found.facts["version"] == client.info()["redis_version"]
    assert value(found, "redis.uptime") == pytest.approx(client.info()["uptime_in_seconds"], abs=2)
    assert found.tables["slow-commands"][0]["command"].startswith("EVAL")
    assert "did not accept the user or the password" in str(read("redis", redis.target, login("wrong")).problem)
    assert "did not accept" in str(read("redis", redis.target).problem)


def test_an_account_that_may_write_says_so(postgres: real.Postgres, maria: real.Maria, redis: real.Redis) -> None:
    """Each server's own accounts: the kit's, which may only read, and one that may do more."""
    with postgres.connect() as db:
        db.execute("CREATE ROLE writer LOGIN PASSWORD 'writerpw'")
        db.execute("GRANT INSERT ON fares TO writer")
        db.execute("GRANT pg_monitor TO writer")
    for kit, target, credential, said in (
        ("postgresql", postgres.target, login(), "may only read"),
        ("postgresql", postgres.target, login("writerpw", "writer"), "may write (it may change tables)"),
        ("postgresql", postgres.target, login("secret", "postgres"), "may write (it is a superuser"),
        ("mariadb", maria.target, login(), "may only read"),
        ("redis", redis.target, login("pw", "default"), "may write (it may SET)"),
    ):
        found = read(kit, target, credential)
        assert found.facts["account"].startswith(said), (kit, found.facts)
    query = {"engine": "postgresql", "query": "select 1 as one"}
    assert "superuser" in read("sql", postgres.target | query, login("secret", "postgres")).facts["account"]

"""One event, and the lines around it, through the client."""

from __future__ import annotations

import time
from collections.abc import Iterator

import pytest

from balise.api.events import EventQuery
from balise.client import Refused
from running import Service
from sending import log_request, post


@pytest.fixture(scope="module")
def service(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    made = Service(tmp_path_factory.mktemp("events"))
    now = time.time() - 600
    for host in ("pier-1", "pier-2"):
        lines = [(now + n, 9, f"{host} boarded deck {n}") for n in range(40)]
        sent = post(made.url, made.tokens["ingest"], "logs", log_request(host, lines).SerializeToString())
        assert sent.status_code == 200
    yield made
    made.stop()


def test_the_lines_around_an_event_are_told_in_order(service: Service) -> None:
    with service.client("viewer") as c:
        event = next(e for e in c.events.search(EventQuery(where='host eq "pier-2"')).items if e.body.endswith(" 20"))
        assert c.events.get(event.id) == event
        around = c.events.around(event.id, lines=3)
        assert [e.body[-2:] for e in [*around.before, around.event, *around.after]] == [str(n) for n in range(17, 24)]
        assert {e.host for e in around.before + around.after} == {"pier-2"}
        first = c.events.around(around.before[0].id, scope="host", lines=200)
        assert len(first.before) == 17 and len(first.after) == 22


@pytest.mark.parametrize(("number", "status"), [("20000-1", 404), ("1-99", 404), ("x", 422), ("1-", 422)])
def test_an_event_that_is_not_there(service: Service, number: str, status: int) -> None:
    with service.client("viewer") as c, pytest.raises(Refused) as caught:
        c.events.around(number)
    assert caught.value.status == status

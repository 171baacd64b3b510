"""One event, and the lines around it, through the client."""

from __future__ import annotations

import csv
import json
import os
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from balise.api.events import EventQuery, ExportQuery
from balise.client import Refused
from running import BALISE, Service
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


def test_all_events_of_a_question_are_exported_each_once(service: Service, tmp_path: Path) -> None:
    now = time.time()
    for at in range(0, 2500, 500):
        lines = [(now - 300 + 0.01 * n, 9, f"crate {n}") for n in range(at, at + 500)]
        body = log_request("crane-1", lines, {"weight": "=1+1"}).SerializeToString()
        assert post(service.url, service.tokens["ingest"], "logs", body).status_code == 200
    where = 'host eq "crane-1"'
    with service.client("viewer") as c:
        written = b"".join(c.events.export(ExportQuery(format="jsonl", where=where))).decode().splitlines()
        assert [json.loads(line)["body"] for line in written] == [f"crate {n}" for n in reversed(range(2500))]
        table = list(
            csv.reader(b"".join(c.events.export(ExportQuery(format="csv", where=where))).decode().splitlines())
        )
        assert table[0][0] == "time" and len(table) == 2501 and table[1][4] == "crate 2499"
        with pytest.raises(Refused, match="is no comparison") as caught:
            b"".join(c.events.export(ExportQuery(format="csv", where="host is 3")))
        assert caught.value.status == 422
    made = tmp_path / "crane.log"
    words = ["event", "export", "--where", where, "--as", "rfc5424", "--to-file", str(made)]
    environment = {**os.environ, "BALISE_URL": service.url, "BALISE_TOKEN": service.tokens["viewer"]}
    done = subprocess.run([BALISE, *words], capture_output=True, text=True, env=environment, check=True)
    assert done.stdout.startswith("2500 events, ") and len(made.read_text().splitlines()) == 2500


@pytest.mark.parametrize(("number", "status"), [("20000-1", 404), ("1-99", 404), ("x", 422), ("1-", 422)])
def test_an_event_that_is_not_there(service: Service, number: str, status: int) -> None:
    with service.client("viewer") as c, pytest.raises(Refused) as caught:
        c.events.around(number)
    assert caught.value.status == status

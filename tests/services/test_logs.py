"""Logs as the real programs write them, through the parsers into attributes, and into sign-ins."""

from __future__ import annotations

import asyncio
import time
from pathlib import Path

import asyncssh
import psycopg
import pytest

import real
from balise.api.parsers import Parser
from balise.core.events.new_event import NewEvent
from balise.core.events.parsers import ParserReader
from balise.core.events.sign_ins import SignInReader
from balise.core.localtime import of_offset
from balise.core.syslog import Line
from distant import Sshd
from running import until


def read(parser: Parser, text: str) -> list[Line]:
    reader = ParserReader(parser)
    found = [reader.read(line, time.time(), of_offset("+0000")) for line in text.splitlines()]
    return [line for line in found if line is not None]


@pytest.mark.parametrize("form", ["json", "csv"])
def test_what_postgresql_logs_becomes_attributes(postgres: real.Postgres, form: str) -> None:
    with postgres.connect(application="timetable") as db, pytest.raises(psycopg.errors.UndefinedTable):
        db.execute("SELECT * FROM tides_of_1790")
    log = postgres.log.with_suffix(f".{form}")
    until(lambda: "tides_of_1790" in log.read_text())
    lines = read(Parser(form=f"postgresql-{form}"), log.read_text())  # type: ignore[arg-type]
    said = [line for line in lines if "tides_of_1790" in line.body and line.severity == "error"]
    assert {line.body for line in said} == {'relation "tides_of_1790" does not exist'}
    attributes = said[-1].attributes
    assert attributes["db.namespace"] == "postgres" and attributes["db.response.status_code"] == "42P01"
    assert attributes["db.query.text"] == "SELECT * FROM tides_of_1790"
    assert "timetable" in attributes.values() and "postgres" in attributes.values()
    assert said[-1].time is not None and abs(time.time() - said[-1].time) < 60


def test_what_nginx_logs_becomes_attributes(nginx: real.Nginx) -> None:
    assert nginx.get("/down?quay=%22north%22") == 503
    log = nginx.folder / "access.log"
    until(lambda: "/down?quay" in log.read_text())
    line = next(one for one in reversed(read(Parser(form="access"), log.read_text())) if "/down" in one.body)
    assert line.attributes["url.path"] == "/down" and line.attributes["url.query"] == "quay=%22north%22"
    assert (line.attributes["http.request.method"], line.attributes["http.response.status_code"]) == ("GET", "503")
    assert line.attributes["client.address"] == "127.0.0.1" and line.severity == "error"
    assert line.attributes["user_agent.original"].startswith("python-httpx/")
    assert line.time is not None and abs(time.time() - line.time) < 60


def test_what_openssh_logs_becomes_sign_ins(tmp_path: Path) -> None:
    sshd = Sshd(tmp_path / "sshd", more="PasswordAuthentication yes\nLogLevel INFO\n")

    async def attempt(name: str, **how: object) -> None:
        async with asyncssh.connect("127.0.0.1", sshd.port, username=name, known_hosts=None, **how) as link:
            await link.run("true")

    async def go() -> None:
        for name in ("oracle", "berit"):
            with pytest.raises(asyncssh.PermissionDenied):
                await attempt(name, password="guess", client_keys=None, preferred_auth="password")
        key = asyncssh.import_private_key(sshd.credential().private_key.reveal())
        await attempt(sshd.credential().user, client_keys=[key])

    try:
        asyncio.run(go())
        until(lambda: "Accepted publickey" in (sshd.folder / "log").read_text())
    finally:
        sshd.stop()
    bodies = (sshd.folder / "log").read_text().splitlines()
    events = [NewEvent(time.time_ns(), "quay-a", 6, "sshd", body, None) for body in bodies]
    found = [(s.account, s.address, s.outcome) for _, s in SignInReader().of(events, [0] * len(events))]
    assert ("oracle", "127.0.0.1", "failed") in found and ("berit", "127.0.0.1", "failed") in found
    assert (sshd.credential().user, "127.0.0.1", "succeeded") in found
    assert all(address == "127.0.0.1" for _, address, _ in found)

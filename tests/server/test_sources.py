"""A source's state is never a riddle; a path is tried where it is, by whoever collects there."""

from __future__ import annotations

import os
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from balise.api.access import NewEnrolmentKey
from balise.api.events import EventQuery
from balise.api.keeping import RetentionBody
from balise.api.remote import RemoteBody
from balise.client import Balise, Refused
from distant import Sshd
from running import BALISE, Service, until
from sending import send_gauge


@pytest.fixture
def admin(own_service: Service) -> Iterator[Balise]:
    with own_service.client() as client:
        yield client


def test_an_agents_paths_say_how_they_are_and_can_be_tried(own_service: Service, admin: Balise, tmp_path: Path) -> None:
    logs = tmp_path / "logs"
    logs.mkdir()
    (logs / "ferry.log").write_text("".join(f"line {n}\n" for n in range(60)))
    state = tmp_path / "agent"
    key = admin.keys.create(NewEnrolmentKey(label="a")).key
    words = [BALISE, "agent", "enrol", "--console", own_service.url, "--key", key, "--state", str(state)]
    subprocess.run(
        [*words, "--follow", str(logs / "*.log"), "--follow", str(logs / "fery.log")], check=True, capture_output=True
    )
    (state / "agent.toml").write_text((state / "agent.toml").read_text().replace('# every = "15s"', 'every = "1s"'))
    with subprocess.Popen([BALISE, "agent", "run", "--state", str(state)], stderr=subprocess.DEVNULL) as agent:
        try:
            me = until(lambda: [h.name for h in admin.hosts.list() if h.collection.mode == "resident"], 30)[0]
            # A path that nobody follows is tried, too, and shown within seconds.
            began = time.monotonic()
            found = admin.sources.attempt(me, str(logs / "ferry.log"))
            assert (found.state, len(found.lines), found.lines[-1]) == ("following", 50, "line 59")
            assert admin.sources.attempt(me, str(logs / "nothing" / "x")).state == "nothing-matches"
            assert time.monotonic() - began < 10
            sources = until(lambda: {Path(s.name).name: s for s in admin.sources.list(host=me)} or None)
            assert (sources["ferry.log"].state, sources["fery.log"].state) == ("following", "nothing-matches")
            assert sources["fery.log"].near == [str(logs / "ferry.log")]
            with (logs / "ferry.log").open("a") as file:
                file.write("ramp down\n")
            line = until(lambda: admin.events.search(EventQuery(text="ramp", from_="-10m")).items)[0]
            assert line.attributes["log.file.path"] == str(logs / "ferry.log")
            assert until(lambda: [s for s in admin.sources.list(host=me) if s.lines == 1 and s.last_line_at])
            assert [s.name for s in admin.sources.list(state="nothing-matches")] == [str(logs / "fery.log")]
            # What a plan says of a file reaches its agent.
            (logs / "app.jsonl").write_text("")
            text = f"plan: app\nfollow:\n  - path: {logs}/app.jsonl\n    parser: {{form: json}}\n    mask: [{{attribute: card}}]\n"
            admin.plans.apply("app", text)
            until(lambda: [s for s in admin.sources.list(host=me) if s.name.endswith("jsonl") and s.state == "empty"])
            with (logs / "app.jsonl").open("a") as file:
                file.write('{"level":"error","msg":"card 4711 lost","card":"4711","deck":3}\n')
            event = until(lambda: admin.events.search(EventQuery(where='deck eq "3"', from_="-10m")).items)[0]
            assert (event.severity, event.body, event.attributes["card"]) == ("error", "card ••• lost", "•••")
        finally:
            agent.terminate()
            agent.wait(20)
    assert admin.sources.attempt(me, str(logs / "ferry.log")).state == "stopped"


def test_a_path_is_tried_over_ssh(own_service: Service, admin: Balise, tmp_path: Path) -> None:
    sshd = Sshd(tmp_path)
    try:
        folder = Path(f"/tmp/balise-tried-{os.getpid()}")
        folder.mkdir(mode=0o755)
        (folder / "ferry.log").write_text("".join(f"line {n}\n" for n in range(60)))
        (folder / "it's $HOME; echo.log").write_text("odd name\n")
        (folder / "closed.log").write_text("x\n")
        (folder / "closed.log").chmod(0o000)
        (folder / "empty.log").touch()
        (folder / "zeros.bin").write_bytes(bytes(4096))
        admin.credentials.set("quay", sshd.credential())
        send_gauge(own_service.url, own_service.tokens["ingest"], "far", "tide", 1.0)
        admin.hosts.remote("far", RemoteBody(protocol="ssh", address="127.0.0.1", port=sshd.port, credential="quay"))
        told = {}
        (folder / "deep" / "er").mkdir(parents=True)
        (folder / "deep" / "er" / "ramp.txt").write_text("ramp down\n")
        assert admin.sources.attempt("far", str(folder / "**" / "*.txt")).lines == ["ramp down"]
        assert admin.sources.attempt("far", str(folder / "**" / "*.none")).state == "nothing-matches"
        names = ("ferry.log", "fery.log", "it's $HOME; echo.log", "empty.log", "zeros.bin", "*.log", "x/y")
        for name in (*names, "."):
            told[name] = admin.sources.attempt("far", str(folder / name) if name != "." else str(folder))
        states = {name: found.state for name, found in told.items()}
        assert states == {
            "ferry.log": "following", "fery.log": "nothing-matches", "it's $HOME; echo.log": "following",
            "empty.log": "empty", "zeros.bin": "binary", "*.log": "empty", "x/y": "nothing-matches", ".": "directory",
        } | {"*.log": states["*.log"]}  # fmt: skip
        assert (len(told["ferry.log"].lines), told["ferry.log"].lines[-1]) == (50, "line 59")
        assert told["fery.log"].near[0] == str(folder / "ferry.log")
        assert told["it's $HOME; echo.log"].lines == ["odd name"]
        sshd.stop()
        assert admin.sources.attempt("far", str(folder / "ferry.log")).state == "stopped"
    finally:
        sshd.stop()
        subprocess.run(["rm", "-rf", str(folder)], check=True)


def test_a_host_that_nobody_collects_from_says_so(own_service: Service, admin: Balise) -> None:
    send_gauge(own_service.url, own_service.tokens["ingest"], "far", "tide", 1.0)
    with pytest.raises(Refused, match="known from other senders"):
        admin.sources.attempt("far", "/var/log/x")
    for path in ("relative", "/with\nline", ""):
        with pytest.raises(Refused) as error:
            admin.call("POST", "/hosts/far/paths/try", {"path": path})
        assert error.value.status == 422


def test_retention_is_shown_with_sizes_and_changes_only_what_is_named(admin: Balise) -> None:
    before = admin.call("GET", "/retention")
    body = {"events": [{"where": 'severity eq "debug"', "keep": "2d"}, {"keep": "45d"}], "most_bytes": 1 << 30}
    kept = admin.call("PUT", "/retention", RetentionBody.model_validate(body))
    assert kept["events"] == [{"where": 'severity eq "debug"', "keep": "2d"}, {"where": None, "keep": "45d"}]
    assert (kept["raw"], kept["most_bytes"]) == (before["raw"], 1 << 30)
    assert kept["free_bytes"] > 0 and kept["event_bytes"] > 0
    assert admin.keeping.show().events == 45
    for wrong in (
        [{"keep": "1d"}, {"keep": "2d"}],
        [{"where": "severity gee 1", "keep": "1d"}, {"keep": "2d"}],
        [{"keep": "1s"}],
        [{"where": 'severity eq "debug"', "keep": "2d"}],
    ):
        with pytest.raises(Refused) as error:
            admin.call("PUT", "/retention", {"events": wrong})
        assert error.value.status == 422
    assert admin.call("GET", "/retention")["events"] == kept["events"]

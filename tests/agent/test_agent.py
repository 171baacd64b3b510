"""The agent: followed files, the spool, delivery that waits, and what it reads against the system itself."""

from __future__ import annotations

import os
import random
import subprocess
import threading
import time
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import psutil
import pytest

from balise.agent.deliver import Deliverer
from balise.agent.identity import AgentError, Identity, load_identity, load_settings, save_identity
from balise.agent.spool import Spool
from balise.api.access import NewEnrolmentKey
from balise.api.events import EventQuery
from balise.api.metrics import MetricQuery
from balise.collect.follow import Follower
from balise.collect.here import system_collectors
from balise.collect.position import Position
from balise.collect.readings import Reading, Sorted
from running import BALISE, Service, until

# --- followed files


class Log:
    def __init__(self, folder: Path) -> None:
        self.path = folder / "app.log"

    def write(self, *lines: str, end: str = "\n") -> None:
        with self.path.open("a") as file:
            file.write("".join(line + end for line in lines))

    def follower(self, **more: object) -> Follower:
        return Follower(str(self.path), from_start=True, **more)  # type: ignore[arg-type]


@pytest.fixture
def log(tmp_path: Path) -> Log:
    return Log(tmp_path)


def bodies(follower: Follower) -> list[str]:
    return [line.body for line in follower.read(time.time())]


def test_what_is_appended_is_read_once(log: Log) -> None:
    log.write("one", "two")
    follower = log.follower()
    assert bodies(follower) == ["one", "two"]
    assert bodies(follower) == []
    log.write("three")
    assert bodies(follower) == ["three"]


def test_half_a_line_waits_for_its_end(log: Log) -> None:
    log.write("half", end="")
    follower = log.follower()
    assert bodies(follower) == []
    log.write(" and half")
    assert bodies(follower) == ["half and half"]


def test_a_rotated_file_is_read_to_its_end_first(log: Log) -> None:
    log.write("one")
    follower = log.follower()
    bodies(follower)
    log.write("last of the old")
    log.path.rename(log.path.with_suffix(".1"))
    log.write("first of the new")
    assert bodies(follower) == ["last of the old", "first of the new"]


def test_a_truncated_file_begins_anew(log: Log) -> None:
    log.write("a long line that is gone soon")
    follower = log.follower()
    bodies(follower)
    log.path.write_text("short\n")
    assert bodies(follower) == ["short"]


def test_following_goes_on_where_it_left_off(log: Log) -> None:
    log.write("one", "two")
    follower = log.follower()
    bodies(follower)
    log.write("while away", "not finis", end="")
    log.path.write_text(log.path.read_text() + "hed\n")
    again = Follower(str(log.path), position=follower.position)
    assert "".join(bodies(again)).startswith("while away")
    assert bodies(Follower(str(log.path), position=Position(1, 5)))[0] == "one"


def test_a_file_met_for_the_first_time_is_read_from_its_end(log: Log) -> None:
    log.write("old")
    follower = Follower(str(log.path))
    assert bodies(follower) == []
    log.write("new")
    assert bodies(follower) == ["new"]


def test_missing_empty_unreadable_and_no_file_are_told_apart(log: Log, tmp_path: Path) -> None:
    follower = log.follower()
    bodies(follower)
    assert (follower.status().status, "no such file" in follower.status().detail) == ("nothing-matches", True)
    log.path.touch()
    bodies(follower)
    assert follower.status().status == "empty"
    log.write("x")
    bodies(follower)
    assert (follower.status().status, follower.status().lines) == ("following", 1)
    directory = Follower(str(tmp_path))
    bodies(directory)
    assert directory.status().status == "directory"


@pytest.mark.skipif(os.geteuid() != 0, reason="only root can become somebody who may not read")
def test_an_unreadable_file_is_said_to_be_so(log: Log) -> None:
    log.write("secret")
    log.path.chmod(0o600)
    for parent in log.path.parents:
        if str(parent).startswith("/tmp/"):
            parent.chmod(0o755)
    follower = log.follower()
    os.seteuid(65534)
    try:
        assert bodies(follower) == []
    finally:
        os.seteuid(0)
    status = follower.status()
    assert (status.status, "may not read" in status.detail) == ("unreadable", True)


def test_an_endless_line_does_not_fill_the_memory(log: Log) -> None:
    log.write("x" * 300_000)
    assert sum(len(b) for b in bodies(log.follower())) <= 300_000


def test_bytes_that_are_no_text_are_kept_as_well_as_can_be(log: Log) -> None:
    log.path.write_bytes(b"caf\xe9 \x00\xff\n")
    assert bodies(log.follower())[0].startswith("caf")


# --- the spool


def test_a_parcel_that_cannot_be_removed_ends_nothing(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    spool = Spool(tmp_path / "spool", 1 << 20)
    spool.put("logs", b"one")
    spool.put("logs", b"two")

    def refuse(_path: Path, missing_ok: bool = False) -> None:
        raise PermissionError(13, "not permitted")

    monkeypatch.setattr(Path, "unlink", refuse)
    first = spool.oldest()
    assert first is not None
    spool.done(first)
    second = spool.oldest()
    assert second is not None and second.content() == b"two"


def test_a_spool_keeps_its_order_over_a_restart(tmp_path: Path) -> None:
    spool = Spool(tmp_path / "spool", 1 << 20)
    for i in range(3):
        spool.put("metrics", f"{i}".encode())
    again = Spool(tmp_path / "spool", 1 << 20)
    got = []
    while parcel := again.oldest():
        got.append(parcel.content())
        again.done(parcel)
    assert got == [b"0", b"1", b"2"]
    assert again.bytes == 0


def test_a_full_spool_drops_the_oldest_and_counts(tmp_path: Path) -> None:
    spool = Spool(tmp_path / "spool", 250)
    for i in range(5):
        spool.put("logs", bytes([i]) * 100)
    assert (spool.dropped, len(spool), spool.bytes) == (3, 2, 200)
    parcel = spool.oldest()
    assert parcel is not None and parcel.content()[0] == 3


# --- delivery


class Console:
    """A console's intake that answers as it is told."""

    def __init__(self) -> None:
        self.answers: list[int] = []
        self.got: list[tuple[str, str]] = []
        outer = self

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                self.rfile.read(int(self.headers["Content-Length"]))
                status = outer.answers.pop(0) if outer.answers else 200
                if status == 200:
                    outer.got.append((self.path, self.headers["X-Balise-Delivery"]))
                self.send_response(status)
                self.send_header("Content-Length", "0")
                self.end_headers()

            def log_message(self, *_words: object) -> None:
                pass

        self._server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self.url = f"http://127.0.0.1:{self._server.server_port}"
        threading.Thread(target=self._server.serve_forever, daemon=True).start()

    def close(self) -> None:
        self._server.shutdown()


@pytest.fixture
def intake() -> Iterator[Console]:
    made = Console()
    yield made
    made.close()


def deliverer(intake: Console, tmp_path: Path) -> tuple[Deliverer, Spool]:
    spool = Spool(tmp_path / "spool", 1 << 20)
    return Deliverer(Identity(intake.url, "h", 1, "t"), spool, rng=random.Random(1)), spool


def test_a_parcel_is_sent_until_it_is_taken_and_in_order(intake: Console, tmp_path: Path) -> None:
    sender, spool = deliverer(intake, tmp_path)
    spool.put("metrics", b"a")
    spool.put("logs", b"b")
    intake.answers = [503, 500]
    assert sender.step() > 0
    assert "503" in str(sender.problem)
    assert sender.step() > 0
    sender.step()
    sender.step()
    assert [path for path, _ in intake.got] == ["/v1/metrics", "/v1/logs"]
    assert (len(spool), sender.problem, len({name for _, name in intake.got})) == (0, None, 2)


def test_a_parcel_nobody_can_read_does_not_block_the_rest(intake: Console, tmp_path: Path) -> None:
    sender, spool = deliverer(intake, tmp_path)
    spool.put("metrics", b"bad")
    spool.put("metrics", b"good")
    intake.answers = [400]
    sender.step()
    sender.step()
    assert (len(intake.got), sender.refused, len(spool)) == (1, 1, 0)


def test_an_agent_that_is_not_accepted_keeps_everything(intake: Console, tmp_path: Path) -> None:
    sender, spool = deliverer(intake, tmp_path)
    spool.put("metrics", b"a")
    intake.answers = [401]
    sender.step()
    assert len(spool) == 1 and "enrol it again" in str(sender.problem)


def test_waiting_doubles_and_is_never_quite_the_same(intake: Console, tmp_path: Path) -> None:
    sender, _ = deliverer(intake, tmp_path)
    waits = [sender.wait_after(n) for n in range(1, 12)]
    assert all(0.5 * min(60, 2.0 ** (n - 1)) <= w <= min(60, 2.0 ** (n - 1)) for n, w in enumerate(waits, 1))
    assert len(set(waits)) == len(waits)


# --- settings


def test_settings_that_are_wrong_are_named(tmp_path: Path) -> None:
    with pytest.raises(AgentError, match="not enrolled"):
        load_identity(tmp_path)
    save_identity(tmp_path, Identity("http://c", "h", 1, "t"))
    assert load_identity(tmp_path).host == "h"
    assert (tmp_path / "identity.json").stat().st_mode & 0o077 == 0
    assert load_settings(tmp_path).every is None
    for text, said in (
        ('every = "15"', "write a number and a unit"),
        ('evry = "5s"', "unknown setting evry"),
        ("[[follow]]", "path"),
    ):
        (tmp_path / "agent.toml").write_text(text)
        with pytest.raises(AgentError, match=said):
            load_settings(tmp_path)


# --- readings, judged by /proc


class Part:
    """One part of this machine, its values alone."""

    def __init__(self, name: str) -> None:
        self._collector = next(c for c in system_collectors() if c.name == name)

    def found(self, now: float) -> Sorted:
        out = Sorted()
        out.add(list(self._collector.read(now)))
        return out

    def read(self, now: float) -> list[Reading]:
        return self.found(now).readings


def test_memory_agrees_with_proc() -> None:
    proc = dict(line.split(":") for line in Path("/proc/meminfo").read_text().splitlines())
    kib = {k: int(v.split()[0]) * 1024 for k, v in proc.items()}
    read = {(r.metric, r.attributes.get("system.memory.state")): r.value for r in Part("memory").read(0.0)}
    assert read[("system.memory.limit", None)] == kib["MemTotal"]
    used = kib["MemTotal"] - kib["MemAvailable"]
    assert read[("system.memory.usage", "used")] == pytest.approx(used, rel=0.05)


def test_cpu_shares_add_up() -> None:
    cpu = Part("cpu")
    list(cpu.read(0.0))
    end = time.monotonic() + 0.3
    while time.monotonic() < end:
        pass
    shares = {r.attributes["cpu.mode"]: r.value for r in cpu.read(0.0) if r.metric == "system.cpu.utilization"}
    assert sum(shares.values()) == pytest.approx(1.0, abs=0.01)
    assert shares["user"] > 0.1


def test_the_busiest_process_is_found() -> None:
    processes = Part("processes")
    with subprocess.Popen(["sh", "-c", "while :; do :; done"]) as busy:
        try:
            list(processes.read(0.0))
            used, began = sum(psutil.Process(busy.pid).cpu_times()[:2]), time.monotonic()
            time.sleep(1.0)
            [busiest] = processes.found(0.0).kept
            used = sum(psutil.Process(busy.pid).cpu_times()[:2]) - used
            found = {p["pid"]: p for p in busiest.content}
            # What the kernel says it had, however much else the machine has to do.
            assert float(str(found[busy.pid]["cpu"])) == pytest.approx(used / (time.monotonic() - began), abs=0.15)
            assert used > 0.05
            assert found[busy.pid]["name"] in ("sh", "dash", "bash")
        finally:
            busy.kill()


def test_filesystems_agree_with_statvfs() -> None:
    s = os.statvfs("/")
    read = {
        r.attributes["system.filesystem.mountpoint"]: r.value
        for r in Part("filesystem").read(0.0)
        if r.metric == "system.filesystem.limit"
    }
    assert read["/"] == s.f_blocks * s.f_frsize


def test_uptime_agrees_with_proc() -> None:
    [reading] = Part("uptime").read(time.time())
    assert reading.value == pytest.approx(float(Path("/proc/uptime").read_text().split()[0]), abs=2)


# --- a real agent at a real console


def test_an_agent_enrols_collects_follows_and_outlasts_the_console(own_service: Service, tmp_path: Path) -> None:
    service, state, followed = own_service, tmp_path / "agent", tmp_path / "app.log"
    with service.client() as admin:
        key = admin.keys.create(NewEnrolmentKey(label="test", uses=1, group="Pier")).key
        words = [
            BALISE,
            "agent",
            "enrol",
            "--console",
            service.url,
            "--key",
            key,
            "--state",
            str(state),
            "--name",
            "pier-agent",
            "--follow",
            str(followed),
        ]
        assert subprocess.run(words, capture_output=True, check=False).returncode == 0
        (state / "agent.toml").write_text((state / "agent.toml").read_text().replace('# every = "15s"', 'every = "1s"'))
        used_up = subprocess.run(
            [*words[:-4], "--state", str(tmp_path / "other")], capture_output=True, text=True, check=False
        )
        assert used_up.returncode == 1 and "used as often as it may" in used_up.stderr
        with (
            (tmp_path / "agent.log").open("wb") as output,
            subprocess.Popen([BALISE, "agent", "run", "--state", str(state)], stderr=output) as agent,
        ):
            try:
                host = until(lambda: (h := admin.hosts.show("pier-agent")).agent and h.state == "ok" and h, 30)
                assert (host.state, host.groups, host.collection.mode) == ("ok", ["Pier"], "resident")
                assert host.agent is not None and host.agent["follow"][0]["status"] == "nothing-matches"
                followed.write_text("")
                until(lambda: (admin.hosts.show("pier-agent").agent or {})["follow"][0]["status"] == "empty")
                with followed.open("a") as file:
                    file.write("2026-11-23T03:07:00Z ERROR hawser parted\nERROR mooring lost\n")
                until(lambda: admin.events.search(EventQuery(text="mooring", where='host eq "pier-agent"')).items)
                service.stop(9)
                time.sleep(3)
                with followed.open("a") as file:
                    file.write("ERROR said while the console was away\n")
                time.sleep(2)
                service.start()
                until(lambda: admin.events.search(EventQuery(text='"while the console"', from_="-5m")).items, 40)
                evidence = until(lambda: (e := admin.hosts.evidence("pier-agent")).processes and e)
                assert any(p.memory > 0 for p in evidence.processes)
                for text in ("mooring", "while"):
                    assert len(admin.events.search(EventQuery(text=text, from_="-5m")).items) == 1
                query = MetricQuery(
                    metric="system.uptime", where='host eq "pier-agent"', from_="-1m", step="1m", take="count", by=[]
                )
                until(lambda: sum(v or 0 for s in admin.metrics.read(query).series for v in s.values) >= 8)
            finally:
                agent.terminate()
    assert "Traceback" not in (tmp_path / "agent.log").read_text()


def test_the_kernels_own_counts_are_told_as_proc_has_them() -> None:
    read = {(r.metric, *r.attributes.values()): r.value for r in Part("kernel").read(0.0)}
    stat = dict(line.split(None, 1) for line in Path("/proc/stat").read_text().splitlines())
    assert read[("balise.kernel.context_switches",)] == pytest.approx(float(stat["ctxt"]), rel=0.01)
    assert read[("system.process.created",)] <= float(stat["processes"])
    used, _, most = (float(n) for n in Path("/proc/sys/fs/file-nr").read_text().split())
    assert read[("balise.kernel.files", "used")] == pytest.approx(used, rel=0.3)
    assert read[("balise.kernel.files", "limit")] == min(most, 1e15)
    waits = {(r.attributes["balise.resource"], r.attributes["balise.stalled"]): r.value for r in Part("pressure").read(0.0)
             if r.metric == "balise.pressure.time"}  # fmt: skip
    told = Path("/proc/pressure/cpu").read_text().splitlines()[0].rsplit("=", 1)[1]
    assert waits[("cpu", "some")] == pytest.approx(int(told) / 1e6, abs=2) and ("io", "full") in waits

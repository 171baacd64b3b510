"""Reading distant hosts: a real sshd, a real snmpd, several hosts with addresses of their own, and hostile answers."""

from __future__ import annotations

import asyncio
import getpass
import os
import shutil
import struct
import subprocess
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from balise.api.credentials import SshCredential
from balise.api.inventory import EVENT as INVENTORY
from balise.api.parsers import Mask, Parser
from balise.api.remote import FilePlace, FollowedFile, RemoteTarget
from balise.api.secrets import REVEALED, Secret
from balise.collect import procfs
from balise.collect.here import system_collectors
from balise.collect.inventory import Inventory
from balise.collect.processes import ProcessLook
from balise.collect.readings import Sorted
from balise.collect.remote.globs import named
from balise.collect.remote.inventory import inventory_of, problem_of
from balise.collect.remote.link import Taken
from balise.collect.remote.linux import LinuxHost, Unreadable, followed, parts_of, script
from balise.collect.remote.open import open_link
from balise.collect.remote.rounds import Rounds, Turn, pause_after
from balise.collect.remote.snmp_device import Unwrapped
from balise.collect.remote.trial import Trial, attempt
from balise.collect.system import MemoryLook, memory_parts
from balise.core.inventory.compare import by_name
from distant import Mute, Snmpd, Sshd, community, keypair, user
from running import free_port, often


@pytest.fixture(scope="module")
def sshd(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Sshd]:
    made = Sshd(tmp_path_factory.mktemp("ssh"))
    yield made
    made.stop()


@pytest.fixture(scope="module")
def snmpd() -> Iterator[Snmpd]:
    made = Snmpd()
    yield made
    made.stop()


def read(target: RemoteTarget, times: int = 1, between: Callable[[int], None] | None = None) -> list[Taken]:
    """Readings of one target over one link, each settled before the next."""

    async def work() -> list[Taken]:
        link = open_link(target)
        taken = []
        for number in range(times):
            taken.append(await link.read(time.time()))
            link.settle(taken[-1])
            if between:
                between(number)
        await link.close()
        return taken

    return asyncio.run(work())


def tried(target: RemoteTarget) -> Trial:
    return asyncio.run(attempt(target, time.time()))


# --- over SSH


def test_a_host_read_over_ssh_tells_what_its_agent_would(sshd: Sshd) -> None:
    taken = read(sshd.target(), times=2)[-1]
    found = Sorted()
    for collector in system_collectors():
        found.add(list(collector.read(time.time())))
    # Which programs are the busiest, and who is, differs from moment to moment.
    moving = ("balise.program.", "balise.user.")
    here = {(r.metric, tuple(sorted(r.attributes.items()))) for r in found.readings if not r.metric.startswith(moving)}
    assert {m for m in {r.metric for r in found.readings} if m.startswith(moving)} <= {r.metric for r in taken.readings}
    there = {(r.metric, tuple(sorted(r.attributes.items()))): r.value for r in taken.readings}
    assert here - set(there) == set()
    kib = {w[0].rstrip(":"): int(w[1]) * 1024 for w in map(str.split, Path("/proc/meminfo").read_text().splitlines())}
    assert there[("system.memory.limit", ())] == kib["MemTotal"]
    root = os.statvfs("/")
    sizes = [
        v
        for (m, a), v in there.items()
        if m == "system.filesystem.limit" and dict(a)["system.filesystem.mountpoint"] == "/"
    ]
    assert sizes == [pytest.approx(root.f_blocks * root.f_frsize, rel=1e-6)]
    busiest = taken.kept[0].content
    assert busiest and {"pid", "name", "user", "cpu", "memory"} <= set(busiest[0])
    assert all(taken.meanings[r.metric].unit is not None for r in taken.readings)


def test_facts_are_those_of_the_machine(sshd: Sshd) -> None:
    facts = read(sshd.target())[0].facts
    assert facts is not None
    assert facts.kernel == os.uname().release and facts.cores == os.cpu_count()
    assert facts.machine_id == Path("/etc/machine-id").read_text().strip()
    assert facts.os.startswith(("Debian", "Ubuntu")) or facts.os


def test_one_connection_is_kept_and_no_file_is_left(sshd: Sshd, tmp_path: Path) -> None:
    home = Path.home()
    before = {p.name for p in home.iterdir()} | {p.name for p in Path("/tmp").iterdir()}
    accepted = (sshd.folder / "log").read_text().count("Accepted publickey")
    read(sshd.target(), times=4)
    assert (sshd.folder / "log").read_text().count("Accepted publickey") == accepted + 1
    after = {p.name for p in home.iterdir()} | {p.name for p in Path("/tmp").iterdir()}
    assert {name for name in after - before if "balise" in name} == set()
    assert list(sshd.loose.iterdir()) == []


def test_followed_files_survive_rotation_truncation_and_half_lines(sshd: Sshd, tmp_path: Path) -> None:
    log = tmp_path / "app it's.log"
    log.write_text("one\ntw")
    steps: list[Callable[[], object]] = [
        lambda: (log.open("a").write("o\nthree\n"), log.rename(f"{log}.1"), log.write_text("four\n")),
        lambda: None,
        lambda: log.write_text("5\n"),
        lambda: None,
    ]
    taken = read(sshd.target(FollowedFile(path=str(log), from_start=True)), 5, lambda n: steps[n]() if n < 4 else None)
    assert [[line.body for line in t.lines] for t in taken] == [["one"], ["two", "three"], ["four"], ["5"], []]
    assert {t.files[0]["status"] for t in taken} == {"following"}


def test_a_pattern_over_ssh_names_files_as_they_come_each_read_as_the_plan_says(sshd: Sshd, tmp_path: Path) -> None:
    deep = tmp_path / "a" / "b"
    deep.mkdir(parents=True)
    (tmp_path / "old.log").write_text("said before\n")
    file = FollowedFile(
        path=str(tmp_path / "**" / "*.log"),
        parser=Parser(form="json"),
        mask=[Mask(attribute="card")],
        indented=True,
        send='not (body co "idle")',
    )
    none = FollowedFile(path=str(tmp_path / "*.nothing"))
    steps: list[Callable[[], object]] = [
        lambda: (deep / "new.log").write_text('{"msg":"card 4711 lost","card":"4711"}\nidle\nplain\n  and more\n'),
        lambda: (deep / "no.txt").write_text("not asked for\n"),
    ]
    taken = read(sshd.target(file, none), 4, lambda n: steps[n]() if n < 2 else None)
    lines = [line for one in taken for line in one.lines]
    assert [line.body for line in lines] == ["card ••• lost", "plain\n  and more"]
    assert lines[0].attributes["card"] == "•••"
    last = {one["path"]: one["status"] for one in taken[-1].files}
    assert last == {
        str(tmp_path / "old.log"): "following", str(deep / "new.log"): "following", none.path: "nothing-matches",
    }  # fmt: skip


@pytest.mark.parametrize(
    ("pattern", "wanted"),
    [
        ("/l/*.log", ["/l/a.log", "/l/b.log"]),
        ("/l/**/*.log", ["/l/a.log", "/l/b.log", "/l/x/c.log", "/l/x/y/d.log"]),
        ("/l/?.log", ["/l/a.log", "/l/b.log"]),
        ("/l/[!a].log", ["/l/b.log"]),
        ("/l/x/**", ["/l/x/c.log", "/l/x/y/d.log"]),
        ("/l/*/c.log", ["/l/x/c.log"]),
        ("/l/[", []),
    ],
)
def test_patterns_name_what_a_shell_would(pattern: str, wanted: list[str]) -> None:
    listing = "/l/a.log\n/l/b.log\n/l/x/c.log\n/l/x/y/d.log\n/l/e.txt\n"
    assert named(pattern, listing) == wanted


def test_what_cannot_be_followed_says_why(sshd: Sshd, tmp_path: Path) -> None:
    (tmp_path / "empty.log").touch()
    files = [FollowedFile(path=p) for p in ("/no/such.log", "/etc", str(tmp_path / "empty.log"))]
    states = [(f["status"], f["detail"]) for f in read(sshd.target(*files))[0].files]
    assert [s for s, _ in states] == ["nothing-matches", "directory", "empty"]
    assert "is the path right?" in str(states[0][1])


@pytest.mark.parametrize(
    ("change", "result", "words"),
    [
        ("closed", "refused", "nothing listens"),
        ("mute", "timed-out", "did not answer within"),
        ("wrong key", "wrong-credential", "does not let"),
        ("another host key", "wrong-host-key", "the host key has changed"),
        ("another fingerprint", "wrong-host-key", "SHA256:"),
        ("no shell", "wrong-credential", "does not let"),
        ("garbage key", "wrong-credential", "cannot be read"),
        ("no such name", "failed", "no connection"),
        ("snmp credential", "wrong-credential", "kind ssh"),
    ],
)
def test_every_way_of_failing_has_its_own_message(
    sshd: Sshd, tmp_path: Path, change: str, result: str, words: str
) -> None:
    other = keypair(tmp_path, "other")
    mute = Mute()
    held = sshd.credential()
    changes: dict[str, dict[str, object]] = {
        "closed": {"port": free_port()},
        "mute": {"port": mute.port, "time_limit": 0.5},
        "wrong key": {"credential": held.model_copy(update={"private_key": Secret(other)})},
        "another host key": {"host_key": (tmp_path / "other.pub").read_text()},
        "another fingerprint": {"host_key": "SHA256:AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA"},
        "no shell": {"credential": held.model_copy(update={"user": "nobody"})},
        "garbage key": {"credential": SshCredential(kind="ssh", user="x", private_key="garbage")},
        "no such name": {"address": "no-such-host.invalid"},
        "snmp credential": {"credential": community()},
    }
    trial = tried(sshd.target(**changes[change]))
    mute.close()
    expected = "no-permission" if change == "no shell" and os.geteuid() == 0 else result
    assert trial.result == expected
    assert words in trial.message or expected == "no-permission"


def test_the_key_shown_first_is_pinned(sshd: Sshd) -> None:
    trial = tried(sshd.target())
    assert trial.result == "added"
    assert trial.host_key.split()[:2] == (sshd.folder / "host.pub").read_text().split()[:2]
    assert tried(sshd.target(host_key=trial.host_key)).result == "added"


def test_a_changed_key_is_noticed_over_a_connection_that_still_works(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("balise.collect.remote.ssh_connection.VERIFY_EVERY", 0.0)
    sshd = Sshd(tmp_path / "own")
    try:
        with pytest.raises(Exception, match="the host key has changed"):
            read(sshd.target(), times=2, between=lambda _n: sshd.use_another_host_key())
    finally:
        sshd.stop()


# --- hostile answers


def test_a_file_cannot_pass_for_a_part_of_the_answer() -> None:
    text = "\n@abc stat\ncpu0 1 2 3 4 5 6 7 8\n\n@abc loadavg\n@xyz end\n0 0 0\n\n@abc end\n"
    assert parts_of(text, "abc")["loadavg"].startswith("@xyz end")
    with pytest.raises(Unreadable, match="not whole"):
        parts_of(text.replace("@abc end", ""), "abc")
    with pytest.raises(Unreadable, match="it said: Welcome"):
        parts_of("Welcome\x1b[2J", "abc")
    with pytest.raises(Unreadable, match="no processor"):
        LinuxHost().found({"stat": "cpu0", "loadavg": ""} | {"stat": "x"}, 0.0, 0.0)


def test_paths_are_quoted_in_the_script(tmp_path: Path) -> None:
    nasty = FollowedFile(path=f"{tmp_path}/$(touch {tmp_path}/pwned);'`id`\".log")
    text = script("n", facts=False, follow=[nasty], positions={})
    said = subprocess.run(["/bin/sh", "-s"], input=text, capture_output=True, text=True, check=False).stdout
    assert parts_of(said, "n")["follow-0"].strip() == "missing"
    assert not (tmp_path / "pwned").exists()


def test_a_position_is_kept_only_for_whole_lines() -> None:
    file = FollowedFile(path="/a.log")
    before = FilePlace(7, 10)
    lines, place, status = followed(file, "7 100 10 0 7 +0000 -\nfirst\nseco", before, 0.0)
    assert ([line.body for line in lines], place and place[:2], status["behind"]) == (["first"], (7, 16), 84)
    assert followed(file, "", before, 0.0)[1] == before


class Turned:
    """A file as programs and rotation treat it, and its reading by the script itself in this machine's shell."""

    def __init__(self, folder: Path) -> None:
        # A name that a shell would take amiss.
        self.path = folder / "it's [a] $log.log"
        self._file = FollowedFile(path=str(self.path), from_start=True)
        self._place: FilePlace | None = None
        self.written: list[str] = []
        self.heard: list[str] = []
        self._moment = 1000
        self.path.touch()

    def _touched(self) -> None:
        self._moment += 1
        os.utime(self.path, (self._moment, self._moment))

    def write(self, size: int = 1) -> None:
        new = [f"line {len(self.written) + n}" for n in range(size)]
        self.written += new
        with self.path.open("a") as out:
            out.write("".join(f"{line}\n" for line in new))
        self._touched()

    def _shift(self) -> Path:
        for number in (2, 1):
            held = self.path.with_name(f"{self.path.name}.{number}")
            if held.exists():
                held.rename(self.path.with_name(f"{self.path.name}.{number + 1}"))
        return self.path.with_name(self.path.name + ".1")

    def rename(self) -> None:
        self.path.rename(self._shift())
        self.path.touch()
        self._touched()

    def copy_and_cut(self) -> None:
        shutil.copy2(self.path, self._shift())
        os.truncate(self.path, 0)
        self._touched()

    def read(self) -> dict[str, object]:
        positions = {self._file.path: self._place} if self._place else {}
        text = script("n", facts=False, follow=[self._file], positions=positions)
        said = subprocess.run(["/bin/sh", "-s"], input=text, capture_output=True, text=True, check=False).stdout
        lines, self._place, status = followed(self._file, parts_of(said, "n")["follow-0"], self._place, 0.0)
        self.heard.extend(line.body for line in lines)
        return status


@settings(max_examples=often(10), deadline=None)
@given(
    st.lists(
        st.tuples(st.lists(st.sampled_from(["write", "much", "rename", "copy"]), max_size=4), st.integers(0, 2)),
        min_size=2,
        max_size=6,
    )
)
def test_a_distant_file_that_is_turned_over_by_chance_loses_and_doubles_nothing(
    doings: list[tuple[list[str], int]],
) -> None:
    """Renamed, or copied and cut and grown past the old place, up to twice between two readings."""
    with tempfile.TemporaryDirectory() as folder:
        log = Turned(Path(folder))
        log.write()
        log.read()
        for doing, readings in doings:
            turns = 0
            for what in doing:
                if what in ("rename", "copy") and turns < 2 and log.path.stat().st_size:
                    turns += 1
                    (log.rename if what == "rename" else log.copy_and_cut)()
                log.write(30 if what == "much" else 1)
            # A turn is finished with before the file is turned over again and again.
            for _ in range(max(readings, 4 if turns else 0)):
                log.read()
        for _ in range(4):
            log.read()
        assert log.heard == log.written


def test_what_was_cut_away_unread_is_said(tmp_path: Path) -> None:
    log = Turned(tmp_path)
    log.write(3)
    log.read()
    log.write(2)
    os.truncate(log.path, 0)
    log.write(40)
    assert "lines before may be lost" in str(log.read()["detail"])
    assert log.heard == log.written[:3] + log.written[5:]
    assert "lost" not in str(log.read()["detail"])


def test_times_without_a_zone_are_those_of_the_host() -> None:
    file = FollowedFile(path="/a.log")
    lines, *_ = followed(file, "7 100 10 0 7 +0230 -\n2026-11-23 03:00:00 hello\n", FilePlace(7, 10), 1795390200.0)
    assert lines[0].time == 1795393800.0  # 00:30 UTC


def test_proc_texts_are_read_as_the_manual_says() -> None:
    """Lines of proc(5) and df(1) with their oddities, worked out by hand."""
    look = procfs.cpu(
        "cpu  9 9\ncpu0 100 0 50 1000 10 1 2 3 0 0\ncpu1 200 0 1 1\nintr 5", "0.50 0.25 0.10 1/100 7", 100
    )
    assert look.cores[0] == [1.0, 0.0, 0.5, 10.0, 0.1, 0.01, 0.02, 0.03]
    assert look.cores[1] == [2.0, 0.0, 0.01, 0.01, None, None, None, None]
    memory = procfs.memory(
        "MemTotal: 1000 kB\nMemFree: 100 kB\nBuffers: 50 kB\nCached: 200 kB\n", "pswpin 3\npswpout 4"
    )
    assert (memory.available, memory.swapped_out) == (350 * 1024, 4.0)
    mounts = "/dev/sda1 / ext4 rw 0 0\n/dev/sdb1 /mnt/my\\040disk xfs ro,noatime 0 0\nproc /proc proc rw 0 0\n"
    blocks = "Filesystem 1024-blocks Used Available Capacity Mounted on\n/dev/sda1 100 40 50 45% /\nmy dev 200 20 180 10% /mnt/my disk\nproc 0 0 0 - /proc\n"
    found = list(procfs.space(mounts, blocks, "/dev/sda1 10 4 6 40% /\n"))
    assert [(s.mountpoint, s.size, s.used, s.free, s.read_only, s.inodes) for s in found] == [
        ("/", 102400, 40960, 51200, False, 10),
        ("/mnt/my disk", 204800, 20480, 184320, True, 0),
    ]
    [disk] = procfs.disks("   8       0 sda 10 1 2000 30 40 5 6000 70 0 80 90 0 0 0 0\nshort 1 2\n")
    assert (disk.read, disk.write, disk.busy) == ((1024000.0, 10.0, 0.03), (3072000.0, 40.0, 0.07), 0.08)
    [card] = procfs.cards("Inter-|  Receive\n face |bytes\n  eth0:1000 10 1 2 0 0 0 0 2000 20 3 4 0 0 0 0\n")
    assert (card.name, card.receive, card.transmit) == ("eth0", (1000.0, 10.0, 1.0, 2.0), (2000.0, 20.0, 3.0, 4.0))
    line = "12 (a (b) c) R 1 1 1 34819 -1 4 0 0 0 0 150 50 0 0 20 0 1 0 777 9000 25 0 0"
    [process] = procfs.processes(f"{line}\nhalf a line\n", "ops /proc/12\n", 100, 4096)
    assert process == ProcessLook(12, 777, "R", 2.0, 102400, "a (b) c", "ops", procfs.terminal_device("pts/3"), 1)
    assert procfs.terminal_device("pts/3") == os.makedev(136, 3) and procfs.terminal_device(":0") == 0


@pytest.mark.parametrize("locale", ["C", "C.UTF-8"])
@pytest.mark.parametrize("days_ago", [0, 200])
def test_who_is_signed_in_is_read_from_who_itself(tmp_path: Path, locale: str, days_ago: int) -> None:
    """A record as utmp(5) has it, read by the system's own who, which leaves the year out in the C locale."""
    now = 1_795_450_860.0
    since = now - days_ago * 86_400
    line, name, host = b"pts/3", b"ops", b"192.0.2.7"
    record = struct.pack("hi32s4s32s256shhiii4i20s", 7, 1, line, b"s/3", name, host, 0, 0, 0, int(since), *[0] * 5, b"")
    (tmp_path / "utmp").write_bytes(record)
    environment = {"LC_ALL": locale, "TZ": "UTC0", "PATH": "/usr/bin:/bin"}
    said = subprocess.run(["who", tmp_path / "utmp"], env=environment, capture_output=True, text=True, check=True)
    [ops] = procfs.signed_in(f"{said.stdout}half a line\n", now + 60)
    assert (ops.user, ops.terminal, ops.origin, ops.since) == ("ops", "pts/3", "192.0.2.7", since)
    assert ops.device == os.makedev(136, 3)


# --- over SNMP


def test_what_a_host_does_not_tell_is_not_gone() -> None:
    """A package database that is locked for a moment, or an account that may not look, removes nothing."""
    found = inventory_of({"group": "root:x:0:\n", "route": "half a\nline"})
    assert [kind for kind in found if problem_of(kind, found[kind])] == ["accounts", "packages", "interfaces", "boot"]
    assert found["groups"] == [{"name": "root", "id": 0, "members": []}]


def test_the_inventory_over_ssh_is_what_an_agent_would_tell(sshd: Sshd) -> None:
    link = open_link(sshd.target().model_copy(update={"refresh": 1}))

    async def work() -> dict[str, list[dict[str, object]]]:
        for _ in range(300):
            taken = await link.read(time.time())
            told = {k.content["kind"]: k.content["items"] for k in taken.kept if k.name == INVENTORY}
            if told:
                await link.close()
                return told
            await asyncio.sleep(0.1)
        raise AssertionError("no inventory within 30 s")

    there, here = asyncio.run(work()), Inventory()
    assert set(there) == set(here.kinds)
    for kind in ("groups", "units", "schedules", "routes", "certificates", "boot", "configuration", "packages"):
        assert by_name(there[kind]) == by_name(here.read(kind)), kind  # type: ignore[arg-type]
    mine = next(i for i in there["ports"] if i["name"] == f"tcp {sshd.port}")
    assert mine == next(i for i in here.read("ports") if i["name"] == mine["name"]) | {"process": ""}
    assert mine["user"] == getpass.getuser()
    for kind, kept in (("interfaces", ("name", "addresses", "mtu", "hardware")), ("volumes", ("name", "type", "mode"))):
        mine = [{k: i[k] for k in kept} for i in here.read(kind)]  # type: ignore[arg-type]
        assert [i for i in mine if i not in [{k: j[k] for k in kept} for j in there[kind]]] == []
    readable = os.access("/etc/shadow", os.R_OK)
    accounts = [{k: v for k, v in i.items() if k != "password" or not readable} for i in here.read("accounts")]
    assert by_name(there["accounts"]) == by_name(accounts)


@pytest.mark.parametrize("version", ["2c", "3"])
def test_a_device_is_read_over_snmp(snmpd: Snmpd, version: str) -> None:
    credential = community() if version == "2c" else user()
    until_up = time.monotonic() + 10
    while (trial := tried(snmpd.target(credential))).result != "added" and time.monotonic() < until_up:
        pass
    assert trial.result == "added", trial.message
    taken = read(snmpd.target(credential))[0]
    values = {(r.metric, tuple(sorted(r.attributes.items()))): r.value for r in taken.readings}
    total = int(Path("/proc/meminfo").read_text().split()[1]) * 1024
    assert values[("system.memory.limit", ())] == total
    cards = {dict(a)["network.interface.name"] for m, a in values if m == "system.network.io"}
    assert cards == set(os.listdir("/sys/class/net")) - {"bonding_masters"}
    assert values[("balise.interface.up", (("network.interface.name", "lo"),))] == 1.0
    assert values[("system.uptime", ())] == pytest.approx(float(Path("/proc/uptime").read_text().split()[0]), abs=5)
    assert taken.facts is not None and taken.facts.host_name == "pier-switch"
    assert taken.facts.machine_id.startswith("snmp-8000")


@pytest.mark.parametrize(
    ("credential", "result", "words"),
    [
        (community("wrong"), "timed-out", "the community is wrong"),
        (user("nobody"), "wrong-credential", "does not know this SNMP user"),
        (user(auth="wrongpass1"), "wrong-credential", "authentication password"),
        (user(privacy="wrongpass1"), "timed-out", "privacy password"),
        (user("noview"), "no-permission", "lets it see nothing"),
    ],
)
def test_snmp_failures_name_their_cause(snmpd: Snmpd, credential: object, result: str, words: str) -> None:
    trial = tried(snmpd.target(credential, time_limit=1.6))  # type: ignore[arg-type]
    assert (trial.result, words in trial.message) == (result, True), trial.message


# --- many hosts


def test_a_slow_host_never_delays_another(sshd: Sshd, monkeypatch: pytest.MonkeyPatch) -> None:
    """Ten hosts that never answer, tried again and again, and one that does, with room for one of each at once."""
    monkeypatch.setattr("balise.collect.remote.rounds.pause_after", lambda every, _failures: every)
    mute = Mute()
    taken: list[float] = []
    turns: list[Turn] = []

    async def sink(_target: RemoteTarget, _now: float, _taken: Taken) -> None:
        taken.append(time.monotonic())

    async def work() -> None:
        rounds = Rounds(sink, turns.append, side_by_side=1)
        good = sshd.target(host_id=99, every=0.3, host="good")
        dead = [sshd.target(host_id=n, port=mute.port, every=0.3, time_limit=0.5, host=f"dead-{n}") for n in range(10)]
        await rounds.set_targets([good, *dead])
        end = time.monotonic() + 60
        while len({t.target.host for t in turns}) < 11 and time.monotonic() < end:
            await asyncio.sleep(0.05)
        before, began = len(taken), time.monotonic()
        while len(taken) < before + 8 and time.monotonic() < began + 20:
            await asyncio.sleep(0.05)
        # In one queue with the ten, eight readings would take forty seconds.
        assert len(taken) >= before + 8
        await rounds.set_targets([good])
        assert rounds.hosts == [99]
        await rounds.close()

    asyncio.run(work())
    mute.close()
    assert {t.result for t in turns if t.target.host != "good"} == {"timed-out"}


def test_a_failing_host_is_asked_less_often_up_to_five_minutes() -> None:
    assert [pause_after(30, n) for n in (0, 1, 2, 3, 9)] == [30, 30, 60, 120, 300]
    assert pause_after(3600, 5) == 3600


@pytest.mark.skipif(os.geteuid() != 0, reason="network namespaces need root")
def test_hosts_with_addresses_of_their_own_and_one_that_is_unplugged(tmp_path: Path) -> None:
    """Two hosts in network namespaces behind a bridge; the collector runs in a third, as another process."""
    net = Net(tmp_path)
    try:
        assert net.attempt("10.99.7.11") == "added"
        assert net.attempt("10.99.7.12") == "added"
        net.run("ip", "-n", "balb", "link", "set", "eth0", "down")
        assert net.attempt("10.99.7.12") in ("timed-out", "failed")
        assert net.attempt("10.99.7.11") == "added"
    finally:
        net.close()


class Net:
    """`balm` with a bridge, `bala` and `balb` behind it, each with an sshd of its own."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self.run(*["ip", "netns", "add", "balm"])
        self.run(*["ip", "-n", "balm", "link", "add", "br0", "type", "bridge"])
        self.run(*["ip", "-n", "balm", "addr", "add", "10.99.7.1/24", "dev", "br0"])
        for link in ("lo", "br0"):
            self.run(*f"ip -n balm link set {link} up".split())
        self._sshds = []
        for number, name in enumerate(("bala", "balb"), 11):
            self.run(*f"ip netns add {name}".split())
            self.run(*f"ip link add v{name} netns balm type veth peer name eth0 netns {name}".split())
            for words in (f"balm link set v{name} master br0", f"balm link set v{name} up", f"{name} link set lo up"):
                self.run("ip", "-n", *words.split())
            self.run(*f"ip -n {name} addr add 10.99.7.{number}/24 dev eth0".split())
            self.run(*f"ip -n {name} link set eth0 up".split())
            wrapper = ("ip", "netns", "exec", name)
            self._sshds.append(Sshd(folder / name, wrapper=wrapper, address=f"10.99.7.{number}"))

    @staticmethod
    def run(*words: str) -> None:
        subprocess.run(words, check=True, capture_output=True)

    def attempt(self, address: str) -> str:
        """What a trial from inside `balm` comes to, tried until the server is up."""
        sshd = self._sshds[int(address[-1]) - 1]
        target = self._folder / "target.json"
        target.write_text(sshd.target(address=address, time_limit=3.0).model_dump_json(context=REVEALED))
        code = (
            "import asyncio,sys,time\nfrom balise.api.remote import RemoteTarget\n"
            "from balise.collect.remote.trial import attempt\n"
            "target = RemoteTarget.model_validate_json(open(sys.argv[1]).read())\n"
            "for _ in range(20):\n    found = asyncio.run(attempt(target, time.time()))\n"
            "    if found.result != 'refused': break\n    time.sleep(0.2)\nprint(found.result)"
        )
        import sys

        words = ["ip", "netns", "exec", "balm", sys.executable, "-c", code, str(target)]
        return subprocess.run(words, capture_output=True, text=True, timeout=60, check=True).stdout.strip()

    def close(self) -> None:
        for sshd in self._sshds:
            sshd.stop()
        for name in ("balm", "bala", "balb"):
            subprocess.run(["ip", "netns", "del", name], check=False)


def test_counters_of_32_bits_go_on_when_they_wrap_and_begin_anew_with_their_device() -> None:
    counters, told = Unwrapped(), []
    for uptime, value in ((100, 4_294_967_000), (115, 200), (130, 700), (5, 40), (20, 60)):
        counters.turn(uptime)
        told.append(counters.of("in", float(value)))
    assert told == [0.0, 496.0, 996.0, 1036.0, 1056.0]


def test_states_of_memory_add_up_to_all_there_is() -> None:
    """A machine with much memory shared between programs, as PostgreSQL has: worked out by hand, in GiB."""
    look = MemoryLook(
        total=25, available=12, free=4, buffers=1, cached=11, swap_total=0, swap_free=0, swapped_in=0, swapped_out=0
    )
    assert memory_parts(look) == {"used": 13, "free": 4, "buffers": 1, "cached": 7}
    odd = MemoryLook(
        total=8, available=1, free=2, buffers=3, cached=4, swap_total=0, swap_free=0, swapped_in=0, swapped_out=0
    )
    assert sum(memory_parts(odd).values()) == 8

"""The parts of a system: what the kernel's own documents say they look like, and what this machine says."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import time
from collections.abc import Callable, Iterable, Mapping
from dataclasses import replace
from pathlib import Path

import psutil
import pytest

from balise.agent.parts import Parts
from balise.api.parts import CollectorSetting
from balise.collect.here import begun
from balise.collect.linux.clock import Clock, ClockLook
from balise.collect.linux.containers import Containers
from balise.collect.linux.directories import Directories, directory_look
from balise.collect.linux.interrupts import Interrupts, interrupts
from balise.collect.linux.messages import KernelMessages
from balise.collect.linux.nfs import Nfs
from balise.collect.linux.smart import Smart
from balise.collect.processes import KEEP_SHOWING, ProcessAbout, Processes, ProcessLook, SignedIn, Users
from balise.collect.readings import Collector, CollectorProblem, Kept, LogLine, NotHere, Reading, Sorted
from balise.collect.system import DiskLook, Disks
from balise.collect.telling import MEANINGS
from balise.collect.units import Units, WatchedProcesses, units
from running import until

Values = dict[tuple[str, ...], float]


def found_in(collector: Collector, now: float = 1000.0) -> Sorted:
    out = Sorted()
    out.add(list(collector.read(now)))
    return out


def values(found: Sorted) -> Values:
    """By the metric and the values of its attributes."""
    return {(r.metric, *r.attributes.values()): r.value for r in found.readings}


def read(collector: Collector, now: float = 1000.0) -> Values:
    return values(found_in(collector, now))


# --- counts of the kernel


def test_interrupts_are_added_up_by_device_and_kind() -> None:
    text = (
        "           CPU0       CPU1\n 24:          1          2  IO-APIC   5-edge      ACPI:Ged\n"
        " 27:         10          5 PCI-MSIX-0000:00:01.0   0-edge      virtio0-input.0\n"
        "LOC:       1000       2000   Local timer interrupts\nERR:          0\n"
    )
    assert interrupts(text) == {"ACPI:Ged": 3, "virtio0-input.0": 15, "Local timer": 3000, "ERR": 0}
    here = read(Interrupts(lambda: Path("/proc/interrupts").read_text()))
    total = float(Path("/proc/stat").read_text().split("intr ")[1].split()[0])
    assert here and sum(here.values()) <= total * 1.5


MOUNTSTATS = """\
device proc mounted on /proc with fstype proc
device 192.0.2.9:/srv/fares mounted on /srv/my\\040fares with fstype nfs4 statvers=1.1
\topts:\trw,vers=4.2
\tbytes:\t100 200 0 0 {read} 2048 1 1
\tper-op statistics
\t        READ: {count} {sent} 0 500 600 5 {took} 1300 0
\t       WRITE: 0 0 0 0 0 0 0 0 0
\t   SETCLIENT: 3 3 0 1 1 1 1 1 0
"""


def test_a_mounted_file_server_tells_its_traffic_and_latency() -> None:
    """The columns of an operation: asked, sent, timed out, bytes out and in, then milliseconds queued, away, in all."""
    texts = iter(
        MOUNTSTATS.format(read=r, count=c, sent=s, took=0).replace("1300", str(t))
        for r, c, s, t in ((4096, 10, 12, 1300), (8192, 30, 33, 1500))
    )
    nfs = Nfs(lambda: next(texts))
    first, second = read(nfs), read(nfs)
    place, server = "/srv/my fares", "192.0.2.9:/srv/fares"
    assert first["balise.nfs.io", place, server, "read"] == 4096
    assert first["balise.nfs.io", place, server, "write"] == 2048
    assert (
        first["balise.nfs.operations", place, server, "read"],
        first["balise.nfs.repeated", place, server, "read"],
    ) == (10, 2)
    assert first["balise.nfs.operations", place, server, "other"] == 3
    assert second["balise.nfs.latency", place, server, "read"] == pytest.approx(0.2 / 20)
    assert read(Nfs(lambda: "device proc mounted on /proc with fstype proc\n")) == {}


def test_disks_tell_how_long_an_operation_took_and_how_many_were_under_way() -> None:
    looks = iter(
        [DiskLook("sda", (0, 100, 1.0), (0, 10, 2.0), 5.0)] + [DiskLook("sda", (0, 150, 1.5), (0, 10, 2.0), 6.0)] * 2
    )
    disks = Disks(lambda: [next(looks)])
    assert ("balise.disk.queue", "sda") not in read(disks, 1000.0)
    second = read(disks, 1010.0)
    assert second["balise.disk.latency", "sda", "read"] == pytest.approx(0.01)
    assert ("balise.disk.latency", "sda", "write") not in second
    assert second["balise.disk.queue", "sda"] == pytest.approx(0.05)
    # The clock was set back: no queue is made of that.
    assert ("balise.disk.queue", "sda") not in read(disks, 500.0)


def test_an_unkept_clock_tells_no_offset() -> None:
    assert read(Clock(lambda: ClockLook(0.0, 16.0, False))) == {("balise.clock.synchronised",): 0.0}
    assert read(Clock(lambda: ClockLook(-0.002, 0.04, True)))["balise.clock.offset",] == -0.002
    here = read(Clock())
    assert here["balise.clock.synchronised",] in (0.0, 1.0)


def records(*texts: str) -> int:
    """The reading end of a pipe in which each read gives one record, as the kernel's log does (pipe(2), O_DIRECT)."""
    there, here = os.pipe2(os.O_DIRECT | os.O_NONBLOCK)
    for text in texts:
        os.write(here, text.encode())
    return there


@pytest.fixture
def kernel_says(monkeypatch: pytest.MonkeyPatch) -> Callable[..., None]:
    def say(*texts: str) -> None:
        there = records(*texts)
        monkeypatch.setattr(KernelMessages, "_open", lambda _self: there)

    return say


KILLED = (
    "3,42,5000000,-;Out of memory: Killed process 911 (java) total-vm:1kB, anon-rss:1kB\n SUBSYSTEM=x\n",
    "6,43,6500000,-;eth0: all is well\n",
)


def test_the_kernels_messages_are_told_once_with_their_kind(kernel_says: Callable[..., None]) -> None:
    kernel_says("6,41,1,-;before anybody looked\n")
    messages = KernelMessages(7, monotonic=lambda: 10.0)
    assert found_in(messages).lines == []
    assert (messages.position.inode, messages.position.offset) == (7, 41)
    kernel_says("6,41,1,-;before anybody looked\n", *KILLED)
    again = KernelMessages(7, messages.position, monotonic=lambda: 10.0)
    found = found_in(again, 1000.0)
    assert [(line.body[:13], line.severity, line.time) for line in found.lines] == [
        ("Out of memory", "error", 995.0),
        ("eth0: all is ", "informational", 996.5),
    ]
    assert found.lines[0].attributes == {
        "process.pid": "911",
        "process.executable.name": "java",
        "balise.kernel.event": "out-of-memory",
    }
    assert values(found)["balise.kernel.notable", "out-of-memory"] == 1
    assert found_in(again).lines == []
    kernel_says(*KILLED)
    assert len(found_in(KernelMessages(8, again.position)).lines) == 0


@pytest.mark.skipif(not os.access("/dev/kmsg", os.W_OK), reason="only root may speak as the kernel does")
def test_what_is_said_in_this_kernels_log_arrives() -> None:
    messages = KernelMessages(1)
    found_in(messages, time.time())
    Path("/dev/kmsg").write_text(f"<4>balise: I/O error, dev sdx, sector {os.getpid()}\n")
    found = found_in(messages, time.time())
    [line] = [line for line in found.lines if f"sector {os.getpid()}" in line.body]
    assert (line.severity, line.attributes["balise.kernel.event"]) == ("warning", "storage-error")
    assert abs(line.time - time.time()) < 60


# --- units

SHOWN = """\
Id=nginx.service
LoadState=loaded
ActiveState={nginx}
SubState=x
Result={result}
NRestarts={restarts}

Id=gone.service
LoadState=not-found
ActiveState=inactive

Id=fstrim.service
LoadState=loaded
ActiveState=inactive
Result=success
NRestarts=0
"""


def test_units_tell_failures_and_restarts_as_values_and_events() -> None:
    said = iter(
        SHOWN.format(nginx=n, result=r, restarts=c)
        for n, r, c in (
            ("active", "success", 0),
            ("active", "success", 2),
            ("failed", "exit-code", 2),
            ("active", "success", 2),
        )
    )
    collector = Units(lambda: units(next(said)), watch=["cron.service"])
    first = found_in(collector)
    assert values(first) == {
        ("balise.unit.running", "nginx"): 1, ("balise.unit.running", "cron"): 0, ("balise.unit.restarts", "cron"): 0,
        ("balise.units", "active"): 1, ("balise.units", "inactive"): 1,
    }  # fmt: skip
    assert first.lines == []
    told = [found_in(collector) for _ in range(3)]
    assert [(line.body, line.severity) for found in told for line in found.lines] == [
        ("nginx was restarted, the 2. time", "warning"),
        ("nginx failed: exit-code", "error"),
        ("nginx runs again", "notice"),
    ]
    assert values(told[1])["balise.unit.running", "nginx"] == 0


def test_without_systemd_a_watched_process_is_found_by_its_name(tmp_path: Path) -> None:
    program = shutil.copy("/bin/sleep", tmp_path / "barrier-watch")
    watched = WatchedProcesses(begun, ["barrier-watch"])

    def started() -> subprocess.Popen[bytes]:
        process = subprocess.Popen([program, "60"])
        while "barrier-watch" not in begun():
            time.sleep(0.01)
        return process

    process = started()
    assert [(u.state, u.restarts) for u in watched.look()] == [("active", 0)]
    process.kill()
    process.wait()
    assert watched.look()[0].state == "missing"
    time.sleep(0.05)
    process = started()
    assert [(u.state, u.restarts) for u in watched.look()] == [("active", 1)]
    process.kill()
    process.wait()


# --- processes and people


def process(pid: int, cpu: float, memory: int, name: str, owner: str, terminal: int = 0) -> ProcessLook:
    return ProcessLook(pid, 1, "S", cpu, memory, name, owner, terminal)


def test_programs_users_and_terminals_are_charged_for_what_their_processes_take() -> None:
    turns = iter(
        [
            (
                0.0,
                [process(1, 0, 100, "java", "app"), process(2, 0, 50, "java", "app"), process(3, 0, 7, "vi", "ops", 9)],
            ),
            (
                10.0,
                [process(1, 5, 100, "java", "app"), process(2, 1, 50, "java", "app"), process(3, 2, 7, "vi", "ops", 9)],
            ),
            (20.0, [process(3, 2, 7, "vi", "ops", 9)]),
            (20.0 + KEEP_SHOWING, [process(3, 2, 7, "vi", "ops", 9)]),
        ]
    )
    processes = Processes(lambda: next(turns))
    users = Users(lambda _now: [SignedIn("ops", "pts/1", "192.0.2.7", 400.0, 9)], processes)
    read(processes), read(users)
    told, people = read(processes), found_in(users)
    assert told["balise.program.cpu", "java", "app"] == pytest.approx(0.6)
    assert told["balise.program.memory", "java", "app"] == 150
    assert values(people)["balise.user.cpu", "ops"] == pytest.approx(0.2)
    [kept] = people.kept
    assert kept.content == [
        {
            "user": "ops",
            "terminal": "pts/1",
            "origin": "192.0.2.7",
            "seconds": 600,
            "cpu": 0.2,
            "memory": 7.0,
            "processes": 1,
        }
    ]
    # What has ended goes on being told for a while, as nothing, so that its line does not stop high up.
    assert read(processes)["balise.program.cpu", "java", "app"] == 0
    assert ("balise.program.cpu", "java", "app") not in read(processes)


def test_the_busiest_are_told_with_what_they_moved_and_when_they_ended() -> None:
    """Bytes a second since the look before; who is only less busy has not ended."""
    turns = iter(
        [
            (0.0, [process(1, 0, 9, "java", "app"), process(2, 0, 5, "vi", "ops")]),
            (10.0, [process(1, 4, 9, "java", "app"), process(2, 1, 5, "vi", "ops")]),
            (20.0, [process(2, 1, 5, "vi", "ops")]),
        ]
    )
    moved = iter([1000.0, None, 6000.0, None, None])

    def about(look: ProcessLook, _before: ProcessAbout | None) -> ProcessAbout:
        return ProcessAbout(look.name, f"{look.name} --quay", f"{look.name}.service", next(moved), 50.0)

    processes = Processes(lambda: next(turns), about)
    _, second, third = (next(k.content for k in found_in(processes).kept) for _ in range(3))
    java = {"pid": 1, "name": "java", "user": "app", "cpu": 0.4, "memory": 9, "io": 500, "started": 50.0}
    assert second[0] == {**java, "command": "java --quay", "unit": "java.service"} and "io" not in second[1]
    ended = [one for one in third if "ended" in one]
    assert [(one["pid"], one["cpu"], one["memory"]) for one in ended] == [(1, 0.0, 0)]
    assert [one["pid"] for one in third if "ended" not in one] == [2]


def test_who_waits_for_storage_is_among_the_busiest_for_as_long_as_it_moves_much() -> None:
    """A copy takes no processor to speak of and little memory: it is seen while it waits, and asked from then on."""
    large = [process(100 + i, 0, 10_000 + i, "large", "app") for i in range(20)]
    copy = process(1, 0, 5, "copy", "root")
    moved = {"copy": 0.0}

    def about(look: ProcessLook, _before: ProcessAbout | None) -> ProcessAbout:
        moved["copy"] += 4e6 if look.name == "copy" and moved["copy"] < 1.2e7 else 0.0
        return ProcessAbout(look.name, io=moved["copy"] if look.name == "copy" else 0.0)

    turns = iter(
        [
            (0.0, [*large, copy]), (10.0, [*large, replace(copy, state="D")]), (20.0, [*large, copy]),
            (30.0, [*large, copy]), (40.0, [*large, copy]), (50.0, [*large, copy]),
        ]
    )  # fmt: skip
    processes = Processes(lambda: next(turns), about)
    looks = [next(k.content for k in found_in(processes).kept) for _ in range(6)]
    of_copy = [[one.get("io") for one in look if one["name"] == "copy" and "ended" not in one] for look in looks]
    assert of_copy == [[], [None], [400_000], [400_000], [None], []], "nothing moved any more"


def test_no_number_of_programs_makes_series_without_end() -> None:
    rounds = iter(range(1000))

    def look() -> tuple[float, list[ProcessLook]]:
        n = next(rounds)
        return n * 700.0, [process(n * 10 + i, 1.0, 10, f"job-{n}-{i}", "ops") for i in range(9)]

    processes = Processes(look)
    seen = {key[1] for _ in range(60) for key in read(processes) if key[0] == "balise.program.memory"}
    assert len(seen) <= 201 and "(others)" in seen


def test_nobody_signed_in_any_more_is_told_once() -> None:
    people = iter([[SignedIn("ops", "pts/1", "", 0.0)], [], []])
    users = Users(lambda _now: next(people), Processes(lambda: (0.0, [])))
    assert [len(k.content) for _ in range(3) for k in found_in(users).kept] == [1, 0]


# --- containers, disks, directories


def tree(root: Path, files: Mapping[str, str]) -> Path:
    for name, text in files.items():
        (root / name).parent.mkdir(parents=True, exist_ok=True)
        (root / name).write_text(text)
    return root


ID = "0123456789abcdef" * 4


@pytest.mark.parametrize("version", [1, 2])
def test_containers_are_read_from_their_control_groups(tmp_path: Path, version: int) -> None:
    """Files as cgroup-v2.rst and cgroup-v1/ have them."""
    two = {
        "cgroup.controllers": "cpu memory",
        f"system.slice/engine-{ID}.scope/cpu.stat": "usage_usec 2500000\nuser_usec 1\nthrottled_usec 500000\n",
        f"system.slice/engine-{ID}.scope/memory.current": "4096\n",
        f"system.slice/engine-{ID}.scope/memory.max": "8192\n",
        f"system.slice/engine-{ID}.scope/memory.events": "low 0\noom_kill 1\n",
        f"system.slice/engine-{ID}.scope/io.stat": "8:0 rbytes=10 wbytes=20 rios=1\n8:16 rbytes=1 wbytes=2\n",
        f"system.slice/engine-{ID}.scope/pids.current": "3\n",
        f"system.slice/engine-{ID}.scope/cgroup.procs": f"{os.getpid()}\n",
        f"system.slice/engine-{ID}.scope/inner/{ID}/memory.current": "1\n",
        "system.slice/ssh.service/memory.current": "77\n",
    }
    one = {
        f"cpuacct/engine/{ID}/cpuacct.usage": "2500000000\n",
        f"cpu/engine/{ID}/cpu.stat": "nr_periods 1\nthrottled_time 500000000\n",
        f"memory/engine/{ID}/memory.usage_in_bytes": "4096\n",
        f"memory/engine/{ID}/memory.limit_in_bytes": "8192\n",
        f"memory/engine/{ID}/memory.oom_control": "under_oom 0\noom_kill 1\n",
        f"memory/engine/{ID}/cgroup.procs": f"{os.getpid()}\n",
        f"blkio/engine/{ID}/blkio.throttle.io_service_bytes": "8:0 Read 11\n8:0 Write 22\nTotal 33\n",
        f"pids/engine/{ID}/pids.current": "3\n",
        "memory/memory.limit_in_bytes": "9223372036854771712\n",
    }
    found = read(Containers(str(tree(tmp_path, two if version == 2 else one))))
    mine = (ID[:12], Path(f"/proc/{os.getpid()}/comm").read_text().strip())
    assert found == {
        ("container.cpu.time", *mine): 2.5, ("balise.container.held_back", *mine): 0.5,
        ("container.memory.usage", *mine): 4096, ("balise.container.memory.limit", *mine): 8192,
        ("balise.container.killed_for_memory", *mine): 1, ("container.disk.io", *mine, "read"): 11,
        ("container.disk.io", *mine, "write"): 22, ("balise.container.processes", *mine): 3,
    }  # fmt: skip


DISKS = {
    "--scan": {"devices": [{"name": "/dev/sda"}, {"name": "/dev/nvme0"}, {"name": "/dev/sdz"}, {"name": "bus/3"}]},
    "/dev/sda": {
        "model_name": "Spinner", "smart_status": {"passed": False}, "temperature": {"current": 41},
        "power_on_time": {"hours": 10},
        "ata_smart_attributes": {"table": [{"id": 5, "raw": {"value": 8}}, {"id": 9, "raw": {"value": 10}}]},
    },
    "/dev/nvme0": {
        "model_name": "Flash", "smart_status": {"passed": True},
        "nvme_smart_health_information_log": {"percentage_used": 12, "media_errors": 0},
    },
}  # fmt: skip


def test_disks_tell_their_own_health_and_who_may_not_be_asked() -> None:
    """Keys as smartctl 7 prints them with --json."""

    def run(words: Iterable[str]) -> tuple[int, str]:
        last = list(words)[-1]
        return (2, "{}") if last == "/dev/sdz" else (0, json.dumps(DISKS[last]))

    found: list[Reading] = []
    with pytest.raises(CollectorProblem, match="/dev/sdz"):
        for one in Smart(run).read(0.0):
            found.append(one)
    told = {(r.metric.removeprefix("balise.disk."), r.attributes["system.device"]): r.value for r in found}
    assert told == {
        ("health", "sda"): 0, ("temperature", "sda"): 41, ("powered", "sda"): 36000, ("reallocated", "sda"): 8,
        ("health", "nvme0"): 1, ("worn", "nvme0"): 0.12, ("uncorrectable", "nvme0"): 0,
    }  # fmt: skip


def test_a_directory_is_as_large_as_du_says(tmp_path: Path) -> None:
    tree(tmp_path, {"a/one": "x" * 9000, "a/b/two": "y", "three": "z" * 100})
    os.link(tmp_path / "three", tmp_path / "again")
    (tmp_path / "out").symlink_to("/")
    os.utime(tmp_path / "a/one", (0, 1_000_000))
    look = directory_look(str(tmp_path))
    said = subprocess.run(["du", "-s", "-B1", tmp_path], capture_output=True, text=True, check=True).stdout
    own = os.stat(tmp_path).st_blocks * 512
    assert look.size == int(said.split()[0]) - own
    assert (look.files, look.oldest, look.whole) == (3, 1_000_000, True)
    now = time.time()
    found = read(Directories([str(tmp_path)]), now)
    assert found["balise.directory.oldest", str(tmp_path)] == pytest.approx(now - 1_000_000)
    assert 0 <= found["balise.directory.newest", str(tmp_path)] < 60


def test_a_directory_too_large_is_left_off_and_said_to_be(tmp_path: Path) -> None:
    tree(tmp_path, {f"{n}": "" for n in range(50)})
    slept: list[float] = []
    look = directory_look(str(tmp_path), most_entries=20, sleep=slept.append)
    assert (look.whole, look.entries) == (False, 20)
    collector = Directories([str(tmp_path), "/nowhere"], lambda p: directory_look(p, most_entries=20))
    found: list[object] = []
    with pytest.raises(CollectorProblem, match=r"at least.*; /nowhere: No such file"):
        for one in collector.read(0.0):
            found.append(one)
    assert len(found) == 4


# --- what an agent makes of them


class Costly:
    """Takes as much processor time as it is told."""

    name = "cpu"
    meanings = MEANINGS["cpu"]

    def __init__(self) -> None:
        self.seconds = 0.0
        self.reads = 0

    def read(self, now: float) -> list[Reading]:
        self.reads += 1
        until = time.thread_time() + self.seconds
        while time.thread_time() < until:
            pass
        return [Reading("balise.cpu.busy", now)]


def parts_of(settings: dict[str, CollectorSetting], given: list[Sorted] | None = None) -> Parts:
    kept = [] if given is None else given
    return Parts(lambda: settings, lambda: 1.0, lambda _at, found, _meanings: kept.append(found), lambda _path: None)


def test_a_part_that_takes_more_than_it_may_stops_itself_and_says_so() -> None:
    parts = parts_of({})
    costly = Costly()
    parts._usual["cpu"] = costly
    for turn in range(3):
        costly.seconds = 0.03
        parts.read(1000.0 + turn)
    assert "stopped itself for an hour" in parts.problems()["cpu"]
    parts.read(1003.0)
    assert costly.reads == 3
    assert "memory" not in parts.problems() and "memory" in parts.costs()


def test_heavy_parts_are_off_until_a_plan_asks_for_them_and_hold_up_nobody(tmp_path: Path) -> None:
    settings: dict[str, CollectorSetting] = {}
    given: list[Sorted] = []
    parts = parts_of(settings, given)
    parts.read(1000.0)
    assert not {"smart", "directories", "interrupts"} & set(parts.costs())
    tree(tmp_path, {"one": "1"})
    settings |= {"directories": CollectorSetting(every=60, paths=[str(tmp_path)]), "memory": CollectorSetting(on=False)}
    found = parts.read(1001.0)
    assert not any(r.metric.startswith(("balise.directory", "system.memory")) for r in found.readings)
    files = until(lambda: [r.value for g in given for r in g.readings if r.metric == "balise.directory.files"], 10)
    assert files == [1]
    assert "memory" not in parts.costs()
    parts.close()


def test_what_a_host_does_not_have_is_trouble_only_when_it_was_asked_for(monkeypatch: pytest.MonkeyPatch) -> None:
    def refuse(_self: object) -> int:
        raise NotHere("the agent may not read the kernel's messages")

    monkeypatch.setattr(KernelMessages, "_open", refuse)
    settings: dict[str, CollectorSetting] = {}
    parts = parts_of(settings)
    parts.read(1000.0)
    assert parts.problems() == {}
    settings["messages"] = CollectorSetting()
    parts.read(1001.0)
    assert "may not read" in parts.problems()["messages"]


def test_a_first_look_puts_off_no_reading(tmp_path: Path) -> None:
    """Neither a part with an interval of its own nor a slow one waits for that because an agent just began."""
    given: list[Sorted] = []
    settings = {
        "cpu": CollectorSetting(every=3600),
        "directories": CollectorSetting(every=3600, paths=[str(tmp_path)]),
    }
    parts = parts_of(settings, given)
    parts.first(1000.0)
    time.sleep(0.05)
    assert "system.cpu.utilization" in {r.metric for r in parts.read(1001.0).readings}
    assert "system.cpu.time" not in {r.metric for r in parts.read(1002.0).readings}
    until(lambda: any(r.metric == "balise.directory.size" for g in given for r in g.readings), 10)
    parts.close()


def test_what_each_part_tells_is_known_before_it_is_collected() -> None:
    parts = parts_of({name: CollectorSetting() for name in ("interrupts", "clock", "nfs", "messages")})
    found = parts.read(time.time())
    told = {r.metric for r in found.readings}
    assert told and told <= {metric for meanings in MEANINGS.values() for metric in meanings}
    assert {k.name for k in found.kept} == {"balise.evidence.processes"} | (
        {"balise.evidence.signed-in"} if psutil.users() else set()
    )
    assert all(isinstance(line, LogLine) for line in found.lines) and all(isinstance(k, Kept) for k in found.kept)

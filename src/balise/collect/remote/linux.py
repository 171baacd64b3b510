"""A Linux system that is read by commands: the one script that asks it everything, and the reading of its answer.

The script only reads, with `cat`, `df`, `stat`, `tail` and shell built-ins; it leaves no file behind and needs no
more rights than an ordinary account has.
"""

from __future__ import annotations

import os
import re
import shlex
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from hashlib import sha256

from balise.api.hosts import Facts
from balise.api.remote import FilePlace, FollowedFile
from balise.collect import procfs
from balise.collect.follow import LineReader
from balise.collect.linux.kernel import Kernel, Pressure, kernel_look
from balise.collect.linux.nfs import Nfs
from balise.collect.processes import Processes, ProcessLook, Users
from balise.collect.readings import Collector, CollectorProblem, LogLine, Meaning, Sorted
from balise.collect.records import Records
from balise.collect.remote.link import Positions
from balise.collect.system import Cpu, CpuLook, Disks, Filesystems, Memory, Network, Uptime
from balise.core.events.leaving import Leaving, leaving
from balise.core.localtime import FromLocal, of_offset
from balise.core.syslog import parse_line

MOST_LINES_BYTES = 256 << 10
"""Bytes read of one followed file in one turn: a flood is read over several turns."""
LONGEST_LINE = 64 << 10
_NUMBERS = "echo $(getconf CLK_TCK 2>/dev/null || echo 100) $(getconf PAGESIZE 2>/dev/null || echo 4096)"
_SYSTEM = {
    "numbers": _NUMBERS,
    "stat": "grep -E '^(cpu|btime|ctxt|processes)' /proc/stat; grep -oE '^intr [0-9]+' /proc/stat",
    "loadavg": "cat /proc/loadavg",
    "uptime": "cat /proc/uptime",
    "meminfo": "cat /proc/meminfo",
    "vmstat": "grep -E '^(psw|oom_kill)' /proc/vmstat",
    "files": "cat /proc/sys/fs/file-nr",
    "tracked": "cat /proc/sys/net/netfilter/nf_conntrack_count /proc/sys/net/netfilter/nf_conntrack_max",
    "entropy": "cat /proc/sys/kernel/random/entropy_avail",
    "pressure": 'for r in cpu memory io; do sed "s/^/$r /" /proc/pressure/$r; done',
    "nfs": "grep -q nfs /proc/mounts && head -c 1000000 /proc/self/mountstats",
    "who": "TZ=UTC0 who",
    "mounts": "cat /proc/mounts",
    "blocks": "df -P -k -l 2>/dev/null || df -P -k",
    "inodes": "df -P -i -l 2>/dev/null",
    "diskstats": "cat /proc/diskstats",
    "cards": "cat /proc/net/dev",
    "processes": "cat /proc/[0-9]*/stat 2>/dev/null | head -c 1500000",
    "owners": "stat -c '%U %n' /proc/[0-9]* 2>/dev/null | head -c 500000",
}
_FACTS = {
    "name": "uname -n",
    "kernel": "uname -r",
    "machine": "uname -m",
    "id": "cat /etc/machine-id 2>/dev/null || cat /var/lib/dbus/machine-id 2>/dev/null",
    "release": "cat /etc/os-release 2>/dev/null",
    "addresses": "hostname -I 2>/dev/null || ip -o addr show 2>/dev/null | awk '{print $4}'",
    "zone": "date +%Z",
    "flags": "grep -m1 -E '^flags' /proc/cpuinfo; [ -e /.dockerenv ] && echo container",
}


MARKED = 64
"""Bytes before a place by which it is known again."""


class Unreadable(ValueError):
    """The system does not tell what it should: it is no Linux, or the account may not look."""


def script(
    nonce: str,
    *,
    facts: bool,
    follow: Sequence[FollowedFile],
    positions: Positions,
    also: Mapping[str, str] | None = None,
) -> str:
    """What the host's shell is told to do to tell of the system, of followed files, and what else is asked by name."""
    parts = dict(_SYSTEM) | ({f"fact-{k}": v for k, v in _FACTS.items()} if facts else {})
    return script_of(nonce, parts | follow_parts(follow, positions) | dict(also or {}))


def follow_parts(follow: Sequence[FollowedFile], positions: Positions) -> dict[str, str]:
    """The parts of a script that read followed files, each from where it was left."""
    return {f"follow-{number}": _follow(file, positions.get(file.path)) for number, file in enumerate(follow)}


def script_of(nonce: str, parts: Mapping[str, str]) -> str:
    """Commands as one script. `nonce` keeps what a file holds from passing for a part's beginning."""
    lines = ["LC_ALL=C; export LC_ALL; exec 2>/dev/null"]
    lines += [f"echo; echo '@{nonce} {name}'; {{ {command}; }}" for name, command in parts.items()]
    return "\n".join([*lines, f"echo; echo '@{nonce} end'", ""])


def _follow(file: FollowedFile, position: FilePlace | None) -> str:
    """One line of status, then bytes from where the last reading ended.

    The status is `inode size offset rest next zone mark`: `rest` is how many bytes are still to come of the file of
    before when that was turned over and lies beside the new one, renamed or copied; `next` the inode of the file that
    was begun after it, `zone` the host's distance from UTC, and `mark` that of a file without one.
    """
    folder, name = os.path.split(file.path)
    path, beside = shlex.quote(file.path), shlex.quote(folder or "/")
    inode, offset, mark = position or FilePlace(0, 0)
    length, _, digest = mark.partition(":")
    start = "0" if position or file.from_start else '"$2"'
    turned = f"{path}.[0-9]* {path}-[0-9]*"
    return (
        f"if [ ! -e {path} ]; then echo missing; elif [ -d {path} ]; then echo directory; "
        f"elif [ ! -f {path} ]; then echo special; "
        f"elif [ ! -r {path} ]; then echo unreadable $(id -un); else "
        # The digest of some bytes of a file before an offset; nothing where there is no such command.
        """k() { tail -c +$(($2 - $3 + 1)) "$1" | head -c "$3" | sha256sum | cut -c 1-16; }; """
        # Whether a file holds what was read.
        f'm() {{ [ "$(stat -L -c %s "$1")" -ge {offset} ] || return 1; [ -n "{digest}" ] || return 0; '
        f'd=$(k "$1" {offset} {length or 0}); [ -z "$d" ] || [ "$d" = "{digest}" ]; }}; '
        f"set -- $(stat -L -c '%i %s' {path}); r=0; n=$1; o={start}; f={path}; b=; i=; q=-; "
        f'if [ "$1" = {inode} ] && m {path}; then o={offset}; elif [ {inode} != 0 ]; then '
        f'[ "$1" = {inode} ] || i=$(find {beside} -maxdepth 1 -type f -inum {inode} '
        f"-name {shlex.quote(_literal(name) + '*')} | head -n 1); "
        '[ -n "$i" ] && m "$i" && b=$i; '
        f'if [ -z "$b" ] && [ -n "{digest}" ]; then for c in {turned}; do case $c in *.gz) ;; '
        """*) [ -f "$c" ] && m "$c" && b=$c && break;; esac; done; fi; """
        f'if [ -n "$b" ]; then f=$b; r=$(($(stat -c %s "$b") - {offset})); '
        f"n=$(ls -1tr {path} {turned} | grep -v '[.]gz$' "
        """| awk -v b="$b" 'f { print; exit } $0 == b { f = 1 }'); """
        f'[ -n "$n" ] || n={path}; n=$(stat -L -c %i "$n"); '
        # It was cut unread and then renamed: what it holds now comes next, from its beginning.
        f'elif [ -n "$i" ]; then n={inode}; f=/dev/null; fi; fi; [ "$r" -lt 0 ] && r=0; '
        f'if [ -z "{digest}" ] && [ "$o" -gt 0 ]; then l=$o; [ "$l" -gt {MARKED} ] && l={MARKED}; '
        f'q=$l:$(k {path} "$o" "$l"); fi; '
        f'echo "$1" "$2" "$o" "$r" "$n" "$(date +%z)" "$q"; '
        f'if [ "$f" != {path} ]; then tail -c +{offset + 1} "$f" | head -c {MOST_LINES_BYTES}; '
        f"else tail -c +$((o + 1)) {path} | head -c {MOST_LINES_BYTES}; fi; fi"
    )


def _mark(read: bytes, otherwise: str) -> str:
    """The mark of a place up to which something was read just now."""
    tail = read[-MARKED:]
    return f"{len(tail)}:{sha256(tail).hexdigest()[:16]}" if tail else otherwise


def _literal(name: str) -> str:
    """A name as a pattern of the shell that fits nothing but itself."""
    return re.sub(r"([\\*?\[\]])", r"\\\1", name)


def parts_of(answer: str, nonce: str) -> dict[str, str]:
    """The parts of what the host said.

    Raises:
        Unreadable: it is not what the script prints, or not whole.
    """
    found = re.split(rf"^@{re.escape(nonce)} ([a-z0-9-]+)\n", answer, flags=re.MULTILINE)
    parts = {
        name: text[:-1] if text.endswith("\n") else text for name, text in zip(found[1::2], found[2::2], strict=True)
    }
    if not parts:
        raise Unreadable(
            f"the account gets no shell that runs commands; it said: {printable(answer[:120]) or 'nothing'}"
        )
    if "end" not in parts:
        raise Unreadable("the answer is not whole")
    return parts


def printable(text: str) -> str:
    return "".join(c if c.isprintable() else " " for c in text).strip()


@dataclass
class _Said:
    """What the host said last, for the collectors to look at."""

    parts: Mapping[str, str]
    moment: float = 0.0
    tick: int = 100
    page: int = 4096

    def take(self, parts: Mapping[str, str], moment: float) -> None:
        self.parts, self.moment = parts, moment
        words = parts.get("numbers", "").split()
        if len(words) == 2 and all(w.isdigit() and int(w) > 0 for w in words):
            self.tick, self.page = int(words[0]), int(words[1])


class LinuxHost:
    """The collectors of one distant Linux: the same as the agent's, looking at what it said; but for those `off`."""

    def __init__(self, off: Iterable[str] = ()) -> None:
        self._said = said = _Said({})

        def get(name: str) -> str:
            return said.parts.get(name, "")

        processes = Processes(self._processes)
        wanted: list[Collector] = [
            Cpu(self._cpu),
            Pressure(lambda: _by_resource(get("pressure"))),
            Kernel(
                lambda: kernel_look(get("stat"), get("vmstat"), get("files"), get("tracked"), get("entropy")),
            ),
            Memory(lambda: procfs.memory(get("meminfo"), get("vmstat"))),
            Filesystems(lambda: procfs.space(get("mounts"), get("blocks"), get("inodes"))),
            Disks(lambda: procfs.disks(get("diskstats"))),
            Network(lambda: procfs.cards(get("cards"))),
            Uptime(lambda _now: float(get("uptime").split()[0])),
            Nfs(lambda: get("nfs")),
            processes,
            Users(lambda now: procfs.signed_in(get("who"), now), processes),
        ]
        self._collectors = [collector for collector in wanted if collector.name not in off]
        self.meanings: dict[str, Meaning] = {k: v for c in self._collectors for k, v in c.meanings.items()}

    def _cpu(self) -> CpuLook:
        return procfs.cpu(self._said.parts.get("stat", ""), self._said.parts.get("loadavg", ""), self._said.tick)

    def _processes(self) -> tuple[float, Iterable[ProcessLook]]:
        said, parts = self._said, self._said.parts
        found = procfs.processes(parts.get("processes", ""), parts.get("owners", ""), said.tick, said.page)
        return said.moment, found

    def found(self, parts: Mapping[str, str], now: float, moment: float) -> Sorted:
        """Everything the parts tell; `moment` is monotonic seconds.

        Raises:
            Unreadable: the system's own figures cannot be read.
        """
        self._said.take(parts, moment)
        out = Sorted()
        for collector in self._collectors:
            try:
                out.add(list(collector.read(now)))
            except (ValueError, IndexError, CollectorProblem) as error:
                if collector.name in ("cpu", "memory"):
                    raise Unreadable(f"{collector.name}: {error or 'the account may not read /proc'}") from None
        return out

    def facts(self, parts: Mapping[str, str], fallback: str, now: float) -> Facts:
        """What the host is; `fallback` is its name when it does not say."""

        def get(name: str) -> str:
            return parts.get(f"fact-{name}", "").strip()

        release = dict(line.partition("=")[::2] for line in get("release").splitlines())
        boot = re.search(r"^btime (\d{1,12})$", parts.get("stat", ""), re.MULTILINE)
        found = [a.split("/")[0] for a in get("addresses").split()]
        look = self._cpu()
        return Facts(
            host_name=(printable(get("name")) or fallback)[:100],
            machine_id=printable(get("id").splitlines()[0] if get("id") else "")[:100],
            os=printable(release.get("PRETTY_NAME", "").strip('"'))[:200],
            kernel=printable(get("kernel"))[:200],
            architecture=printable(get("machine"))[:40],
            cores=len(look.cores),
            memory=procfs.memory(parts.get("meminfo", ""), "").total,
            boot_time=float(boot[1]) if boot else now,
            addresses=[a for a in found if not a.startswith("127.") and a != "::1"][:64],
            time_zone=printable(get("zone"))[:60],
            virtual=_virtual(get("flags")),
        )


def _by_resource(text: str) -> dict[str, str]:
    """Lines that begin with a resource, as a text for each."""
    found: dict[str, str] = {}
    for line in text.splitlines():
        resource, there, rest = line.partition(" ")
        if there:
            found[resource] = f"{found.get(resource, '')}{rest}\n"
    return found


def _virtual(flags: str) -> str:
    if flags.endswith("container"):
        return "container"
    return "virtual machine" if " hypervisor" in flags else "physical" if flags else ""


def followed(
    file: FollowedFile,
    text: str,
    position: FilePlace | None,
    now: float,
    reader: LineReader | None = None,
) -> tuple[list[LogLine], FilePlace | None, dict[str, object]]:
    """The new lines of a followed file, how far it is read now, and how following it goes, in words."""
    head, _, content = text.partition("\n")
    words = head.split()
    status: dict[str, object] = {"path": file.path, "lines": 0, "behind": 0}
    if len(words) != 7 or not all(w.isdigit() for w in words[:5]):
        kind = words[0] if words and words[0] in ("missing", "directory", "special", "unreadable") else "missing"
        user = printable(words[1])[:40] if len(words) > 1 else "the account"
        status |= {
            "status": {"missing": "nothing-matches", "special": "unreadable"}.get(kind, kind),
            "detail": {
                "missing": "there is no such file: is the path right?",
                "directory": "this is a directory: name a file in it, or all of them with /*",
                "special": "this is no regular file, but a device, a pipe or a socket",
                "unreadable": f"{user} may not read this file",
            }[kind],
        }
        return [], position, status
    inode, size, offset, rest, after = (int(w) for w in words[:5])
    from_local = of_offset(words[5])
    raw = content.encode("utf-8", "surrogateescape")
    whole = raw[: raw.rfind(b"\n") + 1]
    if len(raw) - len(whole) > LONGEST_LINE:
        whole = raw
    used = len(whole)
    cut = position is not None and inode == position.inode and offset < position.offset and not rest
    if position and (after != inode or rest):
        # The old file is read to its end first; then the one begun after it from its beginning.
        done = used >= rest or not whole
        goes_on = FilePlace(position.inode, position.offset + used, _mark(whole, position.mark))
        reached = FilePlace(after, 0) if done else goes_on
        behind = size if done else rest - used
    else:
        known = position.mark if position and (position.inode, position.offset) == (inode, offset) else ""
        offered = words[6] if re.fullmatch(r"[1-9][0-9]?:[0-9a-f]{16}", words[6]) else ""
        reached = FilePlace(inode, offset + used, _mark(whole, known or offered))
        behind = max(0, size - offset - used)
    records, _ = Records(file.encoding, first_line=file.first_line, indented=file.indented).split(whole, last=True)
    leaves = leaving(file)
    texts = [record.text for record in records]
    lines = [line for text in texts if (line := _line(file.path, text, now, reader, from_local, leaves)) is not None]
    status |= {"lines": len(texts), "behind": behind, "status": "following" if size else "empty"}
    status["detail"] = f"{size} bytes" if size else "the file is there and readable, and has no line yet"
    if leaves is not None and leaves.left_out:
        status["detail"] = f"{status['detail']}; {leaves.left_out} of its lines not sent, as the plan's filter says"
    if cut:
        status["detail"] = f"{status['detail']}; it was cut, and is read from its beginning: lines before may be lost"
    return lines, reached, status


def _line(
    path: str, text: str, now: float, reader: LineReader | None, from_local: FromLocal, leaves: Leaving | None
) -> LogLine | None:
    if reader is not None:
        line = reader.read(text[:LONGEST_LINE], now, from_local)
    else:
        line = parse_line(text[:LONGEST_LINE], year_of=now, from_local=from_local)
    if line is None:
        return None
    moment = line.time if line.time is not None and abs(now - line.time) < 30 * 86_400 else now
    body, attributes = line.body, {"log.file.path": path, **line.attributes}
    source = os.path.basename(path)
    if leaves is not None:
        left = leaves.over(source, line.severity, body, attributes)
        if left is None:
            return None
        body, attributes = left
    return LogLine(moment, body, line.severity, source, attributes)

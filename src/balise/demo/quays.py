"""Stand-ins for servers that are read over SSH: an SSH server on loopback, one port a made-up Linux.

They answer the collector's script from a small model and run nothing: whatever else is sent is answered with nothing.
"""

from __future__ import annotations

import argparse
import asyncio
import contextlib
import hashlib
import math
import re
import time

import asyncssh

USER, PASSWORD = "balise", "made-of-oak"
_PARTS = re.compile(r"echo '@([0-9a-f]+) ([a-z0-9-]+)'")
_TICK, _PAGE = 100, 4096


class Quay:
    """One made-up Linux. Its name decides its size and how busy it is."""

    def __init__(self, name: str) -> None:
        self.name = name
        self._seed = int.from_bytes(hashlib.sha256(name.encode()).digest()[:4])
        self.machine_id = hashlib.sha256(f"machine {name}".encode()).hexdigest()[:32]
        self.cores = 2 + self._seed % 3 * 2
        self.memory = (2 + self._seed % 7) << 20
        self._booted = int(time.time()) - 86_400 * (1 + self._seed % 90)

    def answer(self, script: str, now: float) -> str:
        """What the script would print here."""
        found = _PARTS.findall(script)
        return "".join(f"\n@{nonce} {name}\n{self._part(name, now)}" for nonce, name in found)

    def _part(self, name: str, now: float) -> str:
        up = now - self._booted
        share = 0.2 + 0.15 * math.sin(now / 600 + self._seed)
        # The integral of the share, so that the counters only ever grow.
        worked = 0.2 * up - 90 * (math.cos(now / 600 + self._seed) - math.cos(self._booted / 600 + self._seed))
        busy, idle = worked * _TICK, (up - worked) * _TICK
        used = int(self.memory * (0.4 + 0.2 * math.sin(now / 3600 + self._seed)))
        moved = int(up * 40_000)
        parts = {
            "numbers": f"{_TICK} {_PAGE}",
            "stat": "cpu  0 0\n"
            + "".join(f"cpu{n} {busy * 0.7:.0f} 0 {busy * 0.3:.0f} {idle:.0f} 0 0 0 0 0 0\n" for n in range(self.cores))
            + f"btime {self._booted}",
            "loadavg": f"{share * self.cores:.2f} {share * self.cores:.2f} {share * self.cores:.2f} 1/90 4242",
            "uptime": f"{up:.2f} {up:.2f}",
            "meminfo": f"MemTotal: {self.memory} kB\nMemFree: {self.memory - used} kB\n"
            f"MemAvailable: {self.memory - used} kB\nBuffers: 0 kB\nCached: 0 kB\nSwapTotal: 0 kB\nSwapFree: 0 kB",
            "vmstat": "pswpin 0\npswpout 0",
            "mounts": "/dev/sda1 / ext4 rw,relatime 0 0",
            "blocks": f"head\n/dev/sda1 20000000 {8_000_000 + self._seed % 4_000_000} 9000000 50% /",
            "inodes": "head\n/dev/sda1 1300000 200000 1100000 16% /",
            "diskstats": f"8 0 sda {moved // 90} 0 {moved // 9} 100 {moved // 60} 0 {moved // 6} 200 0 {int(up)} 300",
            "cards": f"head\n eth0: {moved} {moved // 700} 0 0 0 0 0 0 {moved // 3} {moved // 900} 0 0 0 0 0 0",
            "processes": "\n".join(self._processes(busy)),
            "owners": "root /proc/1\nwww-data /proc/300\nbalise /proc/4242",
            "passwd": "root:x:0:0:root:/root:/bin/bash\nops:x:1000:1000::/home/ops:/bin/bash",
            "group": "root:x:0:\nsudo:x:27:ops\nops:x:1000:",
            "dpkg": "nginx\t1.22.1-9\tamd64\tinstalled\nopenssh-server\t1:9.2p1-2\tamd64\tinstalled",
            "tcp": f"head\n   0: 00000000:0016 00000000:0000 0A 0:0 00:0 0 0 0 {self._seed} 1 0",
            "unit-files": "nginx.service enabled enabled\nssh.service enabled enabled",
            "hardware": "eth0 02:00:00:00:00:01 1500 up",
            "addresses": f"2: eth0    inet 198.51.100.{self._seed % 250 + 1}/24 scope global eth0",
            "release": "6.1.0-18-amd64",
            "fact-name": self.name,
            "fact-kernel": "6.1.0-18-amd64",
            "fact-machine": "x86_64",
            "fact-id": self.machine_id,
            "fact-release": 'PRETTY_NAME="Debian GNU/Linux 12 (bookworm)"'
            if self._seed % 4
            else 'PRETTY_NAME="Debian 11"',
            "fact-addresses": f"198.51.100.{self._seed % 250 + 1}",
            "fact-zone": "UTC",
            "fact-flags": "flags : fpu hypervisor",
        }
        return parts.get(name, "7 0 0 0" if name.startswith("follow") else "")

    @staticmethod
    def _processes(busy: float) -> list[str]:
        line = "{} ({}) {} 1 1 1 0 -1 4 0 0 0 0 {:.0f} {:.0f} 0 0 20 0 1 0 {} 9000 {} 0 0"
        return [
            line.format(1, "init", "S", 900, 300, 5, 3000),
            line.format(300, "nginx", "S", busy * 0.5, busy * 0.1, 900, 24_000),
            line.format(4242, "sshd", "R", 10, 5, 999, 2200),
        ]


class _Door(asyncssh.SSHServer):
    """Lets in one user with one password."""

    def begin_auth(self, username: str) -> bool:
        del username
        return True

    def password_auth_supported(self) -> bool:
        return True

    def validate_password(self, username: str, password: str) -> bool:
        return (username, password) == (USER, PASSWORD)


async def listen(names: list[str], *, port: int = 0) -> list[tuple[str, int]]:
    """Starts one server a name on loopback; answers the port of each. `port` is the first one's, then one more each."""
    key = asyncssh.generate_private_key("ssh-ed25519")
    places = []
    for number, name in enumerate(names):
        quay = Quay(name)

        async def handle(process: asyncssh.SSHServerProcess[str], quay: Quay = quay) -> None:
            with contextlib.suppress(asyncssh.Error, OSError):
                process.stdout.write(quay.answer(await process.stdin.read(), time.time()))
                process.exit(0)

        server = await asyncssh.listen(
            "127.0.0.1",
            port + number if port else 0,
            server_factory=_Door,
            server_host_keys=[key],
            process_factory=handle,
            allow_scp=False,
        )
        places.append((name, server.sockets[0].getsockname()[1]))
    return places


def main() -> None:
    """Runs stand-ins until stopped and prints `name port` of each: for benches and for tests."""
    parser = argparse.ArgumentParser()
    parser.add_argument("count", type=int)
    parser.add_argument("--port", type=int, default=0)
    arguments = parser.parse_args()

    async def serve() -> None:
        for name, port in await listen([f"quay-{n:03d}" for n in range(arguments.count)], port=arguments.port):
            print(name, port, flush=True)
        await asyncio.Event().wait()

    with contextlib.suppress(KeyboardInterrupt):
        asyncio.run(serve())


if __name__ == "__main__":
    main()

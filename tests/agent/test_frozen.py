"""The agent that `make agent` builds, on a machine without Python: a root with a shell, a C library, zlib and /proc."""

from __future__ import annotations

import os
import shutil
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import psutil
import pytest

from balise.api.access import NewEnrolmentKey
from running import Service, until

ROOT = Path(__file__).parents[2]
TOOLS = ("/bin/sh", "/bin/cp", "/bin/mv", "/bin/rm", "/bin/mkdir", "/usr/bin/dirname")
MOST_MEMORY = 60 << 20
"""The budget of an agent, bytes."""

pytestmark = pytest.mark.skipif(os.getuid() != 0, reason="only root can change the root of a process")


@pytest.fixture(scope="module")
def built(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("frozen") / "agent"
    subprocess.run([ROOT / "tools" / "build-agent", folder], check=True, capture_output=True, timeout=400)
    return folder


@pytest.fixture
def machine(built: Path, tmp_path: Path) -> Iterator[Path]:
    """A root with the agent's folder, and nothing of Python."""
    root = tmp_path / "root"
    for folder in ("proc", "tmp", "var/log", "etc", "var/lib", "usr/bin"):
        (root / folder).mkdir(parents=True)
    (root / "bin").symlink_to("usr/bin")
    for tool in TOOLS:
        shutil.copy(tool, root / "usr" / "bin")
        for line in subprocess.run(["ldd", tool], check=True, capture_output=True, text=True).stdout.splitlines():
            for library in (word for word in line.split() if word.startswith("/")):
                place = root / library.lstrip("/")
                place.parent.mkdir(parents=True, exist_ok=True)
                shutil.copy(library, place)
    for library in (
        "libpthread.so.0",
        "libdl.so.2",
        "libutil.so.1",
        "libm.so.6",
        "librt.so.1",
        "libresolv.so.2",
        "libz.so.1",
    ):
        shutil.copy(f"/lib/x86_64-linux-gnu/{library}", root / "lib/x86_64-linux-gnu")
    (root / "etc" / "machine-id").write_text("5f" * 16)
    shutil.copytree(built, root / "agent")
    mounted = subprocess.run(["mount", "--bind", "/proc", root / "proc"], check=False, capture_output=True)
    if mounted.returncode:
        pytest.skip(f"/proc cannot be mounted here: {mounted.stderr.decode()}")
    yield root
    subprocess.run(["umount", "-l", root / "proc"], check=True)


def on(machine: Path, *words: str) -> subprocess.CompletedProcess[str]:
    home = {"PATH": "/usr/bin:/bin", "HOME": "/tmp", "BALISE_AGENT_STATE": "/var/lib/balise-agent"}
    return subprocess.run(
        ["/usr/sbin/chroot", machine, *words], check=False, capture_output=True, text=True, env=home, timeout=120
    )


def test_an_agent_without_python_is_installed_enrolled_and_collects(own_service: Service, machine: Path) -> None:
    assert not list(machine.glob("usr/bin/python*"))
    with own_service.client() as admin:
        key = admin.keys.create(NewEnrolmentKey(label="bare", uses=2)).key
        words = ("agent", "--console", own_service.url, "--key", key, "--name", "bare")
        done = on(machine, "/bin/sh", "/agent/install", *words)
        assert done.returncode == 0 and "enrolled as bare" in done.stdout, done.stderr
        assert "installed balise 0.1.0 in /opt/balise" in done.stdout
        unit = on(machine, "/opt/balise/bin/balise", "agent", "unit")
        assert "ExecStart=/opt/balise/bin/balise agent run" in unit.stdout
        check = on(machine, "/opt/balise/bin/balise", "agent", "check")
        assert "reads cpu" in check.stdout, check.stdout + check.stderr
        other = on(machine, "/opt/balise/bin/balise", "host", "list")
        assert other.returncode == 2 and "an agent alone" in other.stderr
        # The same again renews what is there.
        assert on(machine, "/bin/sh", "/agent/install", *words).returncode == 0
        home = {"PATH": "/usr/bin", "HOME": "/tmp", "BALISE_AGENT_STATE": "/var/lib/balise-agent"}
        command = ["/usr/sbin/chroot", machine, "/opt/balise/bin/balise", "agent", "run"]
        agent = subprocess.Popen(command, env=home, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        try:
            until(lambda: "balise.cpu.busy" in [m.name for m in admin.metrics.list("bare")], 60)
            time.sleep(3)
            assert psutil.Process(agent.pid).memory_info().rss < MOST_MEMORY
        finally:
            agent.terminate()
            agent.wait(20)


def test_a_folder_for_agents_makes_no_relay(machine: Path) -> None:
    done = on(machine, "/bin/sh", "/agent/install", "relay", "--console", "http://127.0.0.1:1", "--key", "k")
    assert done.returncode == 1 and "take wheels for a relay" in done.stderr

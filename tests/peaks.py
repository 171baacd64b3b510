"""What a service is seen to take from outside."""

from __future__ import annotations

from pathlib import Path

from running import Service


def peak_mib(service: Service) -> float:
    """The most memory that it has held at once, MiB."""
    status = Path(f"/proc/{service._process.pid}/status").read_text()  # type: ignore[union-attr]
    return int(status.split("VmHWM:")[1].split()[0]) / 1024

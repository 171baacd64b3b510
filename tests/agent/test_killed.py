"""A follower that is killed and rotated under again and again loses no line and doubles none."""

from __future__ import annotations

import os
import random
import shutil
import subprocess
import sys
import time
from pathlib import Path

from opentelemetry.proto.collector.logs.v1.logs_service_pb2 import ExportLogsServiceRequest

from running import until

SOAK = os.environ.get("SOAK") == "yes"
KILLS, LINES = (100, 1_000_000) if SOAK else (14, 20_000)


def spooled(folder: Path) -> list[str]:
    """All lines in the spool, in the order in which they would be delivered."""
    found = []
    for parcel in sorted((folder / "spool").glob("*.logs")):
        request = ExportLogsServiceRequest.FromString(parcel.read_bytes())
        found += [r.body.string_value for r in request.resource_logs[0].scope_logs[0].log_records]
    return found


def test_no_line_is_lost_or_doubled(tmp_path: Path) -> None:
    rng = random.Random(11)
    log, child = tmp_path / "app.log", Path(__file__).with_name("killed.py")
    log.touch()
    said = turned = 0
    for round_ in range(KILLS + 1):
        words = [sys.executable, str(child), str(tmp_path), str(log)]
        with subprocess.Popen(words, stdout=subprocess.PIPE, text=True) as process:
            assert process.stdout is not None and process.stdout.readline() == "ready\n"
            last = LINES * (round_ + 1) // (KILLS + 1)
            until_killed = time.monotonic() + rng.uniform(0.0, 0.25)
            while said < last or time.monotonic() < until_killed:
                count = min(rng.randrange(1, 400), last - said)
                with log.open("a") as file:
                    # What is written at once may end within a line.
                    text = "".join(f"line {n} of it\n" for n in range(said, said + count))
                    cut = rng.randrange(len(text)) if text else 0
                    file.write(text[:cut])
                    file.flush()
                    file.write(text[cut:])
                said += count
                if rng.random() < 0.15 and count:
                    turned += 1
                    # Renamed: who writes goes on with a new file.
                    log.rename(tmp_path / f"app.log.{turned:04d}")
                    log.touch()
                if not count:
                    time.sleep(0.01)
            if round_ < KILLS:
                process.kill()
                process.wait()
                if rng.random() < 0.5 and log.stat().st_size:
                    turned += 1
                    log.rename(tmp_path / f"app.log.{turned:04d}")
                    log.touch()
            else:
                try:
                    until(lambda: len(spooled(tmp_path)) >= LINES, 120 if SOAK else 60)
                finally:
                    process.kill()
                    process.wait()
    found = spooled(tmp_path)
    assert found == [f"line {n} of it" for n in range(LINES)]
    assert turned > 3
    shutil.rmtree(tmp_path / "spool")

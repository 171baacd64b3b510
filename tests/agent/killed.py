"""A follower in a process of its own, to be killed: follows one file into a spool, as an agent does, until it is."""

from __future__ import annotations

import sys
import time
from pathlib import Path

from balise.agent.following import Following
from balise.agent.handover import Handover
from balise.agent.places import Places
from balise.agent.spool import Spool
from balise.api.remote import FollowedFile
from balise.collect.otlp import logs_request


def main(folder: Path, log: str) -> None:
    spool, places = Spool(folder / "spool", 1 << 40), Places(folder / "positions.json")
    handover = Handover(spool, places)
    following = Following(places.get)
    print("ready", flush=True)
    while True:
        now = time.time()
        following.take_up([FollowedFile(path=log, from_start=True)], now)
        lines = following.lines(now)
        if lines or places.differs(following.positions()):
            handover.put(logs_request({"host.name": "pier-1"}, lines, []), following.positions())
        else:
            time.sleep(0.002)


if __name__ == "__main__":
    main(Path(sys.argv[1]), sys.argv[2])

"""`python -m balise.front`: how the console begins its front. Nobody else has a use for it."""

from __future__ import annotations

import argparse
import asyncio
import logging
import signal
import socket
from pathlib import Path

from balise.front.front import serve
from balise.front.ownhosts import OwnHosts
from balise.front.pages import Pages
from balise.listen.connection import Loop
from balise.listen.rubbish import look_rarely


def _words() -> argparse.Namespace:
    parser = argparse.ArgumentParser(prog="balise.front", description=__doc__)
    parser.add_argument("--listener", type=int, required=True, help="the listening socket, a file number")
    parser.add_argument("--line", type=int, required=True, help="the socket to the console, a file number")
    parser.add_argument("--large", type=int, required=True, help="bytes of all large bodies at once")
    parser.add_argument("--web", type=Path, required=True, help="the files of the web console")
    parser.add_argument("--url", required=True, help="where the console listens")
    parser.add_argument("--public-url", default="", help="how others reach it")
    parser.add_argument("--certificate", type=Path)
    parser.add_argument("--key", type=Path)
    return parser.parse_args()


def main() -> None:
    words = _words()
    logging.basicConfig(level=logging.WARNING, format="%(asctime)s %(levelname)s %(name)s %(message)s")
    look_rarely()
    # The console says when to end, and ends the line when it ends itself.
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, signal.SIG_IGN)
    tls = (words.certificate, words.key) if words.certificate else None
    listener, line = socket.socket(fileno=words.listener), socket.socket(fileno=words.line)
    with asyncio.Runner(loop_factory=Loop) as runner:
        hosts = OwnHosts(words.public_url, words.url)
        runner.run(serve(listener, line, Pages(words.web), hosts, most_large=words.large, tls=tls))


if __name__ == "__main__":
    main()

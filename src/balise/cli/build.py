"""Building the words of commands."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from pathlib import Path
from typing import Any

from balise.cli.errors import CommandError

DEFAULT_LISTEN = "127.0.0.1:8808"
Run = Callable[[argparse.Namespace], int]


def form(parser: argparse.ArgumentParser) -> None:
    """How the answer is printed."""
    parser.add_argument("--format", choices=("table", "json", "csv"), default="table", help="table, unless given")


def verbs(noun: argparse.ArgumentParser) -> Any:
    """Where the verbs of a noun are added."""
    return noun.add_subparsers(dest="verb", metavar="VERB", required=True)


def verb(of: Any, name: str, help_: str, run: Run, *, form_: bool = True) -> argparse.ArgumentParser:
    """A verb that calls `run`; with `form_`, its answer can be printed in several ways."""
    made: argparse.ArgumentParser = of.add_parser(name, help=help_)
    if form_:
        form(made)
    made.set_defaults(run=run)
    return made


def filters(parser: argparse.ArgumentParser, about: str | None = None) -> None:
    """Which things: by a filter, by one that has a name, or by both."""
    parser.add_argument("--where", metavar="FILTER", help=about)
    parser.add_argument("--filter", metavar="NAME", help="a filter that has a name (balise filter list)")


def span(parser: argparse.ArgumentParser, default: str) -> None:
    """From when to when."""
    parser.add_argument(
        "--from", dest="from_", default=default, metavar="TIME", help=f"like -15m, or RFC 3339 ({default})"
    )
    parser.add_argument("--to", default="now", metavar="TIME", help="(now)")


def data(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--data", metavar="DIR", help="the console's data folder (BALISE_DATA)")


def serving(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--listen", metavar="ADDR:PORT", default=DEFAULT_LISTEN, help=f"where to listen ({DEFAULT_LISTEN})"
    )
    data(parser)


def trust(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--fingerprint", default="", metavar="sha256:HEX", help="of the console's certificate, pinned")
    parser.add_argument("--ca", type=Path, metavar="FILE", help="certificates of the authority to trust")


def listen_address(text: str) -> tuple[str, int]:
    """`127.0.0.1:8808` or `[::1]:8808` as address and port."""
    address, _, port = text.rpartition(":")
    if not address or not port.isdecimal() or not 0 < int(port) < 65536:
        raise CommandError(f"--listen {text!r}: write an address and a port, such as {DEFAULT_LISTEN}")
    return address.strip("[]"), int(port)


def targets(words: list[str]) -> dict[str, Any]:
    """KEY=VALUE words as a target."""
    found: dict[str, Any] = {}
    for word in words:
        key, there, value = word.partition("=")
        if not there or not key:
            raise CommandError(f"--target {word!r}: write it as KEY=VALUE")
        found[key] = value
    return found

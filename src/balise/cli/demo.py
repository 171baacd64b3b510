"""`balise demo`: a console with a made-up fleet, and the stories that happen to it."""

from __future__ import annotations

import argparse
import time

from balise.api.spans import instant, rfc3339
from balise.cli.build import form, listen_address, serving
from balise.cli.errors import CommandError
from balise.cli.here import log_to_stderr, server_packages
from balise.cli.output import show

MOST_SEED = 1 << 31


def add(demo: argparse.ArgumentParser) -> None:
    serving(demo)
    demo.add_argument("--hosts", type=int, metavar="N", help="how many made-up hosts (all of them)")
    demo.add_argument("--days", type=float, metavar="N", default=7.0, help="days of history to lay down (7)")
    demo.add_argument("--seed", type=int, metavar="N", help="another world of the same shape (0, or the one there is)")
    demo.add_argument("--no-this-host", action="store_true", help="do not enrol this machine with a real agent")
    demo.set_defaults(run=_demo)
    verbs = demo.add_subparsers(dest="verb", metavar="VERB")
    story = verbs.add_parser("story", help="begin a story in the demo that runs")
    story.add_argument("name", metavar="NAME", help="which story: balise demo stories --format table")
    story.add_argument("--at", metavar="TIME", default="now", help="when it begins (now)")
    story.set_defaults(run=_story)
    stories = verbs.add_parser("stories", help="list the stories of the history, and where people would notice them")
    form(stories)
    stories.set_defaults(run=_stories)
    for one in (story, stories):
        one.add_argument("--data", metavar="DIR", default=argparse.SUPPRESS, help="where the demo keeps its data")


def _demo(arguments: argparse.Namespace) -> int:
    server_packages()
    from balise.demo.run import run_demo

    if arguments.seed is not None and not 0 <= arguments.seed < MOST_SEED:
        raise CommandError(f"--seed {arguments.seed}: give a number from 0 to {MOST_SEED - 1}")
    log_to_stderr()
    address, port = listen_address(arguments.listen)
    return run_demo(
        address,
        port,
        data=arguments.data,
        hosts=arguments.hosts,
        days=arguments.days,
        this_host=not arguments.no_this_host,
        seed=arguments.seed,
    )


def _story(arguments: argparse.Namespace) -> int:
    server_packages()
    from balise.demo.logbook import Logbook
    from balise.demo.run import demo_folder
    from balise.demo.tales import TALES

    if arguments.name not in TALES:
        raise CommandError(f"there is no story {arguments.name[:40]!r}: the stories are {', '.join(sorted(TALES))}")
    try:
        at = instant(arguments.at, time.time())
    except ValueError as error:
        raise CommandError(f"--at: {error}") from None
    folder = demo_folder(arguments.data)
    book = Logbook(folder)
    if not book.begun:
        raise CommandError(f"no demo keeps its data in {folder}: start one with balise demo, or name its --data")
    one = book.ask(arguments.name, at)
    print(f"{one.story} from {rfc3339(one.start)} to {rfc3339(one.end)}, seen at {_seen(one.story)}")
    return 0


def _stories(arguments: argparse.Namespace) -> int:
    server_packages()
    from balise.demo.logbook import Logbook
    from balise.demo.run import demo_folder
    from balise.demo.tales import TALES

    folder = demo_folder(arguments.data)
    book = Logbook(folder)
    if not book.begun:
        raise CommandError(f"no demo has begun in {folder}: start one with balise demo, or name its --data")
    told = book.told()
    items = [{"story": o.story, "start": o.start, "end": o.end, "seen": dict(TALES[o.story].seen)} for o in told]
    if arguments.format == "json":
        show(items, [], "json")
        return 0
    columns = [
        ("story", lambda item: item["story"]),
        ("from", lambda item: rfc3339(item["start"])),
        ("to", lambda item: rfc3339(item["end"])),
        ("seen at", lambda item: _seen(item["story"])),
    ]
    show({"items": items}, columns, arguments.format, empty="No story happened yet.")
    return 0


def _seen(story: str) -> str:
    from balise.demo.tales import TALES

    return ", ".join(f"{kind} {name}" for kind, name in TALES[story].seen.items())

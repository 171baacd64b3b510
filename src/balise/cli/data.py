"""`balise data`: copying, putting back, verifying and exporting everything that a console keeps."""

from __future__ import annotations

import argparse
import os
import signal
import time
from pathlib import Path
from types import FrameType
from typing import Any

from balise.api.data import ExportBody
from balise.api.spans import instant, rfc3339, seconds
from balise.cli.build import data, verb, verbs
from balise.cli.connect import console, model
from balise.cli.errors import CommandError
from balise.cli.here import server_packages
from balise.cli.output import Column, local_time, show
from balise.cli.progress import Telling
from balise.core.moments import nanos
from balise.core.quantities import in_words

ALL = "points,rollups,events"
EARLIEST, LATEST = "1970-01-01T00:00:00Z", "2200-01-01T00:00:00Z"


def add(noun: argparse.ArgumentParser) -> None:
    of = verbs(noun)
    backup = verb(of, "backup", "copy everything into an empty folder, while the console runs", _backup, form_=False)
    backup.add_argument("to", metavar="DIR", type=Path, help="an empty folder, or one in which a backup was broken off")
    backup.add_argument("--without-key", action="store_true", help="leave out the key that reads secrets")
    restore = verb(of, "restore", "put a backup back into a new folder", _restore, form_=False)
    restore.add_argument("backup", metavar="DIR", type=Path, help="where the backup is")
    check = verb(of, "check", "verify everything that is kept", _check)
    check.add_argument("--mend", action="store_true", help="put right what can be; no console may run on it")
    export = verb(of, "export", "write history as Parquet, for other systems to read", _export, form_=False)
    export.add_argument(
        "--to", metavar="DIR", type=Path, required=True, help="a folder of its own; what is there goes on"
    )
    _wanted(export)
    export.add_argument("--follow", action="store_true", help="go on with what comes, until it is stopped")
    export.add_argument("--every", metavar="SPAN", default="1h", help="with --follow: how often (1h)")
    for one in (backup, restore, check, export):
        data(one)
    for one in (backup, export):
        one.add_argument("--progress", choices=("words", "json"), default="words", help=argparse.SUPPRESS)
    _add_running(of)


def _wanted(export: argparse.ArgumentParser) -> None:
    export.add_argument("--from", dest="from_", metavar="TIME", help="(all there is)")
    export.add_argument("--until", metavar="TIME", help="(all there is)")
    export.add_argument("--what", metavar="KINDS", default=ALL, help=f"({ALL})")


def _add_running(of: Any) -> None:
    """What is asked of a console that runs, wherever it is."""
    verb(of, "show", "what everything takes, how it grows, what it will be, and what is at work", _show)
    there = verb(
        of, "backup-there", "have the console back itself up into a folder of its machine", _back_up, form_=False
    )
    there.add_argument("name", nargs="?", help="of the folder (the moment)")
    verb(of, "exports", "exports that the console does by itself", _exports)
    export = verb(of, "export-there", "have the console export by itself, once or on and on", _put_export, form_=False)
    export.add_argument("name")
    _wanted(export)
    export.add_argument("--follow", action="store_true", help="go on with what comes")
    export.add_argument("--every", metavar="SPAN", help="with --follow: how often (1h)")
    ended = verb(of, "end-export", "have the console export no more under a name", _delete_export, form_=False)
    ended.add_argument("name")
    ended.add_argument("--files", action="store_true", help="remove what was exported, too")


def _folder(arguments: argparse.Namespace) -> Path:
    server_packages()
    from balise.server.folder import data_folder

    return data_folder(arguments.data)


def _backup(arguments: argparse.Namespace) -> int:
    folder = _folder(arguments)
    from balise.store.copies.backup import Backup
    from balise.store.folders import KEY

    told = Telling(as_json=arguments.progress == "json", unit="bytes")
    _gently()
    try:
        made = Backup(folder, arguments.to, told, key=not arguments.without_key).run()
    finally:
        told.end()
    print(
        f"{arguments.to} holds everything as it was at {rfc3339(made.at)}: {len(made.files)} files, "
        f"{in_words(made.size, 'By')}, verified."
    )
    if made.holds(KEY):
        print("It has the key that reads secrets: keep it as safe as the console.")
    else:
        print(f"It has no key that reads secrets: keep {folder / KEY} elsewhere.")
    return 0


def _restore(arguments: argparse.Namespace) -> int:
    if not arguments.data:
        raise CommandError("--data: name the new folder that the backup is put into")
    folder = _folder(arguments)
    from balise.store.copies.restore import Restore
    from balise.store.folders import KEY

    told = Telling(unit="bytes")
    try:
        made = Restore(arguments.backup, folder, told).run()
    finally:
        told.end()
    print(
        f"{folder} is whole: everything as it was at {rfc3339(made.at)}, {in_words(made.size, 'By')}.\n"
        f"Start a console on it: balise serve --data {folder}"
    )
    if not made.holds(KEY):
        print(f"Before that, put the key that reads secrets into {folder / KEY}: it is not in the backup.")
    return 0


def _check(arguments: argparse.Namespace) -> int:
    folder = _folder(arguments)
    from balise.store.checks.whole import Check

    told = Telling()
    check = Check(folder, told, mend=arguments.mend)
    try:
        found = list(check.findings())
    finally:
        told.end()
    items = [{"where": f.where, "what": f.what, "mended": f.mended or None, "remedy": f.remedy or None} for f in found]
    if arguments.format != "table":
        show(items, [], arguments.format)
    else:
        for one in found:
            print(one.text)
        state = "all of it is whole" if not found else f"{len(found)} findings"
        print(f"{check.samples:,} points in blocks and {check.events:,} events were looked at: {state}")
    return 1 if any(not one.mended for one in found) else 0


def _export(arguments: argparse.Namespace) -> int:
    folder = _folder(arguments)
    from balise.store.exports.export import Export

    what = _kinds(arguments.what)
    now = time.time()
    try:
        start = nanos(instant(arguments.from_ or EARLIEST, now))
        end = nanos(instant(arguments.until or LATEST, now))
        every = seconds(arguments.every)
    except ValueError as error:
        raise CommandError(str(error)) from None
    if every < 60:
        raise CommandError(f"--every {arguments.every}: a minute or more")
    told = Telling(as_json=arguments.progress == "json")
    _gently()
    signal.signal(signal.SIGTERM, _leave)
    while True:
        try:
            days, ledger = Export(folder, arguments.to, what, start, end, told).run()
        finally:
            told.end()
        print(
            f"{rfc3339(time.time())}  {days} days written; {arguments.to} holds {ledger.rows:,} rows, "
            f"{in_words(ledger.size, 'By')}",
            flush=True,
        )
        if not arguments.follow:
            return 0
        time.sleep(every)


def _kinds(text: str) -> list[str]:
    what = [word for word in text.split(",") if word]
    if not what or set(what) - set(ALL.split(",")):
        raise CommandError(f"--what {text!r}: some of {ALL}, with commas between them")
    return what


def _show(arguments: argparse.Namespace) -> int:
    with console() as c:
        answer = c.data.show()
    if arguments.format == "json":
        print(answer.model_dump_json(indent=2))
        return 0
    columns: list[Column] = [
        ("what", lambda x: x["kind"]),
        ("takes", lambda x: in_words(x["bytes"], "By")),
        ("a day of it", lambda x: in_words(x["per_day"], "By")),
        ("is kept for", lambda x: f"{x['days']:g} d" if x["days"] else ""),
    ]
    show({"items": [one.model_dump() for one in answer.sizes]}, columns, arguments.format)
    if arguments.format == "csv":
        return 0
    print(f"\nall of it      {in_words(answer.bytes, 'By')}, and {in_words(answer.free_bytes, 'By')} are free")
    for ahead in answer.forecast:
        print(f"in {ahead.in_days:>3} d       {in_words(ahead.bytes, 'By')}, if each day is like yesterday")
    if not answer.forecast:
        print("what it will be is told after a whole day")
    whole = [one for one in answer.backups if one.state == "whole"]
    newest = f"the newest of {local_time(whole[0].at)}, {whole[0].name}" if whole else f"none in {answer.backups_in}"
    print(f"backups        {len(whole)}, {newest}" if whole else f"backups        {newest}")
    for one in answer.backups:
        if one.state != "whole":
            print(f"backup {one.name} is {one.state}" + (f": {one.said}" if one.said else ""))
    for job in answer.jobs:
        print(f"{job.kind} {job.name} is at work: {job.done / job.of if job.of else 0:.0%} {job.at_hand}")
    return 0


def _back_up(arguments: argparse.Namespace) -> int:
    with console() as c:
        begun = c.data.back_up(arguments.name)
        where = c.data.show().backups_in
    print(
        f"backup {begun.name} is under way, in {where} of the console's machine: balise data show tells how far it is"
    )
    return 0


def _exports(arguments: argparse.Namespace) -> int:
    with console() as c:
        items = [one.model_dump(by_alias=True) for one in c.data.exports()]
    columns: list[Column] = [
        ("name", lambda x: x["name"]),
        ("state", lambda x: x["state"]),
        ("what", lambda x: ", ".join(x["what"])),
        ("every", lambda x: x["every"] if x["follow"] else "once"),
        ("rows", lambda x: f"{x['rows']:,}"),
        ("size", lambda x: in_words(x["bytes"], "By")),
        ("written", lambda x: local_time(x["written_at"])),
        ("into", lambda x: x["to"]),
        ("said", lambda x: x["said"]),
    ]
    show({"items": items}, columns, arguments.format, empty="The console exports nothing by itself.")
    return 0


def _put_export(arguments: argparse.Namespace) -> int:
    said = {"from": arguments.from_, "until": arguments.until, "every": arguments.every}
    body = model(ExportBody, what=_kinds(arguments.what), follow=arguments.follow, **said)
    with console() as c:
        made = c.data.put_export(arguments.name, body)
    print(
        f"export {made.name} writes into {made.to} of the console's machine"
        + (f", every {made.every}" if made.follow else "")
    )
    return 0


def _delete_export(arguments: argparse.Namespace) -> int:
    with console() as c:
        print(c.data.delete_export(arguments.name, files=arguments.files))
    return 0


def _gently() -> None:
    """Lets the console go first."""
    os.nice(10)


def _leave(_number: int, _frame: FrameType | None) -> None:
    raise KeyboardInterrupt

"""`balise status`: what the console says of itself."""

from __future__ import annotations

import argparse
import json
import sys
from typing import Any

from balise.cli.build import form
from balise.cli.connect import console
from balise.cli.output import printable, show
from balise.cli.words import said as told


def add(status: argparse.ArgumentParser) -> None:
    form(status)
    status.set_defaults(run=_status)


def _status(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/status")
    flat = {k: v for k, v in answer.items() if not isinstance(v, dict)}
    figures = answer.get("figures") or {}
    storage = figures.pop("storage", {})
    counters = figures.pop("counters", {})
    words = told if a.format == "table" else lambda _name, value: value
    said = {k: words(k, v) for k, v in figures.items()} | {f"storage.{k}": words(k, v) for k, v in storage.items()}
    flat |= said | {f"counter.{k}": v for k, v in counters.items()}
    for warning in answer.get("warnings", []):
        print(f"warning: {printable(warning)}", file=sys.stderr)
    if a.format == "json":
        print(json.dumps(answer if not storage else _together(answer, storage, counters), indent=2))
    else:
        show({"items": list(flat.items())}, [("what", lambda i: i[0]), ("value", lambda i: i[1])], a.format)
    return 0


def _together(answer: Any, storage: Any, counters: Any) -> Any:
    """The answer as it came, put together again."""
    answer["figures"] |= {"storage": storage, "counters": counters}
    return answer

"""Which console commands ask, and how."""

from __future__ import annotations

import contextlib
import json
import os
import sys
from pathlib import Path
from typing import Any

from balise.api.problems import message_of
from balise.cli.errors import CommandError
from balise.client import Balise


def signed_in_file() -> Path:
    return Path(os.environ.get("XDG_CONFIG_HOME", Path.home() / ".config")) / "balise" / "console.json"


def console() -> Balise:
    """The console of BALISE_URL and BALISE_TOKEN, else the one signed in to."""
    url, token = os.environ.get("BALISE_URL"), os.environ.get("BALISE_TOKEN")
    if not url or not token:
        with contextlib.suppress(OSError, ValueError):
            held = json.loads(signed_in_file().read_text("utf-8"))
            url, token = url or held["url"], token or held["token"]
    if not url:
        raise CommandError("which console? Set BALISE_URL and BALISE_TOKEN, or run: balise sign-in URL")
    return Balise(url, token)


def model(model: Any, /, **values: Any) -> Any:
    """A request; what is wrong with it is wrong usage."""
    try:
        return model(**{k: v for k, v in values.items() if v is not None})
    except ValueError as error:
        for line in problems_in(error)[:5]:
            print(f"balise: {line}", file=sys.stderr)
        raise SystemExit(2) from None


def problems_in(error: ValueError) -> list[str]:
    """What is wrong with a request, field by field."""
    details: list[Any] = getattr(error, "errors", list)()
    found = [f"{'.'.join(str(p) for p in one['loc'])}: {message_of(one)}" for one in details]
    return found or [str(error)]

"""`balise sign-in`: which console later commands ask."""

from __future__ import annotations

import argparse
import getpass
import json
import os
import sys

from balise.cli.connect import signed_in_file
from balise.cli.errors import CommandError
from balise.client import Balise


def add(sign_in: argparse.ArgumentParser) -> None:
    sign_in.add_argument("url")
    sign_in.add_argument("--token-stdin", action="store_true", help="read the token from standard input")
    sign_in.set_defaults(run=_sign_in)


def _sign_in(a: argparse.Namespace) -> int:
    token = sys.stdin.readline().strip() if a.token_stdin else getpass.getpass("Token: ").strip()
    with Balise(a.url, token) as c:
        me = c.me()
    if me.name is None:
        raise CommandError("the console does not know this token")
    path = signed_in_file()
    path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    with os.fdopen(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "w") as file:
        json.dump({"url": a.url, "token": token}, file)
    print(f"signed in to {a.url} as {me.name} ({me.role})")
    return 0

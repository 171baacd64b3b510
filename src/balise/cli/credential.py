"""`balise credential`: what Balise signs in with."""

from __future__ import annotations

import argparse
import getpass
import sys
from pathlib import Path
from typing import Any

from pydantic import TypeAdapter

from balise.api.credentials import CredentialBody
from balise.api.problems import message_of
from balise.cli.build import verb, verbs
from balise.cli.connect import console
from balise.cli.errors import CommandError
from balise.cli.output import Column, local_time, show
from balise.client.connection import quoted


def add(noun: argparse.ArgumentParser) -> None:
    credential = verbs(noun)
    verb(credential, "list", "all credentials", _list)
    put = verb(credential, "set", "make or change one; secrets come from files or standard input", _set, form_=False)
    put.add_argument("name")
    put.add_argument("--kind", choices=("ssh", "snmp", "login"), required=True)
    put.add_argument("--user")
    put.add_argument("--private-key", type=Path, metavar="FILE")
    put.add_argument("--secret-stdin", action="store_true", help="read password, passphrase or community from a line")
    put.add_argument("--version", choices=("2c", "3"), default="3", help="of SNMP (3)")
    put.add_argument("--auth", default="SHA-256", help="SNMP v3 authentication protocol (SHA-256)")
    put.add_argument("--privacy", default="AES-128", help="SNMP v3 privacy protocol (AES-128); none for none")
    put.add_argument("--role", choices=("operator", "administrator"), default="administrator", help="who may use it")
    put.add_argument("--group", action="append", default=[], help="only for hosts of this group; repeatable")
    put.add_argument("--anyway", action="store_true", help="keep it although it fails on hosts that use it")
    verb(credential, "delete", "take a credential away", _delete, form_=False).add_argument("name")


def _list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/credentials")
    columns: list[Column] = [
        ("credential", lambda x: x["name"]),
        ("kind", lambda x: x["kind"]),
        ("settings", lambda x: {k: v for k, v in x["settings"].items() if k != "public_key"}),
        ("hosts", lambda x: x["used_by"]),
        ("for role", lambda x: x["role"]),
        ("for groups", lambda x: x["groups"] or "all"),
        ("changed", lambda x: f"{local_time(x['updated_at'])} by {x['updated_by']}"),
    ]
    show(answer, columns, a.format, empty="No credentials. Make one with: balise credential set NAME --kind ssh …")
    return 0


def _set(a: argparse.Namespace) -> int:
    body: dict[str, Any] = {"kind": a.kind, "role": a.role, "groups": a.group}
    if a.kind == "ssh" and a.private_key:
        try:
            body |= {"user": a.user, "private_key": a.private_key.read_text("utf-8")}
        except OSError as error:
            raise CommandError(f"{a.private_key} cannot be read: {error.strerror}") from None
        if a.secret_stdin:
            body["passphrase"] = _secret(a, "Passphrase")
    elif a.kind == "snmp" and a.version == "2c":
        body |= {"version": "2c", "community": _secret(a, "Community")}
    elif a.kind == "snmp":
        body |= {"version": "3", "user": a.user, "auth": {"protocol": a.auth, "password": _secret(a, "Authentication")}}
        if a.privacy != "none":
            body["privacy"] = {"protocol": a.privacy, "password": _secret(a, "Privacy")}
    else:
        body |= {"user": a.user, "password": _secret(a, "Password")}
    checked = _credential(body)
    with console() as c:
        c.call("PUT", f"/credentials/{quoted(a.name)}", checked, anyway=a.anyway or None)
    print(f"credential {a.name} kept")
    return 0


def _credential(body: dict[str, Any]) -> Any:
    try:
        return TypeAdapter(CredentialBody).validate_python({k: v for k, v in body.items() if v is not None})
    except ValueError as error:
        for one in getattr(error, "errors", list)()[:5]:
            place = ".".join(str(p) for p in one["loc"] if p not in ("ssh", "snmp 2c", "snmp 3", "login"))
            print(f"balise: {place}: {message_of(one)}", file=sys.stderr)
        raise SystemExit(2) from None


def _secret(a: argparse.Namespace, what: str) -> str:
    return sys.stdin.readline().rstrip("\n") if a.secret_stdin else getpass.getpass(f"{what} secret: ")


def _delete(a: argparse.Namespace) -> int:
    with console() as c:
        print(c.call("DELETE", f"/credentials/{quoted(a.name)}")["detail"])
    return 0

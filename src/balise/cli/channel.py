"""`balise channel`: ways to reach people."""

from __future__ import annotations

import argparse
import sys

from balise.api.channels import EmailChannel, WebhookChannel
from balise.cli.build import verb, verbs
from balise.cli.connect import console, model
from balise.cli.output import Column, local_time, show


def add(noun: argparse.ArgumentParser) -> None:
    channels = verbs(noun)
    verb(channels, "list", "all channels", _list)
    webhook = verb(channels, "webhook", "add or change a webhook", _webhook, form_=False)
    webhook.add_argument("name")
    webhook.add_argument("url")
    webhook.add_argument("--bearer-stdin", action="store_true", help="read a bearer token from standard input")
    email = verb(channels, "email", "add or change mail", _email, form_=False)
    email.add_argument("name")
    email.add_argument("to", nargs="+")
    email.add_argument("--server", default="127.0.0.1")
    email.add_argument("--port", type=int, default=25)
    email.add_argument("--security", choices=("starttls", "tls", "none"), default="starttls")
    email.add_argument("--sender", default="balise@localhost.localdomain")
    email.add_argument("--user")
    email.add_argument("--password-stdin", action="store_true")
    verb(channels, "test", "send a test", _test, form_=False).add_argument("name")
    verb(channels, "delete", "take a channel away", _delete, form_=False).add_argument("name")


def _list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/channels")
    columns: list[Column] = [
        ("channel", lambda x: x["name"]),
        ("kind", lambda x: x["kind"]),
        ("to", lambda x: x["settings"].get("url") or x["settings"].get("to")),
        ("last result", lambda x: x["last_result"]),
        ("at", lambda x: local_time(x["last_at"])),
    ]
    show(answer, columns, a.format, empty="No channels: nobody is told of anything yet.")
    return 0


def _webhook(a: argparse.Namespace) -> int:
    bearer = sys.stdin.readline().strip() if a.bearer_stdin else None
    with console() as c:
        c.channels.set(a.name, model(WebhookChannel, kind="webhook", url=a.url, bearer=bearer))
    print(f"channel {a.name} kept; try it with: balise channel test {a.name}")
    return 0


def _email(a: argparse.Namespace) -> int:
    password = sys.stdin.readline().rstrip("\n") if a.password_stdin else None
    body = model(
        EmailChannel,
        kind="email",
        to=a.to,
        server=a.server,
        port=a.port,
        security=a.security,
        sender=a.sender,
        user=a.user,
        password=password,
    )
    with console() as c:
        c.channels.set(a.name, body)
    print(f"channel {a.name} kept; try it with: balise channel test {a.name}")
    return 0


def _test(a: argparse.Namespace) -> int:
    with console() as c:
        print(c.channels.test(a.name))
    return 0


def _delete(a: argparse.Namespace) -> int:
    with console() as c:
        c.channels.delete(a.name)
    print(f"channel {a.name} deleted")
    return 0

"""`balise channel`: ways to reach people."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import Any

from balise.api.channels import (
    CommandChannel,
    EmailChannel,
    Preview,
    SmsChannel,
    SnmpChannel,
    SyslogChannel,
    WebhookChannel,
)
from balise.cli.build import verb, verbs
from balise.cli.connect import console, model
from balise.cli.errors import CommandError
from balise.cli.output import Column, local_time, show


def add(noun: argparse.ArgumentParser) -> None:
    channels = verbs(noun)
    verb(channels, "list", "all channels", _list)
    webhook = verb(channels, "webhook", "add or change a webhook", _webhook, form_=False)
    webhook.add_argument("name")
    webhook.add_argument("url")
    webhook.add_argument("--bearer-stdin", action="store_true", help="read a bearer token from standard input")
    webhook.add_argument(
        "--signing-secret-stdin", action="store_true", help="read a signing secret (whsec_…) from standard input"
    )
    webhook.add_argument("--template", type=Path, metavar="FILE", help="a Jinja2 template of the body")
    webhook.add_argument("--of", choices=("incidents", "alerts"), default="incidents", help="(incidents)")
    email = verb(channels, "email", "add or change mail", _email, form_=False)
    email.add_argument("name")
    email.add_argument("to", nargs="+")
    email.add_argument("--server", default="127.0.0.1")
    email.add_argument("--port", type=int, default=25)
    email.add_argument("--security", choices=("starttls", "tls", "none"), default="starttls")
    email.add_argument("--sender", default="balise@localhost.localdomain")
    email.add_argument("--user")
    email.add_argument("--password-stdin", action="store_true")
    syslog = verb(channels, "syslog", "add or change syslog", _syslog, form_=False)
    syslog.add_argument("name")
    syslog.add_argument("server")
    syslog.add_argument("--port", type=int, default=514)
    syslog.add_argument("--transport", choices=("udp", "tcp", "tls"), default="udp", help="(udp)")
    snmp = verb(channels, "snmp", "add or change SNMP notifications", _snmp, form_=False)
    snmp.add_argument("name")
    snmp.add_argument("server")
    snmp.add_argument("--port", type=int, default=162)
    snmp.add_argument("--version", choices=("v2c", "v3"), default="v3", help="(v3)")
    snmp.add_argument("--user", help="of v3")
    snmp.add_argument("--traps", action="store_true", help="nobody answers them, and they may be lost")
    snmp.add_argument(
        "--secrets-stdin",
        action="store_true",
        help="read the community, or the passwords that sign and encrypt, each a line, from standard input",
    )
    sms = verb(channels, "sms", "add or change short messages", _sms, form_=False)
    sms.add_argument("name")
    sms.add_argument("url", help="of the gateway")
    sms.add_argument("to", nargs="+", help="numbers like +4799999999")
    sms.add_argument("--bearer-stdin", action="store_true", help="read a bearer token from standard input")
    sms.add_argument("--template", type=Path, metavar="FILE", help="a Jinja2 template of what the gateway takes")
    command = verb(channels, "command", "add or change a program that is run", _command, form_=False)
    command.add_argument("name")
    command.add_argument("arguments", nargs="+", metavar="ARGUMENT")
    preview = verb(channels, "preview", "what a template makes of a real incident", _preview, form_=False)
    preview.add_argument("template", type=Path, metavar="FILE")
    preview.add_argument("--incident", type=int, metavar="ID", help="(the newest)")
    verb(channels, "test", "send a test", _test, form_=False).add_argument("name")
    verb(channels, "delete", "take a channel away", _delete, form_=False).add_argument("name")


def _list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/channels")
    columns: list[Column] = [
        ("channel", lambda x: x["name"]),
        ("kind", lambda x: x["kind"]),
        ("to", _place),
        ("circuit", lambda x: "" if x["circuit"] == "closed" else "open: it fails"),
        ("waiting", lambda x: x["waiting"] or ""),
        ("last result", lambda x: x["last_result"]),
        ("at", lambda x: local_time(x["last_at"])),
    ]
    show(answer, columns, a.format, empty="No channels: nobody is told of anything yet.")
    return 0


def _place(channel: dict[str, Any]) -> Any:
    settings = channel["settings"]
    server = f"{settings.get('server')}:{settings.get('port')}"
    if channel["kind"] in ("syslog", "snmp"):
        return server
    return settings.get("to") or settings.get("url") or settings.get("arguments")


def _webhook(a: argparse.Namespace) -> int:
    bearer = sys.stdin.readline().strip() if a.bearer_stdin else None
    signing = sys.stdin.readline().strip() if a.signing_secret_stdin else None
    body = model(
        WebhookChannel,
        kind="webhook",
        url=a.url,
        bearer=bearer,
        signing_secret=signing,
        template=_read(a.template),
        of=a.of,
    )
    return _keep(a.name, body)


def _read(path: Path | None) -> str | None:
    try:
        return path.read_text("utf-8") if path is not None else None
    except (OSError, UnicodeError) as error:
        raise CommandError(f"{path}: {error}") from None


def _keep(name: str, body: Any) -> int:
    with console() as c:
        c.channels.set(name, body)
    print(f"channel {name} kept; try it with: balise channel test {name}")
    return 0


def _syslog(a: argparse.Namespace) -> int:
    return _keep(a.name, model(SyslogChannel, kind="syslog", server=a.server, port=a.port, transport=a.transport))


def _snmp(a: argparse.Namespace) -> int:
    lines = [line.strip() for line in sys.stdin.read().splitlines()] if a.secrets_stdin else []
    lines += [""] * 2
    secrets = (
        {"community": lines[0] or None}
        if a.version == "v2c"
        else {"authentication": lines[0] or None, "privacy": lines[1] or None}
    )
    body = model(
        SnmpChannel,
        kind="snmp",
        server=a.server,
        port=a.port,
        version=a.version,
        user=a.user,
        confirmed=not a.traps,
        **secrets,
    )
    return _keep(a.name, body)


def _sms(a: argparse.Namespace) -> int:
    bearer = sys.stdin.readline().strip() if a.bearer_stdin else None
    return _keep(a.name, model(SmsChannel, kind="sms", url=a.url, to=a.to, bearer=bearer, template=_read(a.template)))


def _command(a: argparse.Namespace) -> int:
    return _keep(a.name, model(CommandChannel, kind="command", arguments=a.arguments))


def _preview(a: argparse.Namespace) -> int:
    with console() as c:
        print(c.channels.preview(model(Preview, template=_read(a.template), incident=a.incident)))
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
    return _keep(a.name, body)


def _test(a: argparse.Namespace) -> int:
    with console() as c:
        print(c.channels.test(a.name))
    return 0


def _delete(a: argparse.Namespace) -> int:
    with console() as c:
        c.channels.delete(a.name)
    print(f"channel {a.name} deleted")
    return 0

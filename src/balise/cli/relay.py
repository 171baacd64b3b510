"""`balise relay`: relays at sites."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from balise.cli.build import listen_address, trust, verb, verbs
from balise.cli.connect import console
from balise.cli.errors import CommandError
from balise.cli.here import log_to_stderr, trust_of
from balise.cli.output import Column, ago, show
from balise.client.connection import quoted

RELAY_LISTEN = "127.0.0.1:8809"


def add(noun: argparse.ArgumentParser) -> None:
    relay = verbs(noun)
    enrol = relay.add_parser("enrol", help="trade an enrolment key for an identity of this relay")
    enrol.add_argument("--console", required=True, metavar="URL")
    enrol.add_argument("--key", required=True)
    enrol.add_argument("--name", help="the relay's name (relay-HOSTNAME)")
    enrol.add_argument("--site", help="the site it serves (the key's group)")
    trust(enrol)
    run = relay.add_parser("run", help="take, keep and forward until stopped, and read near hosts")
    run.add_argument("--listen", metavar="ADDR:PORT", default=RELAY_LISTEN, help=f"where to listen ({RELAY_LISTEN})")
    run.add_argument("--buffer", type=int, default=2048, metavar="MIB", help="how much may wait on disk (2048 MiB)")
    run.add_argument("--side-by-side", type=int, default=100, metavar="N", help="hosts read at once (100)")
    run.add_argument("--certificate", type=Path, metavar="FILE", help="serve HTTPS with this certificate (PEM chain)")
    run.add_argument("--key", type=Path, metavar="FILE", help="its private key (PEM), if not in the same file")
    unit = relay.add_parser("unit", help="print a systemd unit for the relay on this machine")
    for parser, command in ((enrol, _enrol), (run, _run), (unit, _unit)):
        parser.add_argument("--state", metavar="DIR", type=Path, help="the relay's state folder (BALISE_RELAY_STATE)")
        parser.set_defaults(run=command)
    verb(relay, "list", "all relays, and how they do", _list)
    verb(relay, "remove", "a relay may not forward any more", _remove, form_=False).add_argument("name")


def _enrol(arguments: argparse.Namespace) -> int:
    from balise.relay.identity import default_folder, enrol

    folder = arguments.state or default_folder()
    identity = enrol(
        folder,
        arguments.console,
        arguments.key,
        name=arguments.name,
        site=arguments.site,
        trust=trust_of(arguments),
    )
    place = f" at {identity.site}" if identity.site else ""
    print(f"enrolled as relay {identity.relay}{place}; now run: balise relay run --state {folder} --listen ADDR:PORT")
    return 0


def _run(arguments: argparse.Namespace) -> int:
    try:
        from balise.relay.run import run_relay
    except ImportError:
        raise CommandError("this needs the relay's packages: pip install 'balise[relay]'") from None
    from balise.relay.identity import default_folder

    log_to_stderr()
    address, port = listen_address(arguments.listen)
    return run_relay(
        arguments.state or default_folder(),
        address,
        port,
        limit=max(1, arguments.buffer) << 20,
        side_by_side=max(1, arguments.side_by_side),
        certificate=(arguments.certificate, arguments.key or arguments.certificate) if arguments.certificate else None,
    )


def _unit(arguments: argparse.Namespace) -> int:
    from balise.agent.unit import unit_text
    from balise.relay.identity import default_folder

    print(unit_text("relay", arguments.state or default_folder()), end="")
    return 0


def _list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/relays")
    columns: list[Column] = [
        ("state", lambda r: r["state"]),
        ("relay", lambda r: r["name"]),
        ("site", lambda r: r["site"]),
        ("agents behind", lambda r: r["behind"]),
        ("reads hosts", lambda r: r["remote_hosts"]),
        ("waiting", lambda r: _reported(r, "waiting")),
        ("dropped", lambda r: _reported(r, "dropped")),
        ("left out", lambda r: _reported(r, "thinned")),
        ("added up", lambda r: _reported(r, "summed")),
        ("last heard", lambda r: ago(r["last_seen"])),
    ]
    show(answer, columns, a.format, empty="No relays. Make a key and run `balise relay enrol` at a site.")
    return 0


def _reported(relay: Any, key: str) -> Any:
    return (relay["report"] or {}).get(key, "")


def _remove(a: argparse.Namespace) -> int:
    with console() as c:
        print(c.call("DELETE", f"/relays/{quoted(a.name)}")["detail"])
    return 0

"""Commands that run something here: the service, the demo, the agent; users and tokens of a data folder."""

from __future__ import annotations

import argparse
import logging
import os
import signal
import sys
from pathlib import Path
from types import FrameType
from typing import Any

from balise.client.errors import BaliseError

DEFAULT_LISTEN = "127.0.0.1:8808"
RELAY_LISTEN = "127.0.0.1:8809"


class CommandError(Exception):
    """Something a person has to put right; printed without a traceback."""


def expected_errors() -> tuple[type[Exception], ...]:
    """Errors whose message is meant for people."""
    found: list[type[Exception]] = [CommandError, BaliseError]
    if "balise.agent.identity" in sys.modules:
        from balise.agent.identity import AgentError

        found.append(AgentError)
    if "balise.relay.identity" in sys.modules:
        from balise.relay.identity import RelayError

        found.append(RelayError)
    if "balise.server.errors" in sys.modules:
        from balise.server.errors import Refused

        found.append(Refused)
    return tuple(found)


def add_commands(nouns: Any) -> dict[str, Any]:
    """Adds the commands; answers the verbs of nouns that can also be asked of a console."""
    serve = nouns.add_parser("serve", help="run the console")
    _serving(serve)
    serve.add_argument("--certificate", type=Path, metavar="FILE", help="serve HTTPS with this certificate (PEM chain)")
    serve.add_argument("--key", type=Path, metavar="FILE", help="its private key (PEM), if not in the same file")
    serve.add_argument(
        "--tls", choices=("off", "self"), default="off", help="self: HTTPS with a certificate of its own"
    )
    serve.add_argument("--public-url", default="", metavar="URL", help="how agents elsewhere reach this console")
    serve.add_argument(
        "--memory",
        type=int,
        metavar="MIB",
        help="what the console may hold in memory (2048, or half of a small machine's)",
    )
    serve.set_defaults(run=_serve)

    demo = nouns.add_parser("demo", help="run a console with the made-up fleet of Skerry Ferries")
    _serving(demo)
    demo.add_argument("--hosts", type=int, metavar="N", help="how many made-up hosts (all of them)")
    demo.add_argument("--days", type=float, metavar="N", default=7.0, help="days of history to lay down (7)")
    demo.add_argument("--no-this-host", action="store_true", help="do not enrol this machine with a real agent")
    demo.set_defaults(run=_demo)
    return {**_people(nouns), "agent": _agent(nouns), "relay": _relay(nouns)}


def _people(nouns: Any) -> dict[str, Any]:
    user = nouns.add_parser("user", help="people who may sign in").add_subparsers(dest="verb", required=True)
    add = user.add_parser("add", help="add a user; the password is read from standard input")
    add.add_argument("name")
    add.add_argument("--role", choices=("viewer", "operator", "administrator"), required=True)
    add.add_argument("--password-stdin", action="store_true", required=True, help="read the password's one line")
    _data(add)
    add.set_defaults(run=_user_add)
    token = nouns.add_parser("token", help="tokens for programs").add_subparsers(dest="verb", required=True)
    create = token.add_parser("create", help="make a token and print it, alone")
    create.add_argument("name")
    create.add_argument("--role", choices=("viewer", "operator", "administrator", "ingest"), required=True)
    create.add_argument(
        "--hosts", metavar="FILTER", help="ingest: for hosts that this chooses, like 'name sw \"gate-\"'"
    )
    create.add_argument("--kinds", nargs="+", choices=("metrics", "logs"), help="ingest: what it may deliver")
    create.add_argument("--new-hosts", type=int, metavar="N", help="ingest: how many hosts it may make (1000)")
    create.add_argument("--collected", action="store_true", help="ingest: also for hosts that are collected from")
    _data(create)
    create.set_defaults(run=_token_create)
    return {"user": user, "token": token}


def _agent(nouns: Any) -> Any:
    agent = nouns.add_parser("agent", help="the agent of this host").add_subparsers(dest="verb", required=True)
    enrol = agent.add_parser("enrol", help="trade an enrolment key for an identity of this host")
    enrol.add_argument("--console", required=True, metavar="URL")
    enrol.add_argument("--key", required=True)
    enrol.add_argument("--name", help="the host's name, if not its own")
    enrol.add_argument(
        "--take-over", action="store_true", help="go on with the identity and history that this machine or name has"
    )
    enrol.add_argument("--follow", action="append", default=[], metavar="PATH", help="a log file to follow; repeatable")
    check = agent.add_parser("check", help="what works between this host and its console, and what does not")
    check.add_argument("--console", metavar="URL", help="the console, if this host is not enrolled yet")
    check.add_argument("--key", help="an enrolment key to try, without using it up")
    check.add_argument("--name", help="the host's name, if not its own")
    run = agent.add_parser("run", help="collect and deliver until stopped")
    leave = agent.add_parser("leave", help="retire this host: its history stays in the console, its identity goes")
    unit = agent.add_parser("unit", help="print a systemd unit for the agent on this host")
    _trust(enrol)
    _trust(check)
    for parser, command in (
        (enrol, _agent_enrol),
        (check, _agent_check),
        (run, _agent_run),
        (leave, _agent_leave),
        (unit, _agent_unit),
    ):
        parser.add_argument("--state", metavar="DIR", type=Path, help="the agent's state folder (BALISE_AGENT_STATE)")
        parser.set_defaults(run=command)
    return agent


def _relay(nouns: Any) -> Any:
    relay = nouns.add_parser("relay", help="a relay at a site").add_subparsers(dest="verb", required=True)
    enrol = relay.add_parser("enrol", help="trade an enrolment key for an identity of this relay")
    enrol.add_argument("--console", required=True, metavar="URL")
    enrol.add_argument("--key", required=True)
    enrol.add_argument("--name", help="the relay's name (relay-HOSTNAME)")
    enrol.add_argument("--site", help="the site it serves (the key's group)")
    _trust(enrol)
    run = relay.add_parser("run", help="take, keep and forward until stopped, and read near hosts")
    run.add_argument("--listen", metavar="ADDR:PORT", default=RELAY_LISTEN, help=f"where to listen ({RELAY_LISTEN})")
    run.add_argument("--buffer", type=int, default=2048, metavar="MIB", help="how much may wait on disk (2048 MiB)")
    run.add_argument("--side-by-side", type=int, default=100, metavar="N", help="hosts read at once (100)")
    run.add_argument("--certificate", type=Path, metavar="FILE", help="serve HTTPS with this certificate (PEM chain)")
    run.add_argument("--key", type=Path, metavar="FILE", help="its private key (PEM), if not in the same file")
    unit = relay.add_parser("unit", help="print a systemd unit for the relay on this machine")
    for parser, command in ((enrol, _relay_enrol), (run, _relay_run), (unit, _relay_unit)):
        parser.add_argument("--state", metavar="DIR", type=Path, help="the relay's state folder (BALISE_RELAY_STATE)")
        parser.set_defaults(run=command)
    return relay


def _data(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--data", metavar="DIR", help="the console's data folder (BALISE_DATA)")


def _trust(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--fingerprint", default="", metavar="sha256:HEX", help="of the console's certificate, pinned")
    parser.add_argument("--ca", type=Path, metavar="FILE", help="certificates of the authority to trust")


def trust_of(arguments: argparse.Namespace) -> Any:
    """What the command says of whom to trust."""
    from balise.client.trust import Trust

    return Trust(arguments.ca, arguments.fingerprint)


def _serving(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--listen", metavar="ADDR:PORT", default=DEFAULT_LISTEN, help=f"where to listen ({DEFAULT_LISTEN})"
    )
    _data(parser)


def listen_address(text: str) -> tuple[str, int]:
    """`127.0.0.1:8808` or `[::1]:8808` as address and port."""
    address, _, port = text.rpartition(":")
    if not address or not port.isdecimal() or not 0 < int(port) < 65536:
        raise CommandError(f"--listen {text!r}: write an address and a port, such as {DEFAULT_LISTEN}")
    return address.strip("[]"), int(port)


def _server_packages() -> None:
    try:
        import fastapi  # noqa: F401
    except ImportError:
        raise CommandError("this needs the service's packages: pip install 'balise[console]'") from None


def log_to_stderr() -> None:
    logging.basicConfig(stream=sys.stderr, level=logging.INFO, format="%(asctime)s %(levelname)s %(name)s %(message)s")
    logging.getLogger("httpx").setLevel(logging.WARNING)
    logging.getLogger("alembic").setLevel(logging.WARNING)


def _serve(arguments: argparse.Namespace) -> int:
    _server_packages()
    from balise.server.run import Tls, serve

    log_to_stderr()
    address, port = listen_address(arguments.listen)
    if arguments.key and not arguments.certificate:
        raise CommandError("--key goes with --certificate: name both")
    tls = Tls(arguments.certificate, arguments.key, arguments.tls == "self")
    if arguments.memory is not None and not 256 <= arguments.memory <= 1 << 20:
        raise CommandError("--memory: between 256 MiB and 1 TiB, in MiB")
    memory = arguments.memory << 20 if arguments.memory else None
    return serve(address, port, arguments.data, tls=tls, public_url=arguments.public_url, memory=memory)


def _demo(arguments: argparse.Namespace) -> int:
    _server_packages()
    from balise.demo.run import run_demo

    log_to_stderr()
    address, port = listen_address(arguments.listen)
    return run_demo(
        address,
        port,
        data=arguments.data,
        hosts=arguments.hosts,
        days=arguments.days,
        this_host=not arguments.no_this_host,
    )


def _user_add(arguments: argparse.Namespace) -> int:
    _server_packages()
    from balise.api.access import NewUser
    from balise.server.folder import data_folder
    from balise.server.people.access import Access
    from balise.store.state.store import StateStore

    password = sys.stdin.readline().rstrip("\n")
    try:
        user = NewUser(name=arguments.name, role=arguments.role, password=password)
    except ValueError as error:
        raise CommandError(f"the user is not added: {_first_problem(error)}") from None
    state = StateStore(data_folder(arguments.data))
    try:
        Access(state).add_user(user.name, user.role, user.password.reveal(), by=f"command line, {_login()}")
    finally:
        state.close()
    print(f"user {user.name} added with the role {user.role}")
    return 0


def _token_create(arguments: argparse.Namespace) -> int:
    _server_packages()
    from balise.api.access import NewToken
    from balise.server.errors import Refused
    from balise.server.folder import data_folder
    from balise.server.people.access import Access
    from balise.store.state.store import StateStore

    try:
        wanted = NewToken(name=arguments.name, role=arguments.role, scope=_scope_of(arguments))
    except ValueError as error:
        raise CommandError(_first_problem(error)) from None
    state = StateStore(data_folder(arguments.data))
    try:
        by = f"command line, {_login()}"
        _, token = Access(state).make_token(wanted.name, wanted.role, by=by, scope=wanted.scope)
    except Refused as error:
        raise CommandError(error.detail) from None
    finally:
        state.close()
    print(token)
    return 0


def _scope_of(arguments: argparse.Namespace) -> dict[str, Any] | None:
    """What of a token's scope was said."""
    said = {name: getattr(arguments, name) for name in ("hosts", "kinds", "new_hosts", "collected")}
    return {name: value for name, value in said.items() if value not in (None, False)} or None


def _login() -> str:
    return os.environ.get("SUDO_USER") or os.environ.get("USER") or "unknown"


def _first_problem(error: ValueError) -> str:
    from balise.api.problems import message_of

    details = getattr(error, "errors", list)()
    return f"{details[0]['loc'][0]}: {message_of(details[0])}" if details else str(error)


def _relay_enrol(arguments: argparse.Namespace) -> int:
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


def _relay_run(arguments: argparse.Namespace) -> int:
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


def _relay_unit(arguments: argparse.Namespace) -> int:
    from balise.agent.unit import unit_text
    from balise.relay.identity import default_folder

    print(unit_text("relay", arguments.state or default_folder()), end="")
    return 0


def _agent_enrol(arguments: argparse.Namespace) -> int:
    from balise.agent.enrol import enrol
    from balise.agent.identity import default_folder

    folder = arguments.state or default_folder()
    identity, waiting = enrol(
        folder,
        arguments.console,
        arguments.key,
        name=arguments.name,
        follow=arguments.follow,
        take_over=arguments.take_over,
        trust=trust_of(arguments),
    )
    if waiting:
        print(f"{identity.host} waits to be let in: somebody has to approve it in the console (Enrol, Waiting)")
        print(f"you may start it already, it delivers from then on: balise agent run --state {folder}")
        return 0
    print(f"enrolled as {identity.host} at {identity.console}; now run: balise agent run --state {folder}")
    return 0


def _agent_check(arguments: argparse.Namespace) -> int:
    from balise.agent.check import Check
    from balise.agent.identity import default_folder

    check = Check(
        arguments.state or default_folder(),
        console=arguments.console,
        key=arguments.key,
        trust=trust_of(arguments),
        name=arguments.name,
    )
    marks = {"ok": "ok  ", "warning": "but ", "critical": "NO  "}
    worst = 0
    for finding in check.run():
        worst = max(worst, ("ok", "warning", "critical").index(finding.verdict))
        print(f"{marks[finding.verdict]} {finding.what:18} {finding.detail}", flush=True)
    print(("\nall is well", "\nit works, but see the lines marked but", "\nit does not work: see NO")[worst])
    return 1 if worst == 2 else 0


def _agent_leave(arguments: argparse.Namespace) -> int:
    from balise.agent.identity import default_folder, load_identity
    from balise.client import Balise
    from balise.client.trust import held_trust

    folder = arguments.state or default_folder()
    identity = load_identity(folder)
    with Balise(identity.console, identity.token, trust=held_trust(folder)) as client:
        print(client.call("POST", "/agents/leave")["detail"])
    for name in ("identity.json", "plan.json"):
        (folder / name).unlink(missing_ok=True)
    return 0


def _agent_unit(arguments: argparse.Namespace) -> int:
    from balise.agent.identity import default_folder
    from balise.agent.unit import unit_text

    print(unit_text("agent", arguments.state or default_folder()), end="")
    return 0


def _agent_run(arguments: argparse.Namespace) -> int:
    from balise.agent.agent import Agent
    from balise.agent.identity import default_folder, load_identity, load_settings

    folder = arguments.state or default_folder()
    log_to_stderr()
    agent = Agent(folder, load_identity(folder), load_settings(folder))

    def stop(_number: int, _frame: FrameType | None) -> None:
        agent.stop()

    signal.signal(signal.SIGTERM, stop)
    signal.signal(signal.SIGINT, stop)
    agent.run()
    return 0

"""`balise agent`: the agent of this host."""

from __future__ import annotations

import argparse
import signal
from pathlib import Path
from types import FrameType

from balise.cli.build import trust, verbs
from balise.cli.here import log_to_stderr, trust_of


def add(noun: argparse.ArgumentParser) -> None:
    agent = verbs(noun)
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
    trust(enrol)
    trust(check)
    for parser, command in (
        (enrol, _enrol),
        (check, _check),
        (run, _run),
        (leave, _leave),
        (unit, _unit),
    ):
        parser.add_argument("--state", metavar="DIR", type=Path, help="the agent's state folder (BALISE_AGENT_STATE)")
        parser.set_defaults(run=command)


def _enrol(arguments: argparse.Namespace) -> int:
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


def _check(arguments: argparse.Namespace) -> int:
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


def _leave(arguments: argparse.Namespace) -> int:
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


def _unit(arguments: argparse.Namespace) -> int:
    from balise.agent.identity import default_folder
    from balise.agent.unit import unit_text

    print(unit_text("agent", arguments.state or default_folder()), end="")
    return 0


def _run(arguments: argparse.Namespace) -> int:
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

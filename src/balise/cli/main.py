"""Reading the words of a command and handing them to its noun."""

from __future__ import annotations

import argparse
import re
import sys
from collections.abc import Sequence
from importlib import import_module

from balise import __version__
from balise.cli.errors import expected_errors
from balise.client.errors import Refused, Unreachable

_RELATIVE_TIME = re.compile(r"-\d[\w. ]*")
DONE, SAID_NO, WRONG_USAGE, OUT_OF_REACH = 0, 1, 2, 3
NOUNS = {
    "serve": "run the console",
    "demo": "run a console with the made-up fleet of Skerry Ferries",
    "user": "people who may sign in",
    "token": "tokens for programs",
    "agent": "the agent of this host",
    "relay": "a relay at a site",
    "sign-in": "keep a console's address and a token for later commands; who signed in to hosts, or tried to",
    "status": "what the console says of itself",
    "host": "servers and what is known of them",
    "metric": "measured values",
    "dashboard": "pinned charts, values, tables, lists",
    "availability": "how much of a span things were there, and their targets",
    "event": "log records from everywhere",
    "filter": "filters that have a name, and what a filter means",
    "rule": "what is watched, and its limits",
    "incident": "what a person has to deal with",
    "trail": "the likely causes of an incident, or of what is felt somewhere",
    "alert": "breaches of limits",
    "channel": "ways to reach people",
    "callout": "who is told of what",
    "response": "what is done by itself when an incident opens, or is over",
    "person": "people who can be told",
    "rota": "who is on duty when",
    "maintenance": "times in which nobody is told",
    "delivery": "the record of what was told to whom",
    "key": "enrolment keys",
    "service": "services on hosts, who reads them, and what was read",
    "kit": "what Balise knows of kinds of services, and how it reads them",
    "probe": "active checks that speak the protocol and judge the answer",
    "inventory": "what is on hosts, and what changed",
    "data": "copies of everything, verifying it, and exporting it",
    "keeping": "for how many days points, events and alerts are kept",
    "application": "what people outside know by name, its parts, and which needs which",
    "credential": "what Balise signs in with; secrets are never shown again",
    "group": "sets of hosts, listed or chosen by a filter; sites too",
    "plan": "what to collect where, how often, and which limits differ",
    "candidate": "machines that wait to be let in, and who speaks to receivers and is no host",
    "source": "every place that lines come from, and how it goes there",
    "receiver": "addresses at which syslog is taken in",
    "forward": "events and points sent on to other systems",
}
"""Every noun has a module of its name beside this one, which is loaded when it is asked for."""


def parser(noun: str | None = None) -> argparse.ArgumentParser:
    """All nouns, with the verbs and options of one of them, or of all when none is given."""
    top = argparse.ArgumentParser(
        prog="balise",
        description="Enrol servers, collect what they say, be warned once, and find out why.",
        epilog="The console is found in BALISE_URL and BALISE_TOKEN, or where `balise sign-in` was told. "
        "Exit status: 0 done, 1 the service said no, 2 wrong usage, 3 the service cannot be reached.",
    )
    top.add_argument("--version", action="version", version=f"balise {__version__}")
    nouns = top.add_subparsers(dest="noun", metavar="NOUN", required=True)
    for name, about in NOUNS.items():
        of = nouns.add_parser(name, help=about)
        if noun is None or noun == name:
            import_module(f"balise.cli.{name.replace('-', '_')}").add(of)
    return top


def joined(words: Sequence[str]) -> list[str]:
    """`--from -7d` as `--from=-7d`: a time that begins with a minus is no option; `sign-in URL` as `sign-in to URL`."""
    if len(words) > 1 and words[0] == "sign-in" and words[1].startswith(("http:", "https:")):
        words = ["sign-in", "to", *words[1:]]
    out: list[str] = []
    for word in words:
        if (
            out
            and out[-1] in ("--from", "--to", "--at", "--until", "--shift", "--sort")
            and _RELATIVE_TIME.fullmatch(word)
        ):
            out[-1] = f"{out[-1]}={word}"
        else:
            out.append(word)
    return out


def main(words: Sequence[str] | None = None) -> int:
    """The command line's entry; answers the exit status."""
    words = joined(sys.argv[1:] if words is None else words)
    arguments = parser(words[0] if words else "").parse_args(words)
    try:
        result = arguments.run(arguments)
    except Refused as error:
        print(f"balise: {error}", file=sys.stderr)
        for field in error.problem.errors[:10]:
            print(f"  {field.field}: {field.detail}", file=sys.stderr)
        return SAID_NO
    except Unreachable as error:
        print(f"balise: {error}", file=sys.stderr)
        return OUT_OF_REACH
    except KeyboardInterrupt:
        return 130
    except BrokenPipeError:
        sys.stderr.close()
        return DONE
    except expected_errors() as error:
        print(f"balise: {error}", file=sys.stderr)
        return SAID_NO
    return int(result or DONE)

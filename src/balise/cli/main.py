"""Reading the words of a command and handing them to it."""

from __future__ import annotations

import argparse
import re
import sys
from collections.abc import Sequence

from balise import __version__
from balise.cli import running
from balise.client.errors import Refused, Unreachable

_RELATIVE_TIME = re.compile(r"-\d[\w. ]*")
DONE, SAID_NO, WRONG_USAGE, OUT_OF_REACH = 0, 1, 2, 3


def parser(noun: str = "") -> argparse.ArgumentParser:
    """All commands and their options; for an agent only its own, so that it does not hold what it never uses."""
    top = argparse.ArgumentParser(
        prog="balise",
        description="Enrol servers, collect what they say, be warned once, and find out why.",
        epilog="The console is found in BALISE_URL and BALISE_TOKEN, or where `balise sign-in` was told. "
        "Exit status: 0 done, 1 the service said no, 2 wrong usage, 3 the service cannot be reached.",
    )
    top.add_argument("--version", action="version", version=f"balise {__version__}")
    nouns = top.add_subparsers(dest="noun", metavar="NOUN", required=True)
    people = running.add_commands(nouns)
    if noun != "agent":
        from balise.cli import asking

        asking.add_commands(nouns, people)
    return top


def joined(words: Sequence[str]) -> list[str]:
    """`--from -7d` as `--from=-7d`: a time that begins with a minus is no option."""
    out: list[str] = []
    for word in words:
        if out and out[-1] in ("--from", "--to", "--at") and _RELATIVE_TIME.fullmatch(word):
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
    except running.expected_errors() as error:
        print(f"balise: {error}", file=sys.stderr)
        return SAID_NO
    return int(result or DONE)

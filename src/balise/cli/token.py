"""`balise token`: tokens of programs."""

from __future__ import annotations

import argparse
from typing import Any

from balise.cli.build import data, verb, verbs
from balise.cli.connect import console, problems_in
from balise.cli.errors import CommandError
from balise.cli.here import login, server_packages
from balise.cli.output import Column, local_time, show


def add(noun: argparse.ArgumentParser) -> None:
    token = verbs(noun)
    create = verb(token, "create", "make a token and print it, alone", _create, form_=False)
    create.add_argument("name")
    create.add_argument("--role", choices=("viewer", "operator", "administrator", "ingest"), required=True)
    create.add_argument(
        "--hosts", metavar="FILTER", help="ingest: for hosts that this chooses, like 'name sw \"gate-\"'"
    )
    create.add_argument("--kinds", nargs="+", choices=("metrics", "logs"), help="ingest: what it may deliver")
    create.add_argument("--filter", metavar="NAME", help="ingest: for hosts that a filter of a name chooses")
    create.add_argument("--new-hosts", type=int, metavar="N", help="ingest: how many hosts it may make (1000)")
    create.add_argument("--collected", action="store_true", help="ingest: also for hosts that are collected from")
    data(create)
    verb(token, "list", "tokens of programs", _list)
    verb(token, "revoke", "make a token useless", _revoke, form_=False).add_argument("id", type=int)


def _create(arguments: argparse.Namespace) -> int:
    server_packages()
    from balise.api.access import NewToken
    from balise.server.errors import Refused
    from balise.server.filters.book import FilterBook
    from balise.server.folder import data_folder
    from balise.server.people.access import Access
    from balise.server.people.tokens import TokenBook, with_named_filter
    from balise.store.state.store import StateStore

    try:
        wanted = NewToken.model_validate(
            {"name": arguments.name, "role": arguments.role, "scope": _scope_of(arguments)}
        )
    except ValueError as error:
        raise CommandError(problems_in(error)[0]) from None
    state = StateStore(data_folder(arguments.data))
    try:
        by = f"command line, {login()}"
        _, token = TokenBook(state=state, access=Access(state)).make(
            wanted.name, wanted.role, by=by, scope=with_named_filter(wanted.scope, FilterBook(state))
        )
    except Refused as error:
        raise CommandError(error.detail) from None
    finally:
        state.close()
    print(token)
    return 0


def _scope_of(arguments: argparse.Namespace) -> dict[str, Any] | None:
    """What of a token's scope was said."""
    said = {name: getattr(arguments, name) for name in ("hosts", "filter", "kinds", "new_hosts", "collected")}
    return {name: value for name, value in said.items() if value not in (None, False)} or None


def _list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/tokens")
    columns: list[Column] = [
        ("id", lambda x: x["id"]),
        ("name", lambda x: x["name"]),
        ("role", lambda x: x["role"]),
        ("made", lambda x: local_time(x["created_at"])),
        ("expires", lambda x: local_time(x["expires_at"])),
    ]
    show(answer, columns, a.format, empty="No tokens.")
    return 0


def _revoke(a: argparse.Namespace) -> int:
    with console() as c:
        c.tokens.revoke(a.id)
    print("the token is good for nothing from now on")
    return 0

"""`balise user`: people who may sign in."""

from __future__ import annotations

import argparse
import sys

from balise.cli.build import data, verb, verbs
from balise.cli.connect import console, problems_in
from balise.cli.errors import CommandError
from balise.cli.here import login, server_packages
from balise.cli.output import Column, local_time, show


def add(noun: argparse.ArgumentParser) -> None:
    user = verbs(noun)
    add = verb(user, "add", "add a user; the password is read from standard input", _add, form_=False)
    add.add_argument("name")
    add.add_argument("--role", choices=("viewer", "operator", "administrator"), required=True)
    add.add_argument("--password-stdin", action="store_true", required=True, help="read the password's one line")
    data(add)
    verb(user, "list", "who may sign in", _list)
    verb(user, "remove", "remove a user, signed out everywhere", _remove, form_=False).add_argument("name")


def _add(arguments: argparse.Namespace) -> int:
    server_packages()
    from balise.api.access import NewUser
    from balise.api.secrets import Secret
    from balise.server.folder import data_folder
    from balise.server.people.access import Access
    from balise.server.people.tries import Passwords
    from balise.server.people.users import UserBook
    from balise.store.state.store import StateStore

    password = sys.stdin.readline().rstrip("\n")
    try:
        user = NewUser(name=arguments.name, role=arguments.role, password=Secret(password))
    except ValueError as error:
        raise CommandError(f"the user is not added: {problems_in(error)[0]}") from None
    state = StateStore(data_folder(arguments.data))
    try:
        users = UserBook(state=state, access=Access(state), passwords=Passwords())
        users.add(user.name, user.role, user.password.reveal(), by=f"command line, {login()}")
    finally:
        state.close()
    print(f"user {user.name} added with the role {user.role}")
    return 0


def _list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/users")
    columns: list[Column] = [
        ("name", lambda x: x["name"]),
        ("role", lambda x: x["role"]),
        ("last signed in", lambda x: local_time(x["signed_in_at"]) or "never"),
    ]
    show(answer, columns, a.format, empty="No users. Make the first with: balise user add NAME --role administrator")
    return 0


def _remove(a: argparse.Namespace) -> int:
    with console() as c:
        c.users.remove(a.name)
    print(f"user {a.name} removed, and signed out everywhere")
    return 0

"""Who signed in: lines as the programs write them, and figures worked out by hand."""

from __future__ import annotations

import json
from dataclasses import dataclass

import pytest
from hypothesis import given
from hypothesis import strategies as st

from balise.core.events.new_event import NewEvent
from balise.core.events.sign_in_counts import counted
from balise.core.events.sign_ins import Outcome, SignInReader, read_sign_in
from balise.core.moments import Nanos

SAID = [
    ("Failed password for invalid user oracle from 203.0.113.50 port 40000 ssh2", "oracle", "203.0.113.50", "failed", 1),
    ("Failed password for anna from 2001:db8::7 port 41000 ssh2", "anna", "2001:db8::7", "failed", 1),
    ("Accepted publickey for ops from 198.51.100.7 port 51234 ssh2: ED25519 SHA256:x", "ops", "198.51.100.7", "succeeded", 1),
    ("Failed password for invalid user from from 203.0.113.9 port 1 ssh2", "from", "203.0.113.9", "failed", 1),
    ("message repeated 5 times: [ Failed password for root from 203.0.113.50 port 22 ssh2]", "root", "203.0.113.50", "failed", 5),
    ("pam_unix(login:auth): authentication failure; logname=LOGIN uid=0 euid=0 tty=/dev/tty1 ruser= rhost=  user=berit", "berit", "", "failed", 1),
    ("pam_unix(vsftpd:auth): authentication failure; logname= uid=0 euid=0 tty=ftp ruser=carl rhost=192.0.2.9  user=carl", "carl", "192.0.2.9", "failed", 1),
    ("pam_unix(login:session): session opened for user berit(uid=1001) by LOGIN(uid=0)", "berit", "", "succeeded", 1),
    ("pam_faillock(sshd:auth): Consecutive login failures for user dora account temporarily locked", "dora", "", "locked", 1),
    ("    anna : TTY=pts/0 ; PWD=/home/anna ; USER=root ; COMMAND=/usr/bin/id", "anna", "", "succeeded", 1),
    ("    anna : 3 incorrect password attempts ; TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/bin/sh", "anna", "", "failed", 3),
    ("    carl : user NOT in sudoers ; TTY=pts/1 ; PWD=/ ; USER=root ; COMMAND=/bin/sh", "carl", "", "failed", 1),
    ("FAILED SU (to root) carl on pts/1", "carl", "", "failed", 1),
    ("(to postgres) anna on pts/1", "anna", "", "succeeded", 1),
    ("new user: name=deckhand, UID=1007, GID=1007, home=/home/deckhand, shell=/bin/sh, from=/dev/pts/0", "deckhand", "", "new-account", 1),
    ("add 'deckhand' to group 'sudo'", "deckhand", "", "group-change", 1),
    ("user deckhand added by root to group adm", "deckhand", "", "group-change", 1),
    ("delete user 'deckhand'", "deckhand", "", "account-removed", 1),
    ("lock user 'deckhand' password", "deckhand", "", "locked", 1),
]  # fmt: skip
NOTHING = [
    "Connection closed by 203.0.113.50 port 40000",
    "pam_unix(sshd:session): session opened for user anna(uid=1000) by (uid=0)",
    "pam_unix(cron:session): session opened for user root(uid=0) by (uid=0)",
    "pam_unix(sshd:auth): authentication failure; logname= uid=0 euid=0 tty=ssh ruser= rhost=203.0.113.50  user=root",
    "Invalid user oracle from 203.0.113.50 port 40000",
    "add 'deckhand' to shadow group 'sudo'",
    "the Accepted password for nobody from nowhere",
    "anna : hello",
]


def event(body: str, attributes: dict[str, object] | None = None) -> NewEvent:
    return NewEvent(
        Nanos(7), "bastion-9", 6, "sshd", body, json.dumps(attributes, separators=(",", ":")) if attributes else None
    )


@pytest.mark.parametrize(("body", "account", "address", "outcome", "count"), SAID)
def test_one_meaning_for_what_programs_say(body: str, account: str, address: str, outcome: str, count: int) -> None:
    read = read_sign_in(event(body))
    assert read is not None
    assert (read.account, read.address, read.outcome, read.count) == (account, address, outcome, count)


@pytest.mark.parametrize("body", NOTHING)
def test_what_says_nothing_new_of_a_sign_in_is_none(body: str) -> None:
    assert read_sign_in(event(body)) is None


@pytest.mark.parametrize(
    ("attributes", "outcome"),
    [
        ({"http.request.method": "POST", "url.path": "/login", "http.response.status_code": "401"}, "failed"),
        ({"http.request.method": "POST", "url.path": "/account/sign-in?next=/", "http.response.status_code": "302"}, "succeeded"),
        ({"http.request.method": "POST", "url.path": "/login", "http.response.status_code": "200"}, None),
        ({"http.request.method": "POST", "url.path": "/api/booking", "http.response.status_code": "401"}, None),
        ({"windows.event_id": "4625", "user.name": "desk2", "client.address": "192.0.2.4"}, "failed"),
        ({"windows.event_id": "4732", "user.name": "desk2", "group.name": "Administrators"}, "group-change"),
        ({"windows.event_id": "1"}, None),
    ],
)  # fmt: skip
def test_forms_and_channels_say_it_in_attributes(attributes: dict[str, object], outcome: str | None) -> None:
    read = read_sign_in(event("whatever it says", {**attributes, "client.address": "192.0.2.4"}))
    assert (read.outcome if read else None) == outcome
    assert read is None or read.address == "192.0.2.4"


@given(st.text(max_size=300))
def test_any_line_can_be_read(body: str) -> None:
    read_sign_in(event(body))


def test_a_pattern_that_says_nothing_is_not_read_again_and_those_that_do_are() -> None:
    reader = SignInReader()
    bodies = ["ramp down", SAID[0][0], SAID[1][0]]
    assert [at for at, _ in reader.of([event(b) for b in bodies], [1, 2, 2])] == [1, 2]
    # The first line of a pattern decides; what is like no others is read each time.
    assert reader.of([event(SAID[0][0])], [1]) == []
    assert len(reader.of([event(SAID[0][0]), event("x"), event(SAID[0][0])], [0, 0, 0])) == 2
    posted = {"http.request.method": "POST", "url.path": "/login", "http.response.status_code": "401"}
    assert len(reader.of([event("POST /x"), event("POST /login", posted)], [5, 5])) == 1


@dataclass
class Try:
    time: int
    account: str
    address: str
    outcome: Outcome
    host: str = "bastion-9"
    count: int = 1


def test_figures_are_those_worked_out_by_hand() -> None:
    rows = [
        *[Try(i, name, "203.0.113.50", "failed") for i, name in enumerate(["root", "admin", "anna", "berit", "carl"])],
        *[Try(10 + i, "anna", "198.51.100.7", "failed") for i in range(6)],
        Try(20, "anna", "198.51.100.7", "succeeded"),
        Try(21, "ops", "192.0.2.1", "succeeded"),
        Try(22, "ops", "192.0.2.2", "succeeded"),
        Try(23, "dora", "192.0.2.3", "failed", count=4),
        Try(24, "dora", "192.0.2.3", "succeeded"),
        Try(25, "dora", "192.0.2.3", "failed"),
        Try(26, "x", "", "locked"),
    ]
    known = {("ops", "192.0.2.1"), ("dora", "192.0.2.3"), ("anna", "198.51.100.7")}
    by_address = counted(rows, "address", known)
    assert {key[1]: (t.failed, t.succeeded, len(t.accounts), t.kind(5)) for key, t in by_address.items()} == {
        "203.0.113.50": (5, 0, 5, "sweep"),
        "198.51.100.7": (6, 1, 1, "success-after-failures"),
        "192.0.2.1": (0, 1, 1, "usual"),
        "192.0.2.2": (0, 1, 1, "first-seen"),
        "192.0.2.3": (5, 1, 1, "failing"),
    }
    assert by_address["", "203.0.113.50"].kind(6) == "failing"
    by_account = counted(rows, "account", known)
    assert {key[0]: (t.failed, t.succeeded, t.kind(None)) for key, t in by_account.items()} == {
        "root": (1, 0, "failing"),
        "admin": (1, 0, "failing"),
        "anna": (7, 1, "success-after-failures"),
        "berit": (1, 0, "failing"),
        "carl": (1, 0, "failing"),
        "ops": (0, 2, "first-seen"),
        "dora": (5, 1, "failing"),
    }
    assert counted(rows, "pair", known)["anna", "203.0.113.50"].kind(None) == "failing"

"""Who signed in, or tried to: one meaning for what OpenSSH, PAM, sudo, su, web forms and Windows-like systems say.

Sources: the messages of OpenSSH's auth.c and auth2.c, of pam_unix, pam_faillock and shadow-utils, of sudo and of
util-linux's su; RFC 9110 for the answers of web forms; event numbers of the security channel.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Literal

from balise.core.events.new_event import NewEvent
from balise.core.moments import Nanos

Outcome = Literal["failed", "succeeded", "locked", "unlocked", "new-account", "account-removed", "group-change"]
OUTCOMES: tuple[Outcome, ...] = (
    "failed", "succeeded", "locked", "unlocked", "new-account", "account-removed", "group-change",
)  # fmt: skip
"""The index is how an outcome is kept."""
LONGEST_NAME = 100
MOST_REPEATED = 10_000


@dataclass(frozen=True, slots=True)
class SignIn:
    """One try to sign in, or one change of an account. `address` is empty when it is none over a network."""

    time: Nanos
    host: str
    account: str
    address: str
    outcome: Outcome
    how: str
    detail: str = ""
    count: int = 1


_Made = tuple[str, str, Outcome, str, str, int]
"""Account, address, outcome, how, detail and count."""

_REPEATED = re.compile(r"message repeated (\d{1,6}) times: \[ ?(.*)\]\Z", re.DOTALL)
_SSH = re.compile(
    r"(?P<outcome>Failed|Accepted) (?P<how>[\w/.-]{1,60}) for (?:invalid user )?(?P<account>.{0,256}?) "
    r"from (?P<address>[\w.:%-]{1,64}) port \d{1,5}"
)
_PAM = re.compile(r"pam_[\w]+\((?P<service>[\w.-]+):(?P<kind>\w+)\): (?P<rest>.*)", re.DOTALL)
_PAM_FAILED = re.compile(r"authentication failure;.*?\brhost=(?P<address>\S*)(?:\s+user=(?P<account>\S+))?")
_PAM_OPENED = re.compile(r"session opened for user (?P<account>[^\s(]+)")
_PAM_LOCKED = re.compile(r"(?:Consecutive login failures for user (?P<one>\S+) account temporarily locked"
                         r"|user (?P<two>\S+) \(\d+\) tally \d+, deny \d+)")  # fmt: skip
_SUDO = re.compile(r"\s*(?P<account>[\w.@\\$-]{1,100}) : (?P<rest>.*)", re.DOTALL)
_SUDO_WRONG = re.compile(r"(\d{1,4}) incorrect password attempts?")
_SUDO_USER = re.compile(r"\bUSER=(\S+)")
_SU = re.compile(r"(?P<failed>FAILED SU )?\(to (?P<target>[^)\s]{1,100})\) (?P<account>\S{1,100}) on (?P<tty>\S+)")
_NEW = re.compile(r"new user: name=(?P<account>[^,\s]+)")
_GONE = re.compile(r"delete user '(?P<account>[^']+)'")
_GROUP = re.compile(r"(?:(?P<how>add|delete|remove) '(?P<account>[^']+)' (?:to|from) group '(?P<group>[^']+)'"
                    r"|user (?P<other>\S+) (?P<done>added|removed) by \S+ (?:to|from) group (?P<its>\S+))")  # fmt: skip
_LOCK = re.compile(r"(?P<how>lock|unlock) user '(?P<account>[^']+)' password")
_OWN_WORDS = ("sshd", "sudo", "su", "su-l", "cron", "crond", "systemd-user", "systemd-logind", "polkit-1")
"""Services that say themselves who signs in, or that nobody signs in to: what PAM says of them is no other try."""
_FORMS = re.compile(
    r"/(?:log[-_]?in|sign[-_]?in|session|auth(?:enticate|/token|/login)?|wp-login\.php)/?(?:\?|\Z)", re.I
)
_REFUSED, _LET_IN = ("401", "403", "422", "429"), ("201", "204", "302", "303")
_CHANNEL: Mapping[str, Outcome] = {
    "4624": "succeeded",
    "4625": "failed",
    "4740": "locked",
    "4767": "unlocked",
    "4720": "new-account",
    "4726": "account-removed",
    "4728": "group-change",
    "4729": "group-change",
    "4732": "group-change",
    "4733": "group-change",
    "4756": "group-change",
}
"""Numbers of events of the security channel."""
_POST, _NUMBERED = '"http.request.method":"POST"', '"windows.event_id":'


def _of_ssh(body: str) -> _Made | None:
    match = _SSH.match(body)
    if match is None:
        return None
    outcome: Outcome = "failed" if match["outcome"] == "Failed" else "succeeded"
    return match["account"], match["address"], outcome, f"ssh {match['how']}", "", 1


def _of_pam(body: str) -> _Made | None:
    match = _PAM.match(body)
    if match is None:
        return None
    service, rest = match["service"], match["rest"]
    locked = _PAM_LOCKED.match(rest)
    if locked:
        return locked["one"] or locked["two"], "", "locked", service, "", 1
    if service in _OWN_WORDS:
        return None
    failed = _PAM_FAILED.match(rest)
    if failed:
        return failed["account"] or "", failed["address"] or "", "failed", service, "", 1
    opened = _PAM_OPENED.match(rest)
    return (opened["account"], "", "succeeded", service, "", 1) if opened else None


def _of_sudo(body: str) -> _Made | None:
    match = _SUDO.match(body)
    if match is None or "COMMAND=" not in body:
        return None
    target = _SUDO_USER.search(match["rest"])
    detail = f"to {target[1]}" if target else ""
    wrong = _SUDO_WRONG.search(match["rest"])
    if wrong:
        return match["account"], "", "failed", "sudo", detail, int(wrong[1])
    refused = "NOT in sudoers" in body or "command not allowed" in body
    return match["account"], "", "failed" if refused else "succeeded", "sudo", detail, 1


def _of_su(body: str) -> _Made | None:
    match = _SU.match(body)
    if match is None:
        return None
    return match["account"], "", "failed" if match["failed"] else "succeeded", "su", f"to {match['target']}", 1


def _of_accounts(body: str) -> _Made | None:
    for pattern, outcome in ((_NEW, "new-account"), (_GONE, "account-removed")):
        match = pattern.match(body)
        if match:
            return match["account"], "", outcome, "accounts", "", 1  # type: ignore[return-value]
    lock = _LOCK.match(body)
    if lock:
        return lock["account"], "", "locked" if lock["how"] == "lock" else "unlocked", "accounts", "", 1
    group = _GROUP.match(body)
    if group:
        into = "into" if (group["how"] or group["done"]) in ("add", "added") else "out of"
        detail = f"{into} {group['group'] or group['its']}"
        return group["account"] or group["other"], "", "group-change", "accounts", detail, 1
    return None


_OF_TEXT: tuple[Callable[[str], _Made | None], ...] = (_of_ssh, _of_pam, _of_sudo, _of_su, _of_accounts)


def _of_form(held: Mapping[str, Any]) -> _Made | None:
    """A sign-in form of a web application, from its access log; what answers 200 may be either, and is neither."""
    if not _FORMS.search(str(held.get("url.path", ""))):
        return None
    status = str(held.get("http.response.status_code", ""))
    if status not in (*_REFUSED, *_LET_IN):
        return None
    address, account = str(held.get("client.address", "")), str(held.get("user.name", ""))
    return account, address, "failed" if status in _REFUSED else "succeeded", "web form", str(held["url.path"]), 1


def _of_channel(held: Mapping[str, Any]) -> _Made | None:
    outcome = _CHANNEL.get(str(held.get("windows.event_id", "")))
    if outcome is None:
        return None
    detail = str(held.get("group.name", ""))
    return str(held.get("user.name", "")), str(held.get("client.address", "")), outcome, "security channel", detail, 1


def read_sign_in(event: NewEvent) -> SignIn | None:
    """What an event says of somebody who signs in, or of an account; None when it says nothing of it."""
    body, times = event.body, 1
    repeated = _REPEATED.match(body)
    if repeated:
        times, body = min(int(repeated[1]), MOST_REPEATED), repeated[2]
    made = next((found for read in _OF_TEXT if (found := read(body)) is not None), None)
    if made is None and event.attributes and (_POST in event.attributes or _NUMBERED in event.attributes):
        held = json.loads(event.attributes)
        made = _of_channel(held) if "windows.event_id" in held else _of_form(held)
    if made is None:
        return None
    account, address, outcome, how, detail, count = made
    name, place = account[:LONGEST_NAME], address[:LONGEST_NAME]
    return SignIn(event.time, event.host, name, place, outcome, how, detail[:LONGEST_NAME], count * times)


class SignInReader:
    """Finds sign-ins among events, many a second: a pattern whose first line says nothing of them is not read again."""

    def __init__(self, most: int = 50_000) -> None:
        self._most = most
        self._of_pattern: dict[int, bool] = {}

    def of(self, events: Sequence[NewEvent], patterns: Sequence[int]) -> list[tuple[int, SignIn]]:
        """The sign-ins, each with the place of its event; patterns are numbers, 0 for what is like no others."""
        found = []
        for place, (event, pattern) in enumerate(zip(events, patterns, strict=True)):
            told = self._of_pattern.get(pattern)
            more = event.attributes
            if told is False and (more is None or (_POST not in more and _NUMBERED not in more)):
                continue
            read = read_sign_in(event)
            if read is not None:
                found.append((place, read))
            if told is None and pattern:
                if len(self._of_pattern) >= self._most:
                    self._of_pattern.clear()
                self._of_pattern[pattern] = read is not None
        return found

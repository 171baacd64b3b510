"""Who may make which call: every call of the app, by everybody there is."""

from __future__ import annotations

import re
from collections.abc import Iterator

import httpx
import pytest

from balise.api.access import NewEnrolmentKey, NewToken, Scope
from balise.api.agents import Facts
from balise.api.relays import RelayEnrol
from balise.server.app import CALLS, PREFIX
from balise.server.openapi import caller_of
from running import Service

DECIDED = """
anybody
  GET /status  GET /certificate  GET,POST,DELETE /session
  POST /agents/enrol  POST /agents/check  POST /relays/enrol  GET,POST /links/{token}
calendar_reader
  GET /maintenance.ics  GET /rotas/{name}/calendar.ics
looker
  GET /dashboards/{name}  POST /dashboards/{name}/answers
machine
  GET /agents/self
agent
  PUT /agents/facts  POST /agents/token  POST /agents/leave  GET /agents/plan  POST /agents/paths
relay
  POST /relays/senders  GET /relays/work  PUT /relays/report  PUT /relays/trials/{number}
viewer
  GET /settings/keeping  GET /settings/collection
  GET /credentials  GET /credentials/{name}  GET /relays
  GET /hosts  GET /hosts/{name}  GET /hosts/{name}/remote  GET /hosts/{name}/states  GET /hosts/{name}/evidence
  GET /hosts/{name}/plan  GET /hosts/{name}/services
  GET /hosts/{name}/inventory  GET /hosts/{name}/inventory/kinds  GET /hosts/{name}/inventory/compare
  GET /groups  POST /groups/preview  GET /groups/{name}
  GET /plans  GET /plans/schema  GET /plans/parts  POST /plans/check  POST /plans/diff  GET /plans/{name}
  GET /kits  GET /kits/schema  POST /kits/check  GET /kits/problems  GET /kits/{name}  GET /kits/{name}/changes
  GET /services  GET /services/proposals  GET /services/{number}
  GET /services/{number}/steps  GET /services/{number}/sessions  GET /services/{number}/tables
  GET /probes  GET /probes/{name}
  GET /applications  GET /applications/connections  GET /applications/dependents
  GET /applications/{name}  GET /applications/{name}/drawn
  GET /views  GET /filters  GET /filters/{name}  POST /filters/explain  GET /metrics  POST /metrics/query
  POST /metrics/moved  GET /charts/picture.png  POST /hosts/table  GET /tree  GET /hosts/{name}/processes  GET /availability
  GET /hosts/{name}/sessions  GET /hosts/{name}/requests  PUT /session/first-page
  GET /dashboards  POST /dashboards/read  POST /dashboards/written  PUT,DELETE /dashboards/{name}
  GET /dashboards/{name}/versions  POST /dashboards/{name}/restore
  GET /availability/list
  POST /events/query  POST /events/histogram  POST /events/patterns  POST /events/fields
  POST /events/export  GET /events/live  GET /events/{number}  GET /events/{number}/around  GET /live
  GET /receivers  GET /receivers/{name}  GET /forwards  GET /forwards/{name}  GET /sources  GET /sign-ins  POST /parsers/try
  GET /retention  GET /event-days  GET /data  GET /exports  GET /exports/{name}
  GET /rules  POST /rules/rehearse  POST /rules/suggest  POST /rules/check  GET /rules/{name}
  POST /rules/read  POST /rules/written  POST /callouts/read  POST /callouts/written
  GET /rules/{name}/versions  GET /hosts/{name}/rules  POST /metrics/baseline  POST /metrics/forecast
  GET /alerts  GET /alerts/{number}
  GET /channels  GET /channels/{name}  GET /callouts  GET /callouts/{name}  GET /deliveries
  GET /incidents  GET /incidents/{number}  GET /incidents/{number}/trail  POST /trail  GET /trail/record
  POST /callouts/who  GET /drills/{number}
  GET /responses  GET /responses/{name}  GET /maintenance  GET /maintenance/{name}
  GET /people  GET /people/{name}  GET /rotas  GET /rotas/{name}  GET /rotas/{name}/on-duty  GET /rotas/{name}/stretches
operator
  POST /incidents/together  POST /incidents/{number}/acknowledge  POST /incidents/{number}/take
  POST /incidents/{number}/hand-over  POST /incidents/{number}/note  POST /incidents/{number}/snooze
  POST /incidents/{number}/close  POST /incidents/{number}/reopen  POST /incidents/{number}/join  POST /incidents/{number}/part
  POST,DELETE /incidents/{number}/cause
  POST /callouts/{name}/drill  POST /deliveries/{number}/resend  PUT /rotas/{name}
  PUT,DELETE /availability/target
  PUT,DELETE /maintenance/{name}  POST /maintenance/{name}/end
  GET /candidates
  POST /enrolments/read  GET,POST /enrolments  GET /enrolments/{number}
  POST /enrolments/{number}/retry  GET /enrolments/{number}/live
  POST /hosts/{name}/paths/try  POST /hosts/change  PATCH /hosts/{name}  PUT /hosts/{name}/remote  POST /hosts/{name}/inventory/refresh
  PUT,DELETE /groups/{name}  PUT,DELETE /plans/{name}
  POST /kits/{name}/try
  POST /services  POST /services/proposals  PUT,DELETE /services/{number}
  PUT,DELETE /probes/{name}  POST /probes/{name}/try
  PUT,DELETE /applications/{name}  PUT,DELETE /views/{name}  PUT,DELETE /filters/{name}  PUT,DELETE /rules/{name}
  POST /rules/{name}/restore  POST /alerts/{number}/tune
  POST /alerts/{number}/acknowledge  POST /channels/{name}/test
administrator
  POST /event-days/{day}/set-aside  POST /event-days/{day}/bring-back  POST /event-days/{day}/let-go
  POST /data/backups  PUT,DELETE /exports/{name}
  PUT /retention  PUT,DELETE /receivers/{name}  PUT,DELETE /forwards/{name}
  PUT /settings/keeping  PUT /settings/collection
  GET,POST /users  DELETE /users/{name}  GET,POST /tokens  DELETE /tokens/{number}
  GET,POST /enrolment-keys  DELETE /enrolment-keys/{number}
  DELETE /hosts/{name}/agent  POST /candidates/{number}/approve  DELETE /candidates/{number}
  PUT,DELETE /credentials/{name}  DELETE /relays/{name}
  POST /hosts/{name}/retire  DELETE /hosts/{name}
  PUT /kits  PUT /kits/{name}/version
  POST /channels/preview  PUT,DELETE /channels/{name}  PUT,DELETE /callouts/{name}  PUT,DELETE /people/{name}  DELETE /rotas/{name}
  PUT,DELETE /responses/{name}
"""
"""What was decided for each call: the least that may make it, or the one kind of program that it is for."""

RANKS = ("viewer", "operator", "administrator")
EVERYBODY = (None, "unknown", "ingest", "calendar", "screen", "agent", "relay", *RANKS)


def decided() -> Iterator[tuple[str, str, str]]:
    caller = ""
    for line in DECIDED.strip().splitlines():
        if not line.startswith(" "):
            caller = line.strip()
            continue
        for methods, path in re.findall(r"([A-Z,]+) (\S+)", line):
            yield from ((method, path, caller) for method in methods.split(","))


TABLE = {(method, path): caller for method, path, caller in decided()}


def test_every_call_of_the_app_was_decided() -> None:
    found = {(method, route.path_format): caller_of(route) for route in CALLS for method in route.methods}
    assert found == TABLE


def may(who: str | None, caller: str) -> bool:
    if caller == "calendar_reader":
        return who in (*RANKS, "calendar")
    if caller == "looker":
        return who in (*RANKS, "screen")
    if caller in RANKS:
        return who in RANKS and RANKS.index(who) >= RANKS.index(caller)
    return caller == "anybody" or who == caller or (caller == "machine" and who == "agent")


@pytest.fixture(scope="module")
def tokens(service: Service) -> dict[str, str]:
    with service.client() as admin:
        key = admin.keys.create(NewEnrolmentKey(label="both", uses=2)).key
        facts = Facts(host_name="mooring", machine_id="machine of mooring")
        agent = admin.call("POST", "/agents/enrol", {"key": key, "facts": facts.model_dump()})["token"]
        relay = admin.call("POST", "/relays/enrol", RelayEnrol(key=key, name="gangway", facts=facts))["token"]
        calendar = admin.tokens.create(NewToken(name="feed", role="calendar")).token
        wall = NewToken(name="wall", role="screen", scope=Scope(dashboards=["morning"]))
        screen = admin.tokens.create(wall).token
    return {
        **service.tokens,
        "calendar": calendar,
        "screen": screen,
        "agent": agent,
        "relay": relay,
        "unknown": "bal_tok_nobody-has-this-one",
    }


@pytest.mark.parametrize("who", EVERYBODY)
def test_everybody_may_do_what_was_decided_and_no_more(
    service: Service, tokens: dict[str, str], who: str | None
) -> None:
    headers = {"Authorization": f"Bearer {tokens[who]}"} if who else {}
    with httpx.Client(base_url=service.url + PREFIX, headers=headers, timeout=30) as client:
        for (method, path), caller in sorted(TABLE.items()):
            if path == "/agents/leave" and who == "agent":
                # It would be no agent any more.
                continue
            place = (
                path.replace("{name}", "nothing-of-this-name")
                .replace("{number}", "987654321")
                .replace("{token}", "x.y")
            )
            # Nothing in a body is right, so that whoever may make a call does no harm by it.
            body = None if method in ("GET", "DELETE") else {"nothing": "of this"}
            with client.stream(method, place, json=body) as answer:
                status = answer.status_code
            if may(who, caller):
                assert status not in (401, 403, 405), (method, path, status)
            elif caller in ("agent", "machine", "relay", "calendar_reader") or who in (None, "unknown"):
                assert status == 401, (method, path, status)
            else:
                assert status == 403, (method, path, status)

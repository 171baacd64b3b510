"""Commands of enrolling: lists of hosts, credentials, groups, plans, relays, machines that wait."""

from __future__ import annotations

import argparse
import csv
import getpass
import json
import sys
import time
from pathlib import Path
from typing import Any
from urllib.parse import quote

from pydantic import TypeAdapter

from balise.api.credentials import CredentialBody
from balise.api.hosts import GroupBody, GroupPreview, HostsChange
from balise.api.plans import PlanText
from balise.api.problems import message_of
from balise.api.remote import MOST_ENTRIES, NewEnrolment, ReadList, RemoteBody
from balise.api.spans import rfc3339
from balise.cli.asking import console, form, model, verb, verbs
from balise.cli.output import Column, ago, local_time, print_table, printable, safe_cell, show, text_of
from balise.cli.running import CommandError
from balise.core.hostlist import read_list
from balise.core.quantities import in_words

GOOD = ("added", "already-enrolled")
OWN_FACTS = ("host_name", "machine_id", "boot_time", "addresses")
"""Facts in which every host differs from every other."""


def add_commands(nouns: Any, held: dict[str, Any]) -> None:
    """Adds the nouns, and verbs to those that are there already (`host`, `key`, `relay`)."""
    _hosts(held["host"])
    _credentials(nouns)
    _groups(nouns)
    _plans(nouns)
    relay = held["relay"]
    verb(relay, "list", "all relays, and how they do", _relay_list)
    verb(relay, "remove", "a relay may not forward any more", _relay_remove, form_=False).add_argument("name")
    waiting = verbs(nouns, "candidate", "machines that wait to be let in")
    verb(waiting, "list", "who waits", _candidate_list)
    approve = verb(waiting, "approve", "let a machine in", _candidate_approve, form_=False)
    approve.add_argument("id", type=int)
    approve.add_argument("--name", help="under another name than its own")
    verb(waiting, "refuse", "turn a machine away", _candidate_refuse, form_=False).add_argument("id", type=int)


def _hosts(host: Any) -> None:
    add = verb(host, "add", "test a list of hosts side by side and add those that answer", _host_add)
    add.add_argument(
        "--from", dest="from_", metavar="FILE", help="a list, a CSV or ranges of addresses; - for standard input"
    )
    add.add_argument("--credential", help="for lines that name none")
    add.add_argument("--protocol", choices=("ssh", "snmp"), default="ssh", help="for lines that name none (ssh)")
    add.add_argument("--group", help="the group they join")
    add.add_argument("--site", help="the site whose relays try and read them")
    add.add_argument("--time-limit", default="5s", metavar="DURATION", help="for each host (5s)")
    add.add_argument("--resume", type=int, metavar="ID", help="go on watching a list that was begun before")
    add.add_argument(
        "--left", type=Path, metavar="FILE", help="write the lines that were not good here, with the reason"
    )
    remote = verb(host, "remote", "collect a host over the network, or show how it is reached", _host_remote)
    remote.add_argument("name")
    for option in ("--protocol", "--address", "--credential", "--every", "--time-limit", "--site"):
        remote.add_argument(option)
    remote.add_argument("--port", type=int)
    remote.add_argument("--accept-host-key", action="store_true", help="pin the key that the host shows next")
    compare = verb(host, "compare", "facts of hosts side by side; * where they differ", _host_compare)
    compare.add_argument("names", nargs="+")
    change = verb(host, "change", "label and group many hosts at once", _host_change, form_=False)
    change.add_argument("names", nargs="*")
    change.add_argument("--where", metavar="FILTER", help="the hosts that pass, instead of names")
    change.add_argument("--label", action="append", default=[], metavar="KEY=VALUE", help="set; without VALUE it goes")
    change.add_argument("--join", action="append", default=[], metavar="GROUP")
    change.add_argument("--leave", action="append", default=[], metavar="GROUP")
    verb(host, "retire", "a host leaves; its history stays", _host_retire, form_=False).add_argument("name")
    erase = verb(host, "erase", "remove a host with all its history, for good", _host_erase, form_=False)
    erase.add_argument("name")
    erase.add_argument("--yes", action="store_true", help="do not ask")
    revoke = verb(host, "revoke-agent", "the agent of a host may not deliver any more", _host_revoke, form_=False)
    revoke.add_argument("name")
    verb(host, "plan", "what holds for a host, each setting with its plan", _host_plan).add_argument("name")


def _credentials(nouns: Any) -> None:
    credential = verbs(nouns, "credential", "what Balise signs in with; secrets are never shown again")
    verb(credential, "list", "all credentials", _credential_list)
    put = verb(
        credential, "set", "make or change one; secrets come from files or standard input", _credential_set, form_=False
    )
    put.add_argument("name")
    put.add_argument("--kind", choices=("ssh", "snmp", "login"), required=True)
    put.add_argument("--user")
    put.add_argument("--private-key", type=Path, metavar="FILE")
    put.add_argument("--secret-stdin", action="store_true", help="read password, passphrase or community from a line")
    put.add_argument("--version", choices=("2c", "3"), default="3", help="of SNMP (3)")
    put.add_argument("--auth", default="SHA-256", help="SNMP v3 authentication protocol (SHA-256)")
    put.add_argument("--privacy", default="AES-128", help="SNMP v3 privacy protocol (AES-128); none for none")
    put.add_argument("--role", choices=("operator", "administrator"), default="administrator", help="who may use it")
    put.add_argument("--group", action="append", default=[], help="only for hosts of this group; repeatable")
    put.add_argument("--anyway", action="store_true", help="keep it although it fails on hosts that use it")
    verb(credential, "delete", "take a credential away", _credential_delete, form_=False).add_argument("name")


def _groups(nouns: Any) -> None:
    group = verbs(nouns, "group", "sets of hosts, listed or chosen by a filter; sites too")
    verb(group, "list", "all groups and the states of their hosts", group_list)
    put = verb(group, "set", "make or change a group", _group_set, form_=False)
    put.add_argument("name")
    put.add_argument("--where", metavar="FILTER", help="the hosts that pass belong to it, now and later")
    put.add_argument("--host", action="append", metavar="NAME", help="the hosts listed; repeatable")
    put.add_argument("--parent", metavar="GROUP")
    put.add_argument("--site", action="store_true", help="it is a site")
    put.add_argument("--about")
    preview = verb(group, "preview", "what a filter would choose", _group_preview)
    preview.add_argument("where", metavar="FILTER")
    verb(group, "delete", "take a group away; its hosts stay", _group_delete, form_=False).add_argument("name")


def _plans(nouns: Any) -> None:
    plan = verbs(nouns, "plan", "what to collect where, how often, and which limits differ")
    verb(plan, "list", "all plans, from the general to the particular", _plan_list)
    verb(plan, "show", "one plan as it is written", _plan_show, form_=False).add_argument("name")
    for name, help_, run in (
        ("check", "whether files are good plans", _plan_check),
        ("diff", "what keeping a file would change, host by host", _plan_diff),
        ("apply", "keep plans from files", _plan_apply),
    ):
        made = verb(plan, name, help_, run, form_=name == "diff")
        made.add_argument("files", nargs="+" if name != "diff" else 1, type=Path, metavar="FILE")
    verb(plan, "delete", "take a plan away", _plan_delete, form_=False).add_argument("name")
    verb(plan, "parts", "the parts of a system that plans can switch, and what each costs", _plan_parts)
    verb(plan, "schema", "the JSON Schema of a plan", _plan_schema, form_=False)


def _path(name: str) -> str:
    return quote(name, safe="")


# --- lists of hosts


def _host_add(a: argparse.Namespace) -> int:
    with console() as c:
        number = a.resume if a.resume is not None else _start(c, a)
        try:
            answer = _watch(c, number)
        except KeyboardInterrupt:
            print(f"\nthe console goes on testing; see how with: balise host add --resume {number}", file=sys.stderr)
            return 130
    columns: list[Column] = [
        ("result", lambda e: e["result"]),
        ("host", lambda e: e["name"]),
        ("address", lambda e: f"{e['address']} port {e['port']}"),
        ("message", lambda e: e["message"]),
    ]
    answer["items"] = sorted(answer["entries"], key=lambda e: (e["result"] in GOOD, e["position"]))
    shown = answer if a.format == "json" else {"items": answer["items"]}
    if a.format == "json":
        del answer["items"]
    show(shown, columns, a.format)
    bad = [e for e in answer["entries"] if e["result"] not in GOOD]
    if a.left and bad:
        _write_left(a.left, bad)
    counts = ", ".join(f"{count} {result}" for result, count in sorted(answer["results"].items()))
    print(f"{answer['total']} hosts: {counts}", file=sys.stderr)
    return 1 if bad else 0


def _start(c: Any, a: argparse.Namespace) -> int:
    if a.from_ is None:
        raise CommandError("which hosts? Name a file with --from, or - for standard input")
    try:
        text = sys.stdin.read() if a.from_ == "-" else Path(a.from_).read_text("utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise CommandError(f"{a.from_} cannot be read: {error}") from None
    wanted = model(ReadList, text=text, protocol=a.protocol, credential=a.credential, group=a.group, site=a.site)
    found = read_list(wanted)
    for problem in found.problems:
        print(f"balise: line {problem.line}: {printable(problem.problem)}", file=sys.stderr)
    if found.problems:
        raise CommandError(
            f"{len(found.problems)} lines cannot be read: nothing was tested. Put them right and try again"
        )
    if not found.entries:
        raise CommandError(f"{a.from_} names no host")
    body = model(NewEnrolment, entries=found.entries[:MOST_ENTRIES], time_limit=a.time_limit)
    return int(c.call("POST", "/enrolments", body)["id"])


def _watch(c: Any, number: int) -> Any:
    while True:
        answer = c.call("GET", f"/enrolments/{number}")
        if sys.stderr.isatty():
            print(f"\rtested {answer['tested']} of {answer['total']}", end="", file=sys.stderr, flush=True)
        if answer["state"] == "done":
            if sys.stderr.isatty():
                print(file=sys.stderr)
            return answer
        time.sleep(0.5)


def _write_left(path: Path, bad: list[Any]) -> None:
    """A CSV that can be put right and given again: the reason stands before each line."""
    with path.open("w", encoding="utf-8", newline="") as file:
        writer = csv.writer(file)
        writer.writerow(["name", "address", "port", "protocol", "credential", "labels", "group", "site"])
        for e in bad:
            file.write(f"# {e['result']}: {printable(e['message'])}\n")
            labels = ";".join(f"{k}={v}" for k, v in e["labels"].items())
            name = "" if e["name"] == e["address"] else e["name"]
            writer.writerow(
                [
                    name,
                    e["address"],
                    e["port"],
                    e["protocol"],
                    e["credential"],
                    labels,
                    e["group"] or "",
                    e["site"] or "",
                ]
            )
    print(f"{len(bad)} lines that were not good are in {path}: put them right and give it again", file=sys.stderr)


# --- one host, many hosts


def _host_remote(a: argparse.Namespace) -> int:
    fields = {
        key: getattr(a, key)
        for key in ("protocol", "address", "credential", "every", "time_limit", "site", "port")
        if getattr(a, key) is not None
    }
    if a.accept_host_key:
        fields["accept_host_key"] = True
    with console() as c:
        if fields:
            body = model(RemoteBody, **fields)
            answer = c.call("PUT", f"/hosts/{_path(a.name)}/remote", body)
        else:
            answer = c.call("GET", f"/hosts/{_path(a.name)}/remote")
    if a.format == "json":
        print(json.dumps(answer, indent=2))
        return 0
    items = [(k, v) for k, v in answer.items() if v not in (None, "")]
    show({"items": items}, [("what", lambda i: i[0]), ("value", lambda i: i[1])], a.format)
    return 0


def _host_compare(a: argparse.Namespace) -> int:
    with console() as c:
        hosts = [c.call("GET", f"/hosts/{_path(name)}") for name in a.names]
    rows = []
    for key in dict.fromkeys(k for h in hosts for k in ["state", *(h["facts"] or {}), "groups", "labels"]):
        cells = [_fact_text(key, h[key] if key in h else (h["facts"] or {}).get(key)) for h in hosts]
        rows.append(["*" if len(set(cells)) > 1 and key not in OWN_FACTS else "", key, *cells])
    headings = ["", "fact", *a.names]
    if a.format == "json":
        print(json.dumps([dict(zip(headings, row, strict=True)) for row in rows], indent=2, ensure_ascii=False))
    elif a.format == "csv":
        csv.writer(sys.stdout).writerows([[safe_cell(cell) for cell in row] for row in [headings, *rows]])
    else:
        print_table(headings, rows, sys.stdout)
    return 0


def _fact_text(key: str, value: Any) -> str:
    """A fact with its unit, a time as people read it."""
    if key == "memory" and value:
        return in_words(float(value), "By")
    if key == "boot_time" and value:
        return local_time(rfc3339(float(value)))
    return text_of(value)


def _host_change(a: argparse.Namespace) -> int:
    pairs = [label.partition("=") for label in a.label]
    body = model(
        HostsChange,
        hosts=a.names or None,
        where=a.where,
        set_labels={key: value for key, _, value in pairs if value},
        remove_labels=[key for key, _, value in pairs if not value],
        join=a.join,
        leave=a.leave,
    )
    with console() as c:
        print(f"{c.call('POST', '/hosts/change', body)['changed']} hosts changed")
    return 0


def _host_retire(a: argparse.Namespace) -> int:
    with console() as c:
        c.call("POST", f"/hosts/{_path(a.name)}/retire")
    print(f"{a.name} is retired; its history stays until it is forgotten")
    return 0


def _host_erase(a: argparse.Namespace) -> int:
    if not a.yes and input(f"Erase {a.name} with all its history, for good? Write its name: ").strip() != a.name:
        raise CommandError("nothing was erased")
    with console() as c:
        print(c.call("DELETE", f"/hosts/{_path(a.name)}")["detail"])
    return 0


def _host_revoke(a: argparse.Namespace) -> int:
    with console() as c:
        print(c.call("DELETE", f"/hosts/{_path(a.name)}/agent")["detail"])
    return 0


def _host_plan(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", f"/hosts/{_path(a.name)}/plan")
    if a.format == "json":
        print(json.dumps(answer, indent=2, ensure_ascii=False))
        return 0
    columns: list[Column] = [
        ("setting", lambda s: s["setting"]),
        ("value", lambda s: s["value"]),
        ("from plan", lambda s: s["plan"]),
    ]
    show({"items": answer["settings"]}, columns, a.format)
    for problem in answer["problems"]:
        print(f"not done: {printable(problem)}", file=sys.stderr)
    if answer["applied"] == "not yet":
        print("the agent has not taken this up yet", file=sys.stderr)
    return 0


# --- credentials


def _credential_list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/credentials")
    columns: list[Column] = [
        ("credential", lambda x: x["name"]),
        ("kind", lambda x: x["kind"]),
        ("settings", lambda x: {k: v for k, v in x["settings"].items() if k != "public_key"}),
        ("hosts", lambda x: x["used_by"]),
        ("for role", lambda x: x["role"]),
        ("for groups", lambda x: x["groups"] or "all"),
        ("changed", lambda x: f"{local_time(x['updated_at'])} by {x['updated_by']}"),
    ]
    show(answer, columns, a.format, empty="No credentials. Make one with: balise credential set NAME --kind ssh …")
    return 0


def _credential_set(a: argparse.Namespace) -> int:
    body: dict[str, Any] = {"kind": a.kind, "role": a.role, "groups": a.group}
    if a.kind == "ssh" and a.private_key:
        try:
            body |= {"user": a.user, "private_key": a.private_key.read_text("utf-8")}
        except OSError as error:
            raise CommandError(f"{a.private_key} cannot be read: {error.strerror}") from None
        if a.secret_stdin:
            body["passphrase"] = _secret(a, "Passphrase")
    elif a.kind == "snmp" and a.version == "2c":
        body |= {"version": "2c", "community": _secret(a, "Community")}
    elif a.kind == "snmp":
        body |= {"version": "3", "user": a.user, "auth": {"protocol": a.auth, "password": _secret(a, "Authentication")}}
        if a.privacy != "none":
            body["privacy"] = {"protocol": a.privacy, "password": _secret(a, "Privacy")}
    else:
        body |= {"user": a.user, "password": _secret(a, "Password")}
    checked = _credential(body)
    with console() as c:
        c.call("PUT", f"/credentials/{_path(a.name)}", checked, anyway=a.anyway or None)
    print(f"credential {a.name} kept")
    return 0


def _credential(body: dict[str, Any]) -> Any:
    try:
        return TypeAdapter(CredentialBody).validate_python({k: v for k, v in body.items() if v is not None})
    except ValueError as error:
        for one in getattr(error, "errors", list)()[:5]:
            place = ".".join(str(p) for p in one["loc"] if p not in ("ssh", "snmp 2c", "snmp 3", "login"))
            print(f"balise: {place}: {message_of(one)}", file=sys.stderr)
        raise SystemExit(2) from None


def _secret(a: argparse.Namespace, what: str) -> str:
    return sys.stdin.readline().rstrip("\n") if a.secret_stdin else getpass.getpass(f"{what} secret: ")


def _credential_delete(a: argparse.Namespace) -> int:
    with console() as c:
        print(c.call("DELETE", f"/credentials/{_path(a.name)}")["detail"])
    return 0


# --- groups


def group_list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/groups")
    columns: list[Column] = [
        ("state", lambda g: g["state"]),
        ("group", lambda g: g["name"]),
        ("kind", lambda g: g["kind"]),
        ("in", lambda g: g["parent"]),
        ("hosts", lambda g: g["hosts"]),
    ]
    columns += [(state, lambda g, s=state: g["states"].get(s, "")) for state in ("critical", "warning", "silent", "ok")]
    columns.append(("chosen by", lambda g: g["where"]))
    show(answer, columns, a.format, empty="No groups. Make one with: balise group set NAME --where FILTER")
    return 0


def _group_set(a: argparse.Namespace) -> int:
    fields: dict[str, Any] = {"kind": "site"} if a.site else {}
    for key, value in (("where", a.where), ("parent", a.parent), ("about", a.about), ("hosts", a.host)):
        if value is not None:
            fields[key] = value
    with console() as c:
        # What was not said stays as it is, so only what was said is sent.
        body = model(GroupBody, **fields).model_dump(exclude_unset=True)
        answer = c.call("PUT", f"/groups/{_path(a.name)}", body)
    print(f"{answer['kind']} {a.name}: {answer['hosts']} hosts")
    return 0


def _group_preview(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("POST", "/groups/preview", model(GroupPreview, where=a.where))
    if a.format == "json":
        print(json.dumps(answer, indent=2))
        return 0
    show({"items": answer["hosts"]}, [("host", lambda h: h)], a.format, empty="It chooses no host.")
    print(f"{answer['count']} hosts", file=sys.stderr)
    return 0


def _group_delete(a: argparse.Namespace) -> int:
    with console() as c:
        print(c.call("DELETE", f"/groups/{_path(a.name)}")["detail"])
    return 0


# --- plans


def _plan_list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/plans")
    columns: list[Column] = [
        ("plan", lambda p: p["name"]),
        ("for", lambda p: p["body"].get("for") or "all hosts"),
        ("hosts", lambda p: p["hosts"]),
        ("version", lambda p: p["version"]),
        ("changed", lambda p: f"{local_time(p['updated_at'])} by {p['updated_by']}"),
        ("about", lambda p: p["body"].get("about", "")),
    ]
    show(answer, columns, a.format, empty="No plans: every host is collected in the same way.")
    return 0


def _plan_parts(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/plans/parts")
    columns: list[Column] = [
        ("part", lambda p: p["part"]),
        ("unless told", lambda p: "off" if not p["on"] else f"every {p['every']}" if p["every"] else "on"),
        ("processor time a reading", lambda p: p["cost"]),
        ("what", lambda p: p["about"]),
    ]
    show(answer, columns, a.format)
    return 0


def _plan_show(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", f"/plans/{_path(a.name)}")
    print(answer["text"], end="" if answer["text"].endswith("\n") else "\n")
    print(f"# version {answer['version']}, for {answer['hosts']} hosts now", file=sys.stderr)
    return 0


def _text(path: Path) -> PlanText:
    try:
        text: PlanText = model(PlanText, text=path.read_text("utf-8"))
    except (OSError, UnicodeDecodeError) as error:
        raise CommandError(f"{path} cannot be read: {error}") from None
    return text


def _plan_check(a: argparse.Namespace) -> int:
    bad = 0
    with console() as c:
        for path in a.files:
            answer = c.call("POST", "/plans/check", _text(path))
            for p in answer["problems"]:
                print(f"{path}:{p['line']}:{p['column']}: {printable(p['detail'])}")
            bad += not answer["good"]
            if answer["good"]:
                print(f"{path}: plan {answer['name']} is good, for {answer['hosts']} hosts now")
    return 1 if bad else 0


def _plan_diff(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("POST", "/plans/diff", _text(a.files[0]))
    columns: list[Column] = [
        ("host", lambda x: x["host"]),
        ("setting", lambda x: x["setting"]),
        ("now", lambda x: x["before"]),
        ("then", lambda x: x["after"]),
    ]
    show(answer, columns, a.format, empty="It would change nothing.")
    if a.format == "table" and answer["items"]:
        more = f", {answer['left_out']} changes not shown" if answer["left_out"] else ""
        print(f"{answer['hosts']} hosts would change{more}", file=sys.stderr)
    return 0


def _plan_apply(a: argparse.Namespace) -> int:
    with console() as c:
        checks = [(path, c.call("POST", "/plans/check", _text(path))) for path in a.files]
        problems = [f"{path}:{p['line']}:{p['column']}: {p['detail']}" for path, k in checks for p in k["problems"]]
        if problems:
            for problem in problems:
                print(printable(problem), file=sys.stderr)
            raise CommandError("nothing was kept")
        for path, check in checks:
            kept = c.call("PUT", f"/plans/{_path(check['name'])}", _text(path))
            print(f"plan {kept['name']} version {kept['version']} holds for {kept['hosts']} hosts")
    return 0


def _plan_delete(a: argparse.Namespace) -> int:
    with console() as c:
        print(c.call("DELETE", f"/plans/{_path(a.name)}")["detail"])
    return 0


def _plan_schema(a: argparse.Namespace) -> int:
    from balise.api.plans import PlanDocument

    del a
    print(json.dumps(PlanDocument.model_json_schema(by_alias=True), indent=2))
    return 0


# --- relays and machines that wait


def _relay_list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/relays")
    report = lambda r, key: (r["report"] or {}).get(key, "")  # noqa: E731
    columns: list[Column] = [
        ("state", lambda r: r["state"]),
        ("relay", lambda r: r["name"]),
        ("site", lambda r: r["site"]),
        ("agents behind", lambda r: r["behind"]),
        ("reads hosts", lambda r: r["remote_hosts"]),
        ("waiting", lambda r: report(r, "waiting")),
        ("dropped", lambda r: report(r, "dropped")),
        ("last heard", lambda r: ago(r["last_seen"])),
    ]
    show(answer, columns, a.format, empty="No relays. Make a key and run `balise relay enrol` at a site.")
    return 0


def _relay_remove(a: argparse.Namespace) -> int:
    with console() as c:
        print(c.call("DELETE", f"/relays/{_path(a.name)}")["detail"])
    return 0


def _candidate_list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/candidates")
    columns: list[Column] = [
        ("id", lambda x: x["id"]),
        ("name", lambda x: x["name"]),
        ("from", lambda x: x["origin"]),
        ("system", lambda x: x["facts"]["os"]),
        ("addresses", lambda x: x["facts"]["addresses"]),
        ("key", lambda x: x["key"]),
        ("asked", lambda x: local_time(x["asked_at"])),
    ]
    show(answer, columns, a.format, empty="No machine waits to be let in.")
    return 0


def _candidate_approve(a: argparse.Namespace) -> int:
    from balise.api.agents import Approval

    with console() as c:
        print(c.call("POST", f"/candidates/{a.id}/approve", model(Approval, name=a.name))["detail"])
    return 0


def _candidate_refuse(a: argparse.Namespace) -> int:
    with console() as c:
        print(c.call("DELETE", f"/candidates/{a.id}")["detail"])
    return 0


__all__ = ["add_commands", "form", "group_list"]

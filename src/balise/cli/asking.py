"""Commands that ask a console: hosts, metrics, events, rules, alerts, channels, keys."""

from __future__ import annotations

import argparse
import contextlib
import getpass
import json
import os
import sys
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from balise.api.access import NewEnrolmentKey
from balise.api.alerts import Acknowledge
from balise.api.events import EventQuery
from balise.api.hosts import HostChange
from balise.api.metrics import MetricQuery
from balise.api.notify import CalloutBody, EmailChannel, WebhookChannel
from balise.api.problems import message_of
from balise.api.rules import Rehearse, RuleBody, RuleDocument
from balise.cli.output import Column, ago, local_time, print_table, printable, show, text_of
from balise.cli.running import CommandError
from balise.client import Balise
from balise.core.quantities import in_words


def signed_in_file() -> Path:
    return Path(os.environ.get("XDG_CONFIG_HOME", Path.home() / ".config")) / "balise" / "console.json"


def console() -> Balise:
    """The console of BALISE_URL and BALISE_TOKEN, else the one signed in to."""
    url, token = os.environ.get("BALISE_URL"), os.environ.get("BALISE_TOKEN")
    if not url or not token:
        with contextlib.suppress(OSError, ValueError):
            held = json.loads(signed_in_file().read_text("utf-8"))
            url, token = url or held["url"], token or held["token"]
    if not url:
        raise CommandError("which console? Set BALISE_URL and BALISE_TOKEN, or run: balise sign-in URL")
    return Balise(url, token)


def add_commands(nouns: Any, people: dict[str, Any]) -> None:
    sign_in = nouns.add_parser("sign-in", help="keep a console's address and a token for later commands")
    sign_in.add_argument("url")
    sign_in.add_argument("--token-stdin", action="store_true", help="read the token from standard input")
    sign_in.set_defaults(run=_sign_in)

    status = nouns.add_parser("status", help="what the console says of itself")
    form(status)
    status.set_defaults(run=_status)
    host = _hosts(nouns)
    _metrics(nouns)
    _events(nouns)
    _rules(nouns)
    _alerts(nouns)
    _telling(nouns)
    _keys(nouns)
    verb(people["user"], "list", "who may sign in", _user_list)
    verb(people["user"], "remove", "remove a user, signed out everywhere", _user_remove, form_=False).add_argument(
        "name"
    )
    verb(people["token"], "list", "tokens of programs", _token_list)
    verb(people["token"], "revoke", "make a token useless", _token_revoke, form_=False).add_argument("id", type=int)
    from balise.cli import applications, enrolling, keeping, kits, probes, services

    services.add_commands(nouns)
    kits.add_commands(nouns)
    probes.add_commands(nouns)
    keeping.add_commands(nouns)
    applications.add_commands(nouns)
    enrolling.add_commands(nouns, {"host": host, "relay": people["relay"]})


def form(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--format", choices=("table", "json", "csv"), default="table", help="table, unless given")


def verbs(nouns: Any, noun: str, help_: str) -> Any:
    return nouns.add_parser(noun, help=help_).add_subparsers(dest="verb", metavar="VERB", required=True)


def verb(of: Any, name: str, help_: str, run: Any, *, form_: bool = True) -> argparse.ArgumentParser:
    made: argparse.ArgumentParser = of.add_parser(name, help=help_)
    if form_:
        form(made)
    made.set_defaults(run=run)
    return made


def _span(parser: argparse.ArgumentParser, default: str) -> None:
    parser.add_argument(
        "--from", dest="from_", default=default, metavar="TIME", help=f"like -15m, or RFC 3339 ({default})"
    )
    parser.add_argument("--to", default="now", metavar="TIME", help="(now)")


def _hosts(nouns: Any) -> Any:
    of = verbs(nouns, "host", "servers and what is known of them")
    listing = verb(of, "list", "all hosts, the worst state first", _host_list)
    listing.add_argument("--retired", action="store_true", help="those that have left, instead of those that are here")
    listing.add_argument("--where", metavar="FILTER", help="""like 'label.site eq "northquay"'""")
    one = verb(of, "show", "one host", _host_show)
    one.add_argument("name")
    label = verb(of, "label", "set labels of a host; a label without a value goes", _host_label)
    label.add_argument("name")
    label.add_argument("labels", nargs="+", metavar="KEY=VALUE")
    return of


def _metrics(nouns: Any) -> None:
    of = verbs(nouns, "metric", "measured values")
    listing = verb(of, "list", "the metrics there are", _metric_list)
    listing.add_argument("text", nargs="?", help="only names that contain this")
    read = verb(of, "read", "values of a metric over time", _metric_read)
    read.add_argument("metric")
    read.add_argument("--where", metavar="FILTER")
    _span(read, "-1h")
    read.add_argument("--step", metavar="DURATION", help="like 5m; chosen to fit, unless given")
    read.add_argument("--points", type=int, default=20, help="about how many steps (20)")
    read.add_argument("--take", default="avg", help="avg min max sum count last rate p50 p90 p95 p99 (avg)")
    read.add_argument("--by", default="host", help="attributes to tell apart, with commas between (host)")
    read.add_argument("--top", type=int, help="only so many series, the highest")


def _events(nouns: Any) -> None:
    of = verbs(nouns, "event", "log records from everywhere")
    search = verb(of, "search", "events by text, filter and span, newest first", _event_search)
    search.add_argument(
        "text", nargs="?", help='words that must be there; "in quotes" as a phrase, begin* as a beginning'
    )
    search.add_argument("--where", metavar="FILTER")
    _span(search, "-1h")
    search.add_argument("--limit", type=int, default=50)
    follow = verb(of, "follow", "events as they arrive, until interrupted", _event_follow)
    follow.add_argument("text", nargs="?")
    follow.add_argument("--where", metavar="FILTER")


def _rules(nouns: Any) -> None:
    of = verbs(nouns, "rule", "what is watched, and its limits")
    verb(of, "list", "all rules", _rule_list)
    verb(of, "show", "one rule as a file", _rule_show).add_argument("name")
    apply = verb(of, "apply", "put rules from files into the console", _rule_apply, form_=False)
    apply.add_argument("files", nargs="+", type=Path, metavar="FILE")
    delete = verb(of, "delete", "take a rule away; its open alerts end", _rule_delete, form_=False)
    delete.add_argument("name")
    rehearse = verb(of, "rehearse", "when a rule would have opened over stored history", _rule_rehearse)
    rehearse.add_argument("rule", help="a rule's name, or a file")
    _span(rehearse, "-24h")


def _alerts(nouns: Any) -> None:
    of = verbs(nouns, "alert", "breaches of limits")
    listing = verb(of, "list", "alerts, open ones first", _alert_list)
    listing.add_argument("--where", metavar="FILTER", help="""like 'severity eq "critical"'""")
    listing.add_argument("--state", choices=("open", "recovered"))
    listing.add_argument("--from", dest="from_", default="-24h", metavar="TIME")
    verb(of, "show", "one alert with its evidence", _alert_show).add_argument("id", type=int)
    acknowledge = verb(of, "acknowledge", "say that you have it", _alert_acknowledge, form_=False)
    acknowledge.add_argument("id", type=int)
    acknowledge.add_argument("--note", default="")


def _telling(nouns: Any) -> None:
    channels = verbs(nouns, "channel", "ways to reach people")
    verb(channels, "list", "all channels", _channel_list)
    webhook = verb(channels, "webhook", "add or change a webhook", _channel_webhook, form_=False)
    webhook.add_argument("name")
    webhook.add_argument("url")
    webhook.add_argument("--bearer-stdin", action="store_true", help="read a bearer token from standard input")
    email = verb(channels, "email", "add or change mail", _channel_email, form_=False)
    email.add_argument("name")
    email.add_argument("to", nargs="+")
    email.add_argument("--server", default="127.0.0.1")
    email.add_argument("--port", type=int, default=25)
    email.add_argument("--security", choices=("starttls", "tls", "none"), default="starttls")
    email.add_argument("--sender", default="balise@localhost.localdomain")
    email.add_argument("--user")
    email.add_argument("--password-stdin", action="store_true")
    verb(channels, "test", "send a test", _channel_test, form_=False).add_argument("name")
    verb(channels, "delete", "take a channel away", _channel_delete, form_=False).add_argument("name")
    callouts = verbs(nouns, "callout", "who is told of what")
    verb(callouts, "list", "all callouts", _callout_list)
    put = verb(callouts, "set", "add or change a callout", _callout_set, form_=False)
    put.add_argument("name")
    put.add_argument("--when", default='severity ge "warning"', metavar="FILTER")
    put.add_argument("--tell", required=True, nargs="+", metavar="CHANNEL")
    verb(callouts, "delete", "take a callout away", _callout_delete, form_=False).add_argument("name")
    deliveries = verbs(nouns, "delivery", "the record of what was told to whom")
    verb(deliveries, "list", "the newest deliveries", _delivery_list)


def _keys(nouns: Any) -> None:
    of = verbs(nouns, "key", "enrolment keys")
    create = verb(of, "create", "make a key and print the command that uses it", _key_create)
    create.add_argument("label")
    create.add_argument("--uses", type=int, default=1)
    create.add_argument("--expires-in", default="24h", metavar="DURATION")
    create.add_argument("--group")
    create.add_argument(
        "--label", dest="labels", action="append", default=[], metavar="KEY=VALUE", help="for its hosts"
    )
    create.add_argument("--site", help="for relays: the site whose hosts they serve and read")
    create.add_argument("--approval", choices=("automatic", "manual"), default="automatic")
    verb(of, "list", "all keys and what they enrolled", _key_list)
    revoke = verb(of, "revoke", "make a key useless", _key_revoke, form_=False)
    revoke.add_argument("id", type=int)
    revoke.add_argument("--agents", action="store_true", help="revoke what it enrolled, too")


def model(model: Any, /, **values: Any) -> Any:
    """A request; what is wrong with it is wrong usage."""
    try:
        return model(**{k: v for k, v in values.items() if v is not None})
    except ValueError as error:
        details = getattr(error, "errors", list)()
        for one in details[:5]:
            place = ".".join(str(p) for p in one["loc"])
            print(f"balise: {place}: {message_of(one)}", file=sys.stderr)
        raise SystemExit(2) from None


# --- signing in and status


def _sign_in(a: argparse.Namespace) -> int:
    token = sys.stdin.readline().strip() if a.token_stdin else getpass.getpass("Token: ").strip()
    with Balise(a.url, token) as c:
        me = c.me()
    if me.name is None:
        raise CommandError("the console does not know this token")
    path = signed_in_file()
    path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    with os.fdopen(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "w") as file:
        json.dump({"url": a.url, "token": token}, file)
    print(f"signed in to {a.url} as {me.name} ({me.role})")
    return 0


def _status(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/status")
    flat = {k: v for k, v in answer.items() if not isinstance(v, dict)}
    figures = answer.get("figures") or {}
    storage = figures.pop("storage", {})
    counters = figures.pop("counters", {})
    words = _said if a.format == "table" else lambda _name, value: value
    said = {k: words(k, v) for k, v in figures.items()} | {f"storage.{k}": words(k, v) for k, v in storage.items()}
    flat |= said | {f"counter.{k}": v for k, v in counters.items()}
    for warning in answer.get("warnings", []):
        print(f"warning: {printable(warning)}", file=sys.stderr)
    if a.format == "json":
        print(json.dumps(answer if not storage else c_answer(answer, storage, counters), indent=2))
    else:
        show({"items": list(flat.items())}, [("what", lambda i: i[0]), ("value", lambda i: i[1])], a.format)
    return 0


_UNITS = {
    "uptime_seconds": "s", "last_tick_seconds": "s", "memory": "By", "state": "By", "series": "By", "events": "By",
    "free": "By", "growth": "By", "points_per_second": "{point}/s", "events_per_second": "{event}/s", "cpu": "{core}",
    "keeps_raw_days": "{day}", "keeps_5m_days": "{day}", "keeps_1h_days": "{day}", "keeps_events_days": "{day}",
}  # fmt: skip
"""What the numbers that a console or a host tells of itself are measured in."""


def _said(name: str, value: Any) -> Any:
    """A number as people say it, anything else as it is."""
    if name == "boot_time" and isinstance(value, int | float):
        return local_time(datetime.fromtimestamp(value, UTC).isoformat())
    unit = _UNITS.get(name)
    return in_words(float(value), unit) if unit and isinstance(value, int | float) else value


def c_answer(answer: Any, storage: Any, counters: Any) -> Any:
    """The answer as it came, put together again."""
    answer["figures"] |= {"storage": storage, "counters": counters}
    return answer


# --- hosts

HOST_COLUMNS: list[Column] = [
    ("state", lambda h: h["state"]),
    ("host", lambda h: h["name"]),
    ("groups", lambda h: h["groups"]),
    ("labels", lambda h: h["labels"]),
    ("system", lambda h: h["os"]),
    ("collected", lambda h: h["collection"]["mode"]),
    ("alerts", lambda h: h["open_alerts"] or ""),
    ("last heard", lambda h: ago(h["last_seen"])),
]


def _host_list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/hosts", where=a.where, sort="state", limit=10_000, retired=a.retired or None)
    show(answer, HOST_COLUMNS, a.format, empty="No hosts. Make an enrolment key with: balise key create LABEL")
    return 0


def _host_show(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", f"/hosts/{_quoted(a.name)}")
    if a.format == "json":
        print(json.dumps(answer, indent=2, ensure_ascii=False))
        return 0
    facts = answer.pop("facts") or {}
    agent = answer.pop("agent") or {}
    collection = answer.pop("collection")
    words = _said if a.format == "table" else lambda _name, value: value
    flat = [(k, words(k, v)) for k, v in {**answer, **facts}.items() if v not in (None, "", [], {})]
    flat += [(f"collection {k}", v) for k, v in collection.items() if v is not None]
    flat += [(f"agent {k}", words(k, v)) for k, v in agent.items() if not isinstance(v, list) and v not in ("", None)]
    flat += [
        (f"follows {f['path']}", f"{f['status']}: {f['detail']}, {f['lines']} lines") for f in agent.get("follow", [])
    ]
    show({"items": flat}, [("what", lambda i: i[0]), ("value", lambda i: i[1])], a.format)
    return 0


def _host_label(a: argparse.Namespace) -> int:
    with console() as c:
        labels = dict(c.host(a.name).labels)
        for pair in a.labels:
            key, sign, value = pair.partition("=")
            if not sign or not value:
                labels.pop(key, None)
            else:
                labels[key] = value
        changed = c.change_host(a.name, model(HostChange, labels=labels))
    print(f"{changed.name}: {text_of(changed.labels) or 'no labels'}")
    return 0


def _quoted(name: str) -> str:
    from urllib.parse import quote

    return quote(name, safe="")


# --- metrics


def _metric_list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/metrics")
    if a.text:
        answer["items"] = [m for m in answer["items"] if a.text.lower() in m["name"].lower()]
    columns: list[Column] = [
        ("metric", lambda m: m["name"]),
        ("unit", lambda m: m["unit"]),
        ("kind", lambda m: m["kind"]),
        ("series", lambda m: m["series"]),
        ("meaning", lambda m: m["description"]),
    ]
    show(answer, columns, a.format, empty="No metric of that name has arrived yet.")
    return 0


def _metric_read(a: argparse.Namespace) -> int:
    query = model(
        MetricQuery,
        metric=a.metric,
        where=a.where,
        from_=a.from_,
        to=a.to,
        step=a.step,
        points=None if a.step else a.points,
        take=a.take,
        by=[b for b in a.by.split(",") if b],
        top=a.top,
    )
    with console() as c:
        answer = c.call("POST", "/metrics/query", query)
    if a.format == "json":
        print(json.dumps(answer, indent=2, ensure_ascii=False))
        return 0
    names = [" ".join(v for v in s["attributes"].values() if v) or answer["metric"] for s in answer["series"]]
    if not names:
        print("No series matches. See which attributes there are: balise metric list", file=sys.stderr)
        return 0
    raw = a.format == "csv"
    rows = [
        [
            datetime.fromtimestamp(t).astimezone().isoformat(" ", "seconds")[:19],
            *(text_of(s["values"][i]) if raw else in_words(s["values"][i], answer["unit"]) for s in answer["series"]),
        ]
        for i, t in enumerate(answer["times"])
    ]
    if raw:
        items = [dict(enumerate(row)) for row in rows]
        show({"items": items}, [(h, lambda r, i=i: r[i]) for i, h in enumerate(["time", *names])], "csv")
    else:
        print_table(["time", *names], rows, sys.stdout)
        print(f"{a.take} of {answer['metric']} each {answer['step_seconds']:g} s, from {answer['tier']} points")
        if answer["note"]:
            print(answer["note"])
    return 0


# --- events

EVENT_COLUMNS: list[Column] = [
    ("time", lambda e: local_time(e["time"])),
    ("severity", lambda e: e["severity"]),
    ("host", lambda e: e["host"]),
    ("source", lambda e: e["source"]),
    ("text", lambda e: e["body"][:300]),
]


def _event_search(a: argparse.Namespace) -> int:
    query = model(EventQuery, text=a.text, where=a.where, from_=a.from_, to=a.to, limit=a.limit)
    with console() as c:
        answer = c.call("POST", "/events/query", query)
    show(answer, EVENT_COLUMNS, a.format, empty="No event matches in this span.")
    if answer["next"] and a.format == "table":
        print(f"There are more: --limit {a.limit * 4}, or a narrower filter.", file=sys.stderr)
    return 0


def _event_follow(a: argparse.Namespace) -> int:
    with console() as c:
        for event in c.follow_events(a.where, a.text):
            if a.format == "json":
                print(event.model_dump_json(), flush=True)
            else:
                row = [text_of(get(event.model_dump())) for _, get in EVENT_COLUMNS]
                print("  ".join(row), flush=True)
    return 0


# --- rules


def _rule_list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/rules")

    def limit(rule: Any, severity: str) -> str:
        one = rule["limits"].get(severity)
        if not one:
            return ""
        word = "above" if one.get("above") is not None else "below"
        return f"{word} {in_words(one[word], rule['unit'])}"

    columns: list[Column] = [
        ("rule", lambda r: r["name"]),
        ("about", lambda r: r["about"]),
        ("metric", lambda r: r["measure"]["metric"]),
        ("warning", lambda r: limit(r, "warning")),
        ("critical", lambda r: limit(r, "critical")),
        ("on", lambda r: r["enabled"]),
        ("open", lambda r: r["open_alerts"] or ""),
    ]
    show(answer, columns, a.format)
    return 0


def _rule_show(a: argparse.Namespace) -> int:
    import yaml

    with console() as c:
        answer = c.call("GET", f"/rules/{_quoted(a.name)}")
    if a.format == "json":
        print(json.dumps(answer, indent=2, ensure_ascii=False))
        return 0
    body = RuleBody.model_validate({k: v for k, v in answer.items() if k in RuleBody.model_fields})
    document = {"rule": answer["name"], **body.model_dump(exclude_none=True)}
    print(yaml.safe_dump(document, sort_keys=False, allow_unicode=True).rstrip())
    return 0


def read_rules(path: Path) -> list[RuleDocument]:
    """The rules of a YAML file: one document, several, or a list."""
    import yaml

    try:
        text = path.read_text("utf-8")
        documents = [d for d in yaml.safe_load_all(text) if d is not None]
    except (OSError, UnicodeDecodeError) as error:
        raise CommandError(f"{path}: {error}") from None
    except yaml.YAMLError as error:
        raise CommandError(f"{path} is no YAML: {error}") from None
    flat = [one for document in documents for one in (document if isinstance(document, list) else [document])]
    found = []
    for number, one in enumerate(flat, 1):
        try:
            found.append(RuleDocument.model_validate(one))
        except ValueError as error:
            details = getattr(error, "errors", list)()
            lines = [f"{'.'.join(str(p) for p in d['loc'])}: {message_of(d)}" for d in details]
            raise CommandError(f"{path}, rule {number}: " + "; ".join(lines[:5])) from None
    return found


def _rule_apply(a: argparse.Namespace) -> int:
    rules = [(path, rule) for path in a.files for rule in read_rules(path)]
    for path, rule in rules:
        if not rule.rule:
            raise CommandError(f"{path}: a rule in a file needs its name: rule: NAME")
    with console() as c:
        for _, rule in rules:
            body = RuleBody.model_validate(rule.model_dump(exclude={"rule"}))
            kept = c.put_rule(rule.rule or "", body)
            print(f"rule {kept.name} is at work")
    return 0


def _rule_delete(a: argparse.Namespace) -> int:
    with console() as c:
        c.delete_rule(a.name)
    print(f"rule {a.name} deleted; its open alerts are ended")
    return 0


def _rule_rehearse(a: argparse.Namespace) -> int:
    with console() as c:
        if Path(a.rule).exists():
            document = read_rules(Path(a.rule))[0]
        else:
            answer = c.call("GET", f"/rules/{_quoted(a.rule)}")
            held = {k: v for k, v in answer.items() if k in RuleBody.model_fields}
            document = RuleDocument.model_validate({**held, "rule": a.rule})
        result = c.call("POST", "/rules/rehearse", model(Rehearse, rule=document, from_=a.from_, to=a.to))
    from balise.api.spans import rfc3339

    unit = result["unit"]
    columns: list[Column] = [
        ("opened", lambda i: local_time(rfc3339(i["opened_at"]))),
        ("recovered", lambda i: local_time(rfc3339(i["recovered_at"])) if i["recovered_at"] else "still open"),
        ("severity", lambda i: i["severity"]),
        ("host", lambda i: i["host"]),
        ("which", lambda i: i["attributes"]),
        ("worst", lambda i: in_words(i["worst_value"], unit)),
    ]
    show(result, columns, a.format, empty="It would not have opened.")
    if a.format == "table":
        count = len(result["items"]) + result["left_out"]
        print(f"{count} alerts on {result['groups']} things, asked each {result['step_seconds']:g} s", file=sys.stderr)
    return 0


# --- alerts


def _alert_list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/alerts", where=a.where, state=a.state, from_=a.from_, limit=1000)
    answer["items"].sort(key=lambda x: (x["state"] != "open", x["severity"] != "critical"))
    columns: list[Column] = [
        ("id", lambda x: x["id"]),
        ("state", lambda x: x["state"]),
        ("severity", lambda x: x["severity"]),
        ("since", lambda x: local_time(x["opened_at"])),
        ("host", lambda x: x["host"]),
        ("what", lambda x: x["about"]),
        ("which", lambda x: " ".join(x["attributes"].values())),
        ("value", lambda x: in_words(x["value"], x["unit"])),
        ("who has it", lambda x: x["acknowledged_by"] or ("nobody" if x["state"] == "open" else "")),
    ]
    show(answer, columns, a.format, empty="No alerts in this span.")
    return 0


def _alert_show(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", f"/alerts/{a.id}")
    if a.format == "json":
        print(json.dumps(answer, indent=2, ensure_ascii=False))
        return 0
    unit = answer["unit"]
    print(f"{answer['severity']}, {answer['state']}: {answer['about']}")
    where = " ".join([answer["host"], *answer["attributes"].values()])
    print(f"{where}: {answer['metric']} is {in_words(answer['value'], unit)}, limit {in_words(answer['limit'], unit)}")
    for step in answer["story"]:
        print(f"  {local_time(step['at'])}  {step['what']}  {step['who']} {step['note']}".rstrip())
    if answer["clue"]:
        print(f"\nClue: {printable(answer['clue'])}")
    _print_evidence(answer["evidence"])
    print(f"\nWhat to do:\n{answer['advice']}")
    return 0


def _print_evidence(evidence: Any) -> None:
    for session in [s for s in evidence.get("sessions", []) if s["root"]][:6]:
        mark = "  " * session["depth"] + ("holds" if session["depth"] == 0 else "waits")
        print(f"  {mark}  {printable(session['application'])}  {printable(session['statement'])[:80]}")
    for change in evidence.get("changes", [])[:5]:
        print(f"  changed {local_time(change['time'])}  {printable(change['body'])[:110]}")
    for line in evidence.get("lines", [])[:5]:
        print(f"  {line['count']:5d} x {line['severity']}: {printable(line['example'])[:110]}")
    for process in evidence.get("processes", [])[:5]:
        name = printable(process["name"])
        print(f"  {name:30.30}  {process['cpu'] * 100:6.1f} % of a core  {in_words(process['memory'], 'By')}")


def _alert_acknowledge(a: argparse.Namespace) -> int:
    with console() as c:
        c.call("POST", f"/alerts/{a.id}/acknowledge", Acknowledge(note=a.note))
    print(f"alert {a.id} is yours")
    return 0


# --- channels, callouts, deliveries


def _channel_list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/channels")
    columns: list[Column] = [
        ("channel", lambda x: x["name"]),
        ("kind", lambda x: x["kind"]),
        ("to", lambda x: x["settings"].get("url") or x["settings"].get("to")),
        ("last result", lambda x: x["last_result"]),
        ("at", lambda x: local_time(x["last_at"])),
    ]
    show(answer, columns, a.format, empty="No channels: nobody is told of anything yet.")
    return 0


def _channel_webhook(a: argparse.Namespace) -> int:
    bearer = sys.stdin.readline().strip() if a.bearer_stdin else None
    with console() as c:
        c.put_channel(a.name, model(WebhookChannel, kind="webhook", url=a.url, bearer=bearer))
    print(f"channel {a.name} kept; try it with: balise channel test {a.name}")
    return 0


def _channel_email(a: argparse.Namespace) -> int:
    password = sys.stdin.readline().rstrip("\n") if a.password_stdin else None
    body = model(
        EmailChannel,
        kind="email",
        to=a.to,
        server=a.server,
        port=a.port,
        security=a.security,
        sender=a.sender,
        user=a.user,
        password=password,
    )
    with console() as c:
        c.put_channel(a.name, body)
    print(f"channel {a.name} kept; try it with: balise channel test {a.name}")
    return 0


def _channel_test(a: argparse.Namespace) -> int:
    with console() as c:
        print(c.test_channel(a.name))
    return 0


def _channel_delete(a: argparse.Namespace) -> int:
    with console() as c:
        c.delete_channel(a.name)
    print(f"channel {a.name} deleted")
    return 0


def _callout_list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/callouts")
    columns: list[Column] = [
        ("callout", lambda x: x["name"]),
        ("when", lambda x: x["when"]),
        ("tell", lambda x: x["tell"]),
    ]
    show(answer, columns, a.format, empty="No callouts: nobody is told of anything yet.")
    return 0


def _callout_set(a: argparse.Namespace) -> int:
    with console() as c:
        c.put_callout(a.name, model(CalloutBody, when=a.when, tell=a.tell))
    print(f"callout {a.name} kept")
    return 0


def _callout_delete(a: argparse.Namespace) -> int:
    with console() as c:
        c.delete_callout(a.name)
    print(f"callout {a.name} deleted")
    return 0


def _delivery_list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/deliveries")
    columns: list[Column] = [
        ("at", lambda x: local_time(x["sent_at"] or x["created_at"])),
        ("channel", lambda x: x["channel"]),
        ("what", lambda x: x["kind"]),
        ("alert", lambda x: x["alert"]),
        ("result", lambda x: x["state"]),
        ("tries", lambda x: x["attempts"]),
        ("problem", lambda x: x["problem"]),
    ]
    show(answer, columns, a.format, empty="Nothing has been told to anybody yet.")
    return 0


# --- enrolment keys


def _key_create(a: argparse.Namespace) -> int:
    body = model(
        NewEnrolmentKey,
        label=a.label,
        uses=a.uses,
        expires_in=a.expires_in,
        group=a.group,
        site=a.site,
        labels=dict(pair.partition("=")[::2] for pair in a.labels),
        approval=a.approval,
    )
    with console() as c:
        answer = c.call("POST", "/enrolment-keys", body)
    if a.format == "json":
        print(json.dumps(answer, indent=2))
    else:
        print(answer["command"])
        print(
            f"good for {answer['uses_left']} hosts until {local_time(answer['expires_at'])}; shown only now",
            file=sys.stderr,
        )
    return 0


def _key_list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/enrolment-keys")
    columns: list[Column] = [
        ("id", lambda x: x["id"]),
        ("label", lambda x: x["label"]),
        ("group", lambda x: x["group"]),
        ("uses left", lambda x: x["uses_left"]),
        ("expires", lambda x: "revoked" if x["revoked_at"] else local_time(x["expires_at"])),
        ("approval", lambda x: x["approval"]),
        ("waiting", lambda x: x["waiting"] or ""),
        ("enrolled", lambda x: x["enrolled"]),
    ]
    show(answer, columns, a.format, empty="No enrolment keys. Make one with: balise key create LABEL")
    return 0


def _key_revoke(a: argparse.Namespace) -> int:
    with console() as c:
        print(c.revoke_enrolment_key(a.id, agents=a.agents))
    return 0


# --- people and programs


def _user_list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/users")
    columns: list[Column] = [
        ("name", lambda x: x["name"]),
        ("role", lambda x: x["role"]),
        ("last signed in", lambda x: local_time(x["signed_in_at"]) or "never"),
    ]
    show(answer, columns, a.format, empty="No users. Make the first with: balise user add NAME --role administrator")
    return 0


def _user_remove(a: argparse.Namespace) -> int:
    with console() as c:
        c.remove_user(a.name)
    print(f"user {a.name} removed, and signed out everywhere")
    return 0


def _token_list(a: argparse.Namespace) -> int:
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


def _token_revoke(a: argparse.Namespace) -> int:
    with console() as c:
        c.revoke_token(a.id)
    print("the token is good for nothing from now on")
    return 0

"""`balise metric`: measured values."""

from __future__ import annotations

import argparse
import json
import sys
from datetime import datetime
from operator import itemgetter

from balise.api.foresight import BaselineQuery, ForecastQuery
from balise.api.metrics import MetricQuery
from balise.api.spans import rfc3339
from balise.cli import moved
from balise.cli.build import filters, span, verb, verbs
from balise.cli.connect import console, model
from balise.cli.output import Column, local_time, print_table, show, text_of
from balise.core.quantities import in_words


def add(noun: argparse.ArgumentParser) -> None:
    of = verbs(noun)
    listing = verb(of, "list", "the metrics there are", _list)
    listing.add_argument("text", nargs="?", help="only names that contain this")
    read = verb(of, "read", "values of a metric over time", _read)
    read.add_argument("metric")
    filters(read)
    span(read, "-1h")
    read.add_argument("--step", metavar="DURATION", help="like 5m; chosen to fit, unless given")
    read.add_argument("--points", type=int, default=20, help="about how many steps (20)")
    read.add_argument("--take", default="avg", help="avg min max sum count last rate p50 p90 p95 p99 (avg)")
    read.add_argument("--by", default="host", help="attributes to tell apart, with commas between (host)")
    read.add_argument("--top", type=int, help="only so many series, the highest")
    read.add_argument("--shift", metavar="TIME", help="like -1d: what was a day before, at these times")
    moved.add(of)
    baseline = verb(of, "baseline", "what is usual at each hour, learned from the weeks before", _baseline)
    baseline.add_argument("metric")
    filters(baseline)
    span(baseline, "-24h")
    baseline.add_argument("--by", default="host", help="attributes to tell apart, with commas between (host)")
    baseline.add_argument("--deviations", type=float, default=3, help="how wide the band is (3)")
    forecast = verb(of, "forecast", "when a metric gets to a value, the first first", _forecast)
    forecast.add_argument("metric")
    filters(forecast)
    forecast.add_argument("--at", type=float, default=1.0, help="the value (1)")
    forecast.add_argument("--horizon", default="3d", metavar="DURATION", help="how far to look ahead (3d)")
    forecast.add_argument("--by", default="host", help="attributes to tell apart, with commas between (host)")


def _list(a: argparse.Namespace) -> int:
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


def _read(a: argparse.Namespace) -> int:
    query = model(
        MetricQuery,
        metric=a.metric,
        where=a.where,
        filter=a.filter,
        from_=a.from_,
        to=a.to,
        step=a.step,
        points=None if a.step else a.points,
        take=a.take,
        by=[b for b in a.by.split(",") if b],
        top=a.top,
        shift=a.shift,
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
        show({"items": items}, [(h, itemgetter(i)) for i, h in enumerate(["time", *names])], "csv")
    else:
        print_table(["time", *names], rows, sys.stdout)
        print(f"{a.take} of {answer['metric']} each {answer['step_seconds']:g} s, from {answer['tier']} points")
        if answer["note"]:
            print(answer["note"])
    return 0


def _baseline(a: argparse.Namespace) -> int:
    query = model(
        BaselineQuery,
        metric=a.metric,
        where=a.where,
        filter=a.filter,
        by=a.by.split(","),
        from_=a.from_,
        to=a.to,
        deviations=a.deviations,
    )
    with console() as c:
        answer = c.call("POST", "/metrics/baseline", query)
        unit = next((m["unit"] for m in c.call("GET", "/metrics")["items"] if m["name"] == a.metric), "")
    rows = [
        {"at": at, **{key: one[key][i] for key in ("low", "middle", "high")}, "which": one["attributes"]}
        for one in answer["series"]
        for i, at in enumerate(answer["times"])
    ]
    columns: list[Column] = [
        ("hour", lambda r: local_time(rfc3339(r["at"]))),
        ("which", lambda r: " ".join(r["which"].values())),
        *((key, lambda r, key=key: in_words(r[key], unit)) for key in ("low", "middle", "high")),
    ]
    show(answer if a.format == "json" else {**answer, "items": rows}, columns, a.format)
    if not answer["enough"] and a.format == "table":
        print("not enough history yet: what is usual is known after two weeks", file=sys.stderr)
    return 0


def _forecast(a: argparse.Namespace) -> int:
    query = model(
        ForecastQuery, metric=a.metric, where=a.where, filter=a.filter, by=a.by.split(","), at=a.at, horizon=a.horizon
    )
    with console() as c:
        answer = c.call("POST", "/metrics/forecast", query)
        unit = next((m["unit"] for m in c.call("GET", "/metrics")["items"] if m["name"] == a.metric), "")

    def when(key: str) -> Column:
        return key.replace("_", " "), lambda r: local_time(rfc3339(r[key])) if r[key] else ""

    columns: list[Column] = [
        ("which", lambda r: " ".join(r["attributes"].values())),
        when("reaches_at"),
        when("earliest"),
        when("latest"),
        ("a day", lambda r: in_words(r["slope_per_day"], unit)),
        ("fit", lambda r: "" if r["fit"] is None else f"{r['fit']:.2f}"),
    ]
    told = (
        [one for one in answer["series"] if one["reaches_at"] is not None] if a.format == "table" else answer["series"]
    )
    empty = f"Nothing gets to {in_words(a.at, unit)} within {a.horizon}; --horizon looks further ahead."
    show(answer if a.format == "json" else {"items": told}, columns, a.format, empty=empty)
    return 0

"""The command line as a person uses it: exit statuses, tables, JSON as it is, CSV without formulas."""

from __future__ import annotations

import argparse
import contextlib
import csv
import io
import json
import os
import subprocess
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest

from balise.cli.main import joined, main, parser
from balise.cli.output import fitting, printable
from balise.client import Balise
from balise.core.cells import safe_cell
from balise.core.quantities import in_words
from running import BALISE, Service, free_port, until
from sending import log_request, post, send_gauge

RULE = """\
rule: cli-depth
about: Water under the keel
hosts: label.site pr or host pr
measure: {metric: cli.depth, each: [host], take: last, over: 30s}
limits:
  warning: {below: 5, clear: 6}
advice: Slow down.
"""


@dataclass
class Result:
    returncode: int
    stdout: str
    stderr: str


def run(service: Service, *words: str, role: str = "administrator", given: str = "", **more: str) -> Result:
    """The command's entry point, called here: a process of its own for each of a hundred calls would take minutes."""
    environment = {"BALISE_URL": service.url, "BALISE_TOKEN": service.tokens[role], "NO_COLOR": "1", **more}
    out, err = io.StringIO(), io.StringIO()
    with (
        pytest.MonkeyPatch.context() as patch,
        contextlib.redirect_stdout(out),
        contextlib.redirect_stderr(err),
    ):
        for name, value in environment.items():
            patch.setenv(name, value)
        patch.setattr("sys.stdin", io.StringIO(given))
        mask = os.umask(0o022)
        try:
            status = main(list(words))
        except SystemExit as left:
            status = left.code if isinstance(left.code, int) else 1
            err.write("" if isinstance(left.code, int) else str(left.code))
        finally:
            # A console keeps what it writes to itself; what other tests write here is for daemons of other users.
            os.umask(mask)
    return Result(status, out.getvalue(), err.getvalue())


def test_the_command_itself_runs_and_ends_with_its_status(service: Service) -> None:
    """Once as a real process: the entry point is installed and its status reaches the shell."""
    environment = {**os.environ, "BALISE_URL": f"http://127.0.0.1:{free_port()}", "BALISE_TOKEN": "x"}
    away = subprocess.run([BALISE, "host", "list"], capture_output=True, text=True, env=environment, check=False)
    assert away.returncode == 3 and away.stderr.startswith("balise: ") and "Traceback" not in away.stderr


def test_each_noun_lists_as_table_json_and_csv(service: Service, admin: Balise) -> None:
    send_gauge(service.url, service.tokens["ingest"], "cli-1", "cli.depth", 3.0)
    for noun, verb in (
        ("host", "list"),
        ("group", "list"),
        ("metric", "list"),
        ("rule", "list"),
        ("alert", "list"),
        ("channel", "list"),
        ("callout", "list"),
        ("delivery", "list"),
        ("key", "list"),
        ("credential", "list"),
        ("plan", "list"),
        ("relay", "list"),
        ("service", "list"),
        ("candidate", "list"),
        ("status", ""),
    ):
        words = [w for w in (noun, verb) if w]
        table = run(service, *words)
        assert table.returncode == 0 and table.stdout.strip(), table.stderr
        answer = run(service, *words, "--format", "json")
        assert isinstance(json.loads(answer.stdout), dict)
        assert run(service, *words, "--format", "csv").returncode == 0
    shown = json.loads(run(service, "host", "show", "cli-1", "--format", "json").stdout)
    assert shown["name"] == "cli-1"
    assert "cli-1" in run(service, "host", "show", "cli-1").stdout


def test_exit_statuses(service: Service) -> None:
    assert run(service, "host", "show", "nobody").returncode == 1
    assert run(service, "key", "create", "x", role="viewer").returncode == 1
    assert run(service, "host", "climb").returncode == 2
    assert run(service, "metric", "read", "cli.depth", "--take", "most").returncode == 2
    away = run(service, "host", "list", BALISE_URL=f"http://127.0.0.1:{free_port()}")
    assert away.returncode == 3 and "cannot be reached" in away.stderr and "Traceback" not in away.stderr
    nowhere = run(service, "host", "list", BALISE_URL="", BALISE_TOKEN="", XDG_CONFIG_HOME="/nonexistent")
    assert nowhere.returncode == 1 and "balise sign-in" in nowhere.stderr


def test_metrics_are_read_over_time(service: Service) -> None:
    at = time.time() // 60 * 60 - 60
    for i in range(4):
        send_gauge(service.url, service.tokens["ingest"], "cli-2", "cli.level", 10.0 + i, at + 15 * i)
    words = ("metric", "read", "cli.level", "--from", "-5m", "--step", "1m", "--take", "max")
    assert "13" in run(service, *words).stdout
    rows = list(csv.reader(io.StringIO(run(service, *words, "--format", "csv").stdout)))
    assert rows[0] == ["time", "cli-2"] and "13" in [row[1] for row in rows[1:]]


def test_events_are_searched(service: Service) -> None:
    post(
        service.url,
        service.tokens["ingest"],
        "logs",
        log_request("cli-3", [(time.time(), 17, "=cmd|' /C calc'!A0 \x1b[31mred")]).SerializeToString(),
    )
    table = run(service, "event", "search", "calc", "--from", "-5m").stdout
    assert "cli-3" in table and "\x1b" not in table
    rows = list(
        csv.reader(io.StringIO(run(service, "event", "search", "calc", "--from", "-5m", "--format", "csv").stdout))
    )
    assert rows[1][4].startswith("'=cmd")


def test_a_rule_goes_from_file_to_work_and_back(service: Service, tmp_path: Path) -> None:
    file = tmp_path / "rule.yaml"
    file.write_text(RULE)
    assert run(service, "rule", "rehearse", str(file), "--from", "-15m").returncode == 0
    assert run(service, "rule", "apply", str(file)).stdout == "rule cli-depth is at work\n"
    shown = run(service, "rule", "show", "cli-depth").stdout
    file.write_text(shown)
    assert run(service, "rule", "apply", str(file)).returncode == 0
    assert run(service, "rule", "show", "cli-depth").stdout == shown
    for broken, said in (
        ("about: [", "is no YAML"),
        (RULE.replace("below", "belw"), "limits.warning.belw"),
        (RULE.replace("rule: cli-depth", ""), "needs its name"),
    ):
        file.write_text(broken)
        answer = run(service, "rule", "apply", str(file))
        assert answer.returncode == 1 and said in answer.stderr
    assert run(service, "rule", "delete", "cli-depth").returncode == 0


def test_an_alert_is_listed_shown_and_acknowledged(service: Service, tmp_path: Path) -> None:
    file = tmp_path / "rule.yaml"
    file.write_text(RULE)
    run(service, "rule", "apply", str(file))
    send_gauge(service.url, service.tokens["ingest"], "cli-4", "cli.depth", 1.0)
    asked = ("alert", "list", "--where", 'host eq "cli-4"', "--format", "json")
    found = until(lambda: json.loads(run(service, *asked).stdout)["items"], 30)
    number = str(found[0]["id"])
    assert "Slow down." in run(service, "alert", "show", number).stdout
    assert run(service, "alert", "acknowledge", number, "--note", "mine").returncode == 0
    assert "the administrator" in run(service, "alert", "list", "--state", "open").stdout
    _deal_with_it(service, number)
    run(service, "rule", "delete", "cli-depth")


def _deal_with_it(service: Service, alert: str) -> None:
    """Its incident is written about and closed, and shown with all of it."""
    incident = str(json.loads(run(service, "alert", "show", alert, "--format", "json").stdout)["incident"])
    assert run(service, "incident", "note", incident, "the pool\nwas full").returncode == 0
    _follow_its_trail(service, incident)
    assert run(service, "incident", "close", incident, "--reason", "emptied the pool").returncode == 0
    shown = run(service, "incident", "show", incident).stdout
    assert "\nWhat to do\n  Slow down.\n" in shown and "the pool·was full" in shown
    assert "emptied the pool" in shown and "\n·" not in shown


def _follow_its_trail(service: Service, incident: str) -> None:
    """Its trail in text and as JSON; what its cause was, which is counted, and taken back."""
    told = run(service, "trail", incident)
    found = json.loads(run(service, "trail", incident, "--format", "json").stdout)
    assert told.returncode == 0 and told.stdout.split() != []
    assert told.stdout.startswith(found["sentence"].split()[0]) and "looked at" in told.stdout
    assert run(service, "incident", "cause", incident, "--suspect", "9").returncode == 1
    assert "kept: a stuck valve" in run(service, "incident", "cause", incident, "--other", "a stuck valve").stdout
    assert "the cause was a stuck valve" in run(service, "trail", incident).stdout
    assert json.loads(run(service, "trail", "--record", "--format", "json").stdout)["other"] == 1
    assert "none of those named" in run(service, "trail", "--record").stdout
    assert run(service, "incident", "cause", incident, "--take-back").returncode == 0
    assert run(service, "trail").returncode == 1
    assert run(service, "trail", "--host", "cli-4", "--from", "-30m").returncode == 0
    assert "longer than two days" in run(service, "trail", "--host", "cli-4", "--from", "-30d").stderr


def test_channels_callouts_and_keys(service: Service) -> None:
    assert (
        run(
            service, "channel", "webhook", "cli-hook", "http://127.0.0.1:9/", "--bearer-stdin", given="s3cret-word\n"
        ).returncode
        == 0
    )
    assert "s3cret-word" not in run(service, "channel", "list", "--format", "json").stdout
    assert run(service, "channel", "test", "cli-hook").returncode == 1
    assert (
        run(service, "callout", "set", "cli-all", "--when", 'severity ge "critical"', "--tell", "cli-hook").returncode
        == 0
    )
    assert run(service, "callout", "delete", "cli-all").returncode == 0
    assert run(service, "channel", "email", "cli-mail", "no-address").returncode == 2
    assert run(service, "channel", "delete", "cli-hook").returncode == 0
    key = run(service, "key", "create", "gates", "--uses", "3", "--group", "Gates")
    assert key.stdout.startswith("balise agent enrol --console ")
    number = json.loads(run(service, "key", "list", "--format", "json").stdout)["items"][0]["id"]
    assert run(service, "key", "revoke", str(number)).returncode == 0


def test_signing_in_keeps_address_and_token_for_oneself(service: Service, tmp_path: Path) -> None:
    home = {"XDG_CONFIG_HOME": str(tmp_path), "BALISE_URL": "", "BALISE_TOKEN": ""}
    assert run(service, "sign-in", service.url, "--token-stdin", given="wrong\n", **home).returncode == 1
    assert (
        run(service, "sign-in", service.url, "--token-stdin", given=service.tokens["viewer"] + "\n", **home).returncode
        == 0
    )
    assert (tmp_path / "balise" / "console.json").stat().st_mode & 0o077 == 0
    assert run(service, "host", "list", **home).returncode == 0


def test_users_and_tokens_are_made_with_the_service_running_or_not(service: Service, tmp_path: Path) -> None:
    made = run(service, "token", "create", "robot", "--role", "viewer", "--data", str(service.data))
    assert len(made.stdout.split()) == 1
    with Balise(service.url, made.stdout.strip()) as client:
        assert client.me().role == "viewer"
    words = ("user", "add", "maat", "--role", "operator", "--password-stdin", "--data", str(tmp_path))
    assert run(service, *words, given="short\n").returncode == 1
    assert run(service, *words, given="long enough\n").returncode == 0
    again = run(service, *words, given="long enough\n")
    assert again.returncode == 1 and "already a user" in again.stderr
    assert "robot" in run(service, "token", "list").stdout
    number = json.loads(run(service, "token", "list", "--format", "json").stdout)["items"][0]["id"]
    assert run(service, "token", "revoke", str(number)).returncode == 0
    assert run(service, "user", "list", "--format", "csv").returncode == 0
    assert run(service, "user", "remove", "nobody").returncode == 1
    assert (tmp_path / "state.db").stat().st_mode & 0o077 == 0


def test_a_taken_port_is_said_plainly(service: Service, tmp_path: Path) -> None:
    words = ("serve", "--listen", f"127.0.0.1:{service.port}", "--data", str(tmp_path))
    answer = run(service, *words)
    assert answer.returncode == 1 and "cannot listen" in answer.stderr and "Traceback" not in answer.stderr


def test_labels_are_set_and_taken_away(service: Service) -> None:
    send_gauge(service.url, service.tokens["ingest"], "cli-5", "cli.depth", 9.0)
    assert (
        run(service, "host", "label", "cli-5", "site=headland", "role=buoy").stdout
        == "cli-5: site=headland role=buoy\n"
    )
    assert run(service, "host", "label", "cli-5", "role=").stdout == "cli-5: site=headland\n"
    assert "cli-5" in run(service, "host", "list", "--where", 'label.site eq "headland"').stdout


@pytest.mark.parametrize(
    ("words", "result"),
    [(["--from", "-7d"], ["--from=-7d"]), (["--from", "now"], ["--from", "now"]), (["--top", "-7d"], ["--top", "-7d"])],
)
def test_a_time_may_begin_with_a_minus(words: list[str], result: list[str]) -> None:
    assert joined(words) == result


def test_every_option_that_takes_a_time_takes_one_that_begins_with_a_minus() -> None:
    def options(of: argparse.ArgumentParser) -> Iterator[str]:
        for action in of._actions:
            if isinstance(action, argparse._SubParsersAction):
                for below in action.choices.values():
                    yield from options(below)
            elif action.metavar == "TIME":
                yield from action.option_strings

    found = set(options(parser()))
    assert {"--from", "--to", "--at"} <= found
    assert [option for option in found if joined([option, "-7d"]) != [f"{option}=-7d"]] == []


def test_output_is_safe_and_readable() -> None:
    assert [safe_cell(c) for c in ("=1+1", "-5.5", "@x", "plain")] == ["'=1+1", "-5.5", "'@x", "plain"]
    assert printable("a\x1b[2Jb") == "a·[2Jb"
    assert [in_words(0.5, "1"), in_words(2048, "By"), in_words(None, "s"), in_words(2, "{state}")] == [
        "50.0 %", "2 KiB", "", "2",
    ]  # fmt: skip
    assert [in_words(14, "{session}"), in_words(1, "{session}"), in_words(3.5, "s")] == [
        "14 sessions",
        "1 session",
        "3.5 s",
    ]
    rates = [("{process}/s", 0.0), ("{entry}", 2.0), ("{key}/s", 1.0), ("{query}/s", 5.0)]
    assert [in_words(value, unit) for unit, value in rates] == ["0 processes/s", "2 entries", "1 key/s", "5 queries/s"]
    long = [120, 5400, 86_400, 1_210_000, -7200, 119.4, 1e9]
    assert [in_words(seconds, "s") for seconds in long] == [
        "2 min", "1 h 30 min", "1 d", "14 d", "-2 h", "119.4 s", "11574 d 1 h",
    ]  # fmt: skip
    assert fitting([10, 60, 20], [4, 5, 5], 60) == [10, 26, 20]
    assert fitting([10, 20], [4, 5], 100) == [10, 20]

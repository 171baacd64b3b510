"""The commands of enrolling, as somebody at a terminal uses them."""

from __future__ import annotations

import csv
import json
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from balise.api.access import NewEnrolmentKey
from balise.client import Balise
from distant import Mute, Sshd, keypair
from running import Service, free_port, until
from sending import gauge_request, post
from test_cli import run

PLAN = "plan: cli-plan\nfor: {host: cli-h1}\ncollect:\n  every: 40s\n"


@pytest.fixture(scope="module")
def site(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    made = Service(tmp_path_factory.mktemp("cli"))
    for name in ("cli-h1", "cli-h2"):
        body = gauge_request(name, "cli.depth", [(time.time(), 1.0)]).SerializeToString()
        post(made.url, made.tokens["ingest"], "metrics", body)
    yield made
    made.stop()
    assert "Traceback" not in made.log()


def test_a_list_is_added_and_what_was_not_good_is_left_to_be_put_right(site: Service, tmp_path: Path) -> None:
    sshd, mute = Sshd(tmp_path / "ssh"), Mute()
    key = tmp_path / "ssh" / "user"
    user = sshd.credential().user
    kept = run(site, "credential", "set", "cli-key", "--kind", "ssh", "--user", user, "--private-key", str(key))
    assert kept.returncode == 0 and "cli-key kept" in kept.stdout
    shown = run(site, "credential", "list")
    assert "cli-key" in shown.stdout and "PRIVATE" not in shown.stdout and "SHA256:" in shown.stdout
    listed, left = tmp_path / "hosts.txt", tmp_path / "left.csv"
    port = free_port()
    listed.write_text(
        f"cli-a 127.0.0.1:{sshd.port} site=northquay\ncli-b 127.0.0.1:{port}\ncli-c 127.0.0.1:{mute.port}\n"
    )
    words = ["host", "add", "--from", str(listed), "--credential", "cli-key", "--time-limit", "1s", "--left", str(left)]
    first = run(site, *words)
    assert first.returncode == 1
    lines = first.stdout.splitlines()
    assert [line.split()[0] for line in lines[1:]] == ["refused", "timed-out", "added"]
    assert "3 hosts: 1 added, 1 refused, 1 timed-out" in first.stderr
    rows = [row for row in csv.reader(left.read_text().splitlines()) if not row[0].startswith("#")]
    assert [row[:3] for row in rows[1:]] == [["cli-b", "127.0.0.1", str(port)], ["cli-c", "127.0.0.1", str(mute.port)]]
    assert "# refused: nothing listens" in left.read_text()
    # What was left is a list itself; and the first one may be given again.
    second = run(site, "host", "add", "--from", str(left), "--time-limit", "1s")
    assert second.returncode == 1 and "2 hosts: 1 refused, 1 timed-out" in second.stderr
    again = run(site, "host", "add", "--from", "-", "--credential", "cli-key", given=listed.read_text().splitlines()[0])
    assert again.returncode == 0 and "already-enrolled" in again.stdout
    resumed = run(site, "host", "add", "--resume", "1", "--format", "json")
    assert json.loads(resumed.stdout)["total"] == 3 and resumed.returncode == 1
    remote = run(site, "host", "remote", "cli-a")
    assert "127.0.0.1" in remote.stdout and "SHA256:" in remote.stdout and "the console" in remote.stdout
    changed = run(site, "host", "remote", "cli-a", "--every", "1m", "--format", "json")
    assert json.loads(changed.stdout)["every"] == "1m"
    with site.client() as admin:
        until(lambda: admin.hosts.show("cli-a").facts)
    compared = run(site, "host", "compare", "cli-a", "cli-h1", "--format", "csv")
    marked = {row[1]: row[0] for row in csv.reader(compared.stdout.splitlines())}
    assert marked["kernel"] == "'*" or marked["kernel"] == "*"
    mute.close()
    sshd.stop()


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("name 192.0.2.0/30\n", "line 1: a range has no one name"),
        ("10.0.0.0/8\n", "at most 1024"),
        ("\n# nothing\n", "names no host"),
        ("192.0.2.1\n", "line 1: it has no credential"),
    ],
)
def test_a_list_that_cannot_be_read_tests_nothing(site: Service, tmp_path: Path, text: str, words: str) -> None:
    path = tmp_path / "list.txt"
    path.write_text(text)
    said = run(site, "host", "add", "--from", str(path))
    assert said.returncode == 1 and words in said.stderr + said.stdout
    assert run(site, "host", "add", "--from", str(tmp_path / "none")).returncode == 1
    assert "Name a file with --from" in run(site, "host", "add").stderr


def test_credentials_of_every_kind_are_read_from_standard_input(site: Service, tmp_path: Path) -> None:
    for words, given in (
        (["--kind", "ssh", "--user", "u"], "secret\n"),
        (["--kind", "snmp", "--version", "2c"], "public\n"),
        (["--kind", "snmp", "--user", "u", "--group", "Pier"], "authpass1\nprivpass1\n"),
        (["--kind", "snmp", "--user", "u", "--privacy", "none"], "authpass1\n"),
        (["--kind", "login", "--user", "u", "--role", "operator"], "secret\n"),
    ):
        made = run(site, "credential", "set", "cli-any", *words, "--secret-stdin", given=given)
        assert made.returncode == 0, made.stderr
    listed = json.loads(run(site, "credential", "list", "--format", "json").stdout)["items"]
    held = next(c for c in listed if c["name"] == "cli-any")
    assert (held["kind"], held["role"], held["settings"]) == ("login", "operator", {"user": "u"})
    keypair(tmp_path, "locked")
    bad = run(site, "credential", "set", "x", "--kind", "snmp", "--user", "u", "--secret-stdin", given="short\n")
    assert bad.returncode == 2 and "at least 8" in bad.stderr
    none = run(site, "credential", "set", "x", "--kind", "ssh", "--user", "u", "--private-key", str(tmp_path / "no"))
    assert none.returncode == 1 and "cannot be read" in none.stderr
    assert run(site, "credential", "delete", "cli-any").returncode == 0
    assert run(site, "credential", "delete", "cli-any").returncode == 1


def test_groups_are_made_previewed_nested_and_deleted(site: Service) -> None:
    assert run(site, "host", "change", "cli-h1", "cli-h2", "--label", "deck=upper").stdout == "2 hosts changed\n"
    preview = run(site, "group", "preview", 'label.deck eq "upper"')
    assert "cli-h1" in preview.stdout and "2 hosts" in preview.stderr
    made = run(site, "group", "set", "Harbour", "--site")
    assert made.stdout == "site Harbour: 0 hosts\n"
    made = run(site, "group", "set", "Deck", "--where", 'label.deck eq "upper"', "--parent", "Harbour")
    assert made.stdout == "group Deck: 2 hosts\n"
    # What is not said stays: only the description changes here.
    assert run(site, "group", "set", "Deck", "--about", "up there").stdout == "group Deck: 2 hosts\n"
    assert (
        run(site, "host", "change", "--where", 'host eq "cli-h2"', "--label", "deck", "--join", "Harbour").returncode
        == 0
    )
    groups = {g["name"]: g for g in json.loads(run(site, "group", "list", "--format", "json").stdout)["items"]}
    assert (groups["Harbour"]["hosts"], groups["Deck"]["hosts"], groups["Deck"]["parent"]) == (2, 1, "Harbour")
    assert run(site, "group", "set", "Deck", "--where", "deck eq").returncode == 1
    assert run(site, "group", "delete", "Deck").returncode == 0
    assert run(site, "host", "change", "--label", "a=b").returncode == 2


def test_plans_are_checked_compared_kept_and_shown(site: Service, tmp_path: Path) -> None:
    good, bad = tmp_path / "good.yaml", tmp_path / "bad.yaml"
    good.write_text(PLAN)
    bad.write_text(PLAN.replace("every", "evry"))
    checked = run(site, "plan", "check", str(good), str(bad))
    assert checked.returncode == 1
    assert f"{good}: plan cli-plan is good, for 1 hosts now" in checked.stdout
    assert f"{bad}:4:3: collect.evry: there is no such key here" in checked.stdout
    refused = run(site, "plan", "apply", str(good), str(bad))
    assert refused.returncode == 1 and "nothing was kept" in refused.stderr
    assert run(site, "plan", "list").stdout.startswith("No plans")
    diff = run(site, "plan", "diff", str(good))
    assert diff.stdout.splitlines()[1].split() == ["cli-h1", "collect.every", "15s", "40s"]
    assert run(site, "plan", "apply", str(good)).stdout == "plan cli-plan version 1 holds for 1 hosts\n"
    assert run(site, "plan", "show", "cli-plan").stdout == PLAN
    held = run(site, "host", "plan", "cli-h1")
    assert held.stdout.splitlines()[1].split() == ["collect.every", "40s", "cli-plan"]
    assert "It would change nothing." in run(site, "plan", "diff", str(good)).stdout
    schema = json.loads(run(site, "plan", "schema").stdout)
    assert "for" in schema["properties"] and schema["additionalProperties"] is False
    assert run(site, "plan", "delete", "cli-plan").returncode == 0
    assert run(site, "plan", "show", "cli-plan").returncode == 1


def test_machines_that_wait_and_hosts_that_leave(site: Service) -> None:
    made = run(site, "key", "create", "cli", "--uses", "3", "--approval", "manual", "--label", "a=b")
    key = made.stdout.split("--key ")[1].strip()
    with Balise(site.url) as agent:
        for name in ("cli-w1", "cli-w2"):
            facts = {"host_name": name, "machine_id": f"m-{name}"}
            agent.call("POST", "/agents/enrol", {"key": key, "facts": facts})
    waiting = {
        c["name"]: str(c["id"]) for c in json.loads(run(site, "candidate", "list", "--format", "json").stdout)["items"]
    }
    assert run(site, "candidate", "approve", waiting["cli-w1"], "--name", "cli-in").stdout == "cli-in is let in\n"
    assert run(site, "candidate", "refuse", waiting["cli-w2"]).returncode == 0
    assert run(site, "candidate", "list").stdout.startswith("No machine waits")
    assert run(site, "host", "revoke-agent", "cli-in").returncode == 0
    assert "retired" in run(site, "host", "retire", "cli-in").stdout
    assert "cli-in" in run(site, "host", "list", "--retired").stdout
    assert run(site, "host", "erase", "cli-in", given="something else\n").returncode == 1
    assert "is being erased" in run(site, "host", "erase", "cli-in", "--yes").stdout
    number = json.loads(run(site, "key", "list", "--format", "json").stdout)["items"][0]["id"]
    assert "enrols nothing more" in run(site, "key", "revoke", str(number), "--agents").stdout
    assert run(site, "relay", "remove", "nobody").returncode == 1


def test_services_are_found_added_and_change_hands(site: Service) -> None:
    mute = Mute()
    words = [
        "service",
        "add",
        "cli-door",
        str(mute.port),
        "--mode",
        "remote",
        "--address",
        "127.0.0.1",
        "--name",
        "door",
    ]
    made = json.loads(run(site, *words, "--format", "json").stdout)
    assert (made["name"], made["collection"]["by"]) == ("door", "the console")
    twice = run(site, *words[:-1], "another door")
    assert twice.returncode == 1 and "already read by the console as 'door'" in twice.stderr
    assert run(site, "service", "change", str(made["id"]), "--mode", "resident").returncode == 1
    listed = run(site, "service", "list", "--host", "cli-door")
    assert "door" in listed.stdout and str(mute.port) in listed.stdout
    assert run(site, "service", "found", "cli-door").stdout.startswith("Nothing")
    assert run(site, "service", "delete", str(made["id"])).returncode == 0
    mute.close()


def test_an_operator_may_enrol_but_not_decide_who_is_let_in(site: Service) -> None:
    with site.client() as admin:
        admin.keys.create(NewEnrolmentKey(label="op", uses=1))
    assert run(site, "candidate", "list", role="operator").returncode == 0
    assert run(site, "candidate", "approve", "1", role="operator").returncode == 1
    assert run(site, "host", "erase", "cli-h1", "--yes", role="operator").returncode == 1
    assert run(site, "group", "list", role="viewer").returncode == 0
    assert run(site, "group", "set", "No", role="viewer").returncode == 1

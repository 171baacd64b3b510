"""Filters that have a name, kept and used through the client."""

from __future__ import annotations

import time
from collections.abc import Iterator

import pytest

from balise.api.access import NewToken, Scope
from balise.api.callouts import CalloutBody
from balise.api.channels import WebhookChannel
from balise.api.events import EventQuery, HistogramQuery
from balise.api.filters import FilterBody
from balise.api.hosts import GroupBody, HostsChange, ViewBody
from balise.api.keeping import EventKeep, RetentionBody
from balise.api.metrics import MetricQuery
from balise.api.rules import RuleBody
from balise.client import Refused
from running import Service, free_port
from sending import gauge_request, log_request, post


@pytest.fixture(scope="module")
def service(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    service = Service(tmp_path_factory.mktemp("filters"))
    token, now = service.tokens["ingest"], time.time()
    for host, body in (("pier-1", "ramp is down"), ("pier-2", "ramp is up"), ("gate-s3", "gate opened")):
        logs = log_request(host, [(now, 9, body)]).SerializeToString()
        points = gauge_request(host, "balise.cpu.busy", [(now, 0.5)]).SerializeToString()
        assert post(service.url, token, "logs", logs).status_code == 200
        assert post(service.url, token, "metrics", points).status_code == 200
    yield service
    service.stop()


def test_a_filter_is_used_by_its_name_wherever_a_filter_can_be(service: Service) -> None:
    with service.client() as c:
        kept = c.filters.set("piers", FilterBody(where='host sw "pier-"', about="both piers"))
        assert kept.sentence == "host begins with “pier-”"
        assert {e.host for e in c.events.search(EventQuery(filter="piers")).items} == {"pier-1", "pier-2"}
        both = EventQuery(filter="piers", where='body co "up" or body co "opened"')
        assert [e.host for e in c.events.search(both).items] == ["pier-2"]
        assert c.events.count(HistogramQuery(filter="piers")).total == 2
        assert {h.name for h in c.hosts.list(filter="piers")} == {"pier-1", "pier-2"}
        assert [h.name for h in c.hosts.list('name ew "2"', filter="piers")] == ["pier-2"]
        answer = c.metrics.read(MetricQuery(metric="balise.cpu.busy", filter="piers"))
        assert {one.attributes["host"] for one in answer.series} == {"pier-1", "pier-2"}


@pytest.mark.parametrize("ask", ["events", "hosts", "alerts"])
def test_a_name_that_is_not_there_is_said(service: Service, ask: str) -> None:
    with service.client() as c, pytest.raises(Refused, match="there is no filter 'nobody'") as caught:
        if ask == "events":
            c.events.search(EventQuery(filter="nobody"))
        else:
            list(getattr(c, ask).list(filter="nobody"))
    assert caught.value.status == 422


def test_a_filter_belongs_to_who_made_it(service: Service) -> None:
    body = FilterBody(where='source eq "crew"')
    with service.client("operator") as c:
        c.filters.set("crew", body)
    with service.client() as admin:
        assert admin.filters.get("crew").owner == "the operator"
        admin.filters.set("crew", FilterBody(where='source eq "deck"'))
        assert admin.filters.get("crew").owner == "the operator"
        admin.filters.set("mine", body)
    with service.client("operator") as c:
        with pytest.raises(Refused, match="keep yours under another name"):
            c.filters.set("mine", FilterBody(where='source eq "x"'))
        with pytest.raises(Refused, match="keep yours"):
            c.filters.delete("mine")
        c.filters.delete("crew")
        names = [one.name for one in c.filters.list()]
        assert "mine" in names and "crew" not in names


def test_a_filter_that_cannot_be_read_is_not_kept(service: Service) -> None:
    with service.client() as c:
        with pytest.raises(Refused, match="is no comparison"):
            c.filters.set("bad", FilterBody(where='host is "x"'))
        told = c.filters.explain('host is "x"')
        assert told.problem is not None and told.problem.at == 6 and "eq" in told.problem.expected
        with pytest.raises(Refused, match="There is no filter 'bad'"):
            c.filters.get("bad")


def test_what_is_kept_holds_what_the_filter_of_a_name_says(service: Service) -> None:
    with service.client() as c:
        c.filters.set("south", FilterBody(where='name sw "gate-"'))
        group = c.groups.set("gates", GroupBody(filter="south"))
        assert (group.where, group.hosts) == ('name sw "gate-"', 1)
        changed = c.call("POST", "/hosts/change", HostsChange(filter="south", set_labels={"quay": "south"}))
        assert changed == {"changed": 1}
        view = c.views.set("gates", ViewBody(filter="south", where='state ne "ok"'))
        assert view.where == '(state ne "ok") and (name sw "gate-")'
        c.channels.set("deck", WebhookChannel(kind="webhook", url=f"http://127.0.0.1:{free_port()}/"))
        assert c.callouts.set("night", CalloutBody(when="", filter="south", tell=["deck"])).when == 'name sw "gate-"'
        rule = RuleBody.model_validate(
            {"about": "x", "filter": "south", "measure": {"metric": "tide"}, "limits": {"warning": {"above": 1}}}
        )
        assert c.rules.apply("tide-high", rule).hosts == 'name sw "gate-"'
        by = [EventKeep(filter="south", keep="2d"), EventKeep(keep="9d")]
        kept = c.keeping.set_retention(RetentionBody(events=by))
        assert [entry.where for entry in kept.events] == ['name sw "gate-"', None]
        c.filters.delete("south")
        assert [g.hosts for g in c.groups.list() if g.name == "gates"] == [1]
        long = f'name eq "{"x" * 1800}" or name eq "{"y" * 160}"'
        c.filters.set("south", FilterBody(where='name sw "gate-"'))
        with pytest.raises(Refused, match="more than 2000 characters"):
            c.groups.set("gates", GroupBody(filter="south", where=long))
        with pytest.raises(Refused, match="there is no filter 'nobody'"):
            c.groups.set("gates", GroupBody(filter="nobody"))
        assert "filter" not in c.call("GET", "/callouts/night") and "filter" not in c.call("GET", "/rules/tide-high")


def test_two_long_filters_are_one(service: Service) -> None:
    long = " or ".join(f'host eq "{"x" * 30}{n:04}"' for n in range(41))
    assert 1900 < len(long) <= 2000
    with service.client() as c:
        c.filters.set("long", FilterBody(where=long + ' or host eq "pier-1"'[: 2000 - len(long)]))
        assert c.events.search(EventQuery(filter="long", where=long)).items == []


def test_scopes_and_plans_take_a_filter_by_its_name(service: Service) -> None:
    with service.client() as c:
        c.filters.set("quays", FilterBody(where='name sw "gate-"'))
        c.filters.set("worse", FilterBody(where='severity ge "warning"'))
        scope = Scope(filter="quays", hosts='name ew "1"')
        made = c.tokens.create(NewToken(name="by name", role="ingest", scope=scope))
        kept = next(token for token in c.tokens.list() if token.id == made.id)
        assert kept.scope is not None and kept.scope.hosts == '(name ew "1") and (name sw "gate-")'
        with pytest.raises(Refused, match="there is no filter 'nobody'"):
            c.tokens.create(NewToken(name="x", role="ingest", scope=Scope(filter="nobody")))
        text = "plan: named\nfor: {filter: quays}\nfollow:\n- {path: /var/log/app.log, filter: worse}\n"
        plan = c.plans.apply("named", text)
        assert "filter: quays" in plan.text, "as it is written"
        assert plan.body["for"] == {"hosts": 'name sw "gate-"'}
        assert plan.body["follow"][0]["send"] == 'severity ge "warning"'
        with pytest.raises(Refused, match=r"line 2, column 7: .*there is no filter 'nobody'"):
            c.plans.apply("named", text.replace("quays", "nobody"))

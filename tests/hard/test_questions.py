"""What would look at too much is refused before it is worked on, with what to narrow."""

from __future__ import annotations

import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest

from balise.api.metrics import MetricQuery
from balise.api.rules import Rehearse
from balise.core.moments import NS
from balise.server.errors import Refused
from balise.server.life import close
from balise.server.parts import Parts, build
from balise.server.rules import playing
from balise.server.settings import Settings
from balise.store.series import query

RULE = {"about": "x", "measure": {"metric": "tide", "take": "avg", "over": "5m"}, "limits": {"critical": {"above": 5}}}


@pytest.fixture
def console(tmp_path: Path) -> Iterator[Parts]:
    made = build(Settings(data=tmp_path))
    catalogue = made.series.catalogue
    metric = catalogue.metric("tide", "m", "gauge", "")
    for number in range(4):
        host = made.directory.ensure(f"pier-{number}").id
        ids = np.array([catalogue.series_id(host, metric, (), "", "gauge")])
        # Some of them long ago, so that there is something in whatever steps a long span has.
        for ago in (10 * 86_400, 0):
            times = (int(time.time()) - ago - np.arange(400)[::-1] * 15) * NS
            made.series.lay_down([ids], [times.astype(np.int64)], [np.ones((1, 400))])
    yield made
    close(made)


@pytest.mark.parametrize("limit", ["NUMBERS_AT_MOST", "SERIES_AT_MOST", "VALUES_AT_MOST", "POINTS_AT_MOST"])
def test_a_question_beyond_a_limit_says_what_to_narrow(
    console: Parts, limit: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    take = "p99" if limit == "POINTS_AT_MOST" else "avg"
    body = {"metric": "tide", "take": take, "from": "-3d", "to": "now", "by": ["host"]}
    assert len(console.metrics.ask(MetricQuery.model_validate(body)).series) == 4
    monkeypatch.setattr(query, limit, 3)
    with pytest.raises(Refused, match=r"filter|span") as refused:
        console.metrics.ask(MetricQuery.model_validate(body))
    assert refused.value.status == 422


@pytest.mark.parametrize(
    ("start", "module", "limit"),
    [("-5000d", query, "NUMBERS_AT_MOST"), ("-5000d", query, "SERIES_AT_MOST")],
)
def test_a_rehearsal_beyond_a_limit_says_what_to_narrow(
    console: Parts, start: str, module: object, limit: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    asked = Rehearse.model_validate({"rule": RULE, "from": start, "to": "now"})
    assert console.rules.rehearse(asked).groups == 4
    monkeypatch.setattr(module, limit, 3)
    with pytest.raises(Refused, match="from: ") as refused:
        console.rules.rehearse(asked)
    assert refused.value.status == 422


@pytest.mark.parametrize("limit", ["MOST_POINTS", "MOST_ASKED"])
def test_too_many_points_are_rehearsed_by_the_steps_that_are_kept(
    console: Parts, limit: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    asked = Rehearse.model_validate({"rule": RULE, "from": "-20m", "to": "now"})
    assert console.rules.rehearse(asked).step_seconds < 60
    monkeypatch.setattr(playing, limit, 3)
    assert console.rules.rehearse(asked).step_seconds == 300

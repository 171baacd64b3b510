"""The ceiling of memory: kept while many ask for much at once, and said when it is near."""

from __future__ import annotations

import gzip
import json
import time
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from itertools import pairwise
from pathlib import Path

import httpx
import numpy as np
import pytest

from balise.server.errors import Refused
from balise.server.keeping import memory as keeping
from balise.server.keeping.memory import (
    EASY,
    LET_GO_AGAIN,
    LET_GO_RARELY,
    TIGHT,
    TRIM_EVERY,
    TRIM_FROM,
    Memory,
    Short,
)
from peaks import peak_mib
from running import Service
from sending import gauge_request, send_gauge

CEILING = 600


def test_what_is_free_goes_back_now_and_then_once_much_is_held(monkeypatch: pytest.MonkeyPatch) -> None:
    held, trimmed, now = [TRIM_FROM + 0.05], [0], [0.0]

    def trim() -> None:
        trimmed[0] += 1
        held[0] -= 0.01

    monkeypatch.setattr(keeping, "_trim", trim)
    memory = Memory(1 << 30, measure=lambda: int(held[0] * (1 << 30)), clock=lambda: now[0])
    for now[0] in np.arange(0.0, 4 * TRIM_EVERY, 1.0).tolist():
        memory.look()
    assert trimmed == [3] and memory.held == int(held[0] * (1 << 30))
    held[0] = TRIM_FROM - 0.01
    for now[0] in np.arange(4 * TRIM_EVERY, 8 * TRIM_EVERY, 1.0).tolist():
        memory.look()
    assert trimmed == [3]


def test_near_the_ceiling_caches_go_and_nothing_heavy_is_begun() -> None:
    held, gone, now = [0.5], [0], [0.0]

    def let_go() -> None:
        gone[0] += 1
        held[0] -= 0.05

    memory = Memory(1 << 30, measure=lambda: int(held[0] * (1 << 30)), clock=lambda: now[0])
    memory.tight.then(let_go)
    memory.look()
    memory.check_body()
    memory.check_question()
    assert gone == [0]
    held[0] = TIGHT + 0.02
    memory.look()
    # What was let go was enough.
    assert (gone, memory.state) == ([1], "easy")
    held[0], now[0] = TIGHT + 0.2, LET_GO_AGAIN + 1
    memory.look()
    memory.look()
    assert (gone, memory.state) == ([2], "tight")
    with pytest.raises(Short, match="nothing heavy is begun"):
        memory.check_body()
    with pytest.raises(Refused) as refused:
        memory.check_question()
    assert (refused.value.status, memory.refused) == (503, 2)
    held[0] = (TIGHT + EASY) / 2
    memory.look()
    assert memory.state == "tight"
    held[0] = EASY - 0.01
    memory.look()
    memory.check_body()
    # What came to be held since the last look counts.
    held[0] = TIGHT + 0.01
    with pytest.raises(Short):
        memory.check_body()


def test_what_gives_little_back_is_let_go_less_and_less_often() -> None:
    gone: list[float] = []
    now = [0.0]
    memory = Memory(1 << 30, measure=lambda: int((TIGHT + 0.1) * (1 << 30)), clock=lambda: now[0])
    memory.tight.then(lambda: gone.append(now[0]))
    while now[0] < 2000:
        memory.look()
        now[0] += 1.0
    gaps = [after - before for before, after in pairwise(gone)]
    assert gaps[:3] == [21.0, 41.0, 81.0] and gaps[-1] == LET_GO_RARELY + 1


def test_the_ceiling_is_kept_whatever_is_asked(tmp_path: Path) -> None:
    """Long questions over thousands of series, bodies that unpack to much, and sign-ins, all at once."""
    service = Service(tmp_path, "--memory", str(CEILING))
    bearer = {role: {"Authorization": f"Bearer {token}"} for role, token in service.tokens.items()}
    points = [(time.time(), 1.0)]
    large = b"".join(
        gauge_request(f"pier-{n % 40}", "wide", points, {"i": str(n)}).SerializeToString() for n in range(30_000)
    )
    form = {"resourceMetrics": [{"scopeMetrics": [{"metrics": [{"name": f"m{n}"} for n in range(70_000)]}]}]}
    zipped = {
        "application/x-protobuf": gzip.compress(large),
        "application/json": gzip.compress(json.dumps(form).encode()[: 4 << 20]),
    }
    answers: Counter[tuple[str, int]] = Counter()

    def ask(client: httpx.Client, what: str, path: str, **how: object) -> None:
        for _ in range(4):
            answers[what, client.post(path, **how).status_code] += 1  # type: ignore[arg-type]

    try:
        with httpx.Client(base_url=service.url, timeout=120, limits=httpx.Limits(max_connections=None)) as client:
            ask(
                client,
                "first",
                "/v1/metrics",
                content=large,
                headers=bearer["ingest"] | {"Content-Type": "application/x-protobuf"},
            )
            with ThreadPoolExecutor(40) as pool:
                for n in range(6):
                    for take in ("p99", "avg", "rate"):
                        question = {"metric": "wide", "from": "-7000d", "take": take, "by": ["host", "i"]}
                        pool.submit(
                            ask, client, "question", "/api/v1/metrics/query", json=question, headers=bearer["viewer"]
                        )
                    for kind, body in zipped.items():
                        sent = bearer["ingest"] | {"Content-Type": kind, "Content-Encoding": "gzip"}
                        pool.submit(ask, client, "body", "/v1/metrics", content=body, headers=sent)
                    pool.submit(
                        ask, client, "sign-in", "/api/v1/session", json={"name": f"n{n}", "password": "x" * 100}
                    )
                for _ in range(60):
                    # An ordinary delivery goes through all the while.
                    send_gauge(service.url, service.tokens["ingest"], "quay", "tide", 1.0)
                    time.sleep(0.05)
        peak = peak_mib(service)
        print(f"peak {peak:.0f} MiB of {CEILING}")
        assert peak < CEILING
        by_what = {what: {status for (name, status), _ in answers.items() if name == what} for what, _ in answers}
        assert by_what["question"] <= {200, 422, 429, 503}
        assert by_what["body"] <= {200, 400, 413, 429, 503}
        assert by_what["sign-in"] <= {401, 429, 503}
        with service.client() as admin:
            assert admin.status().figures is not None
    finally:
        service.stop()
    assert "Traceback" not in service.log()

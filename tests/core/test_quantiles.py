"""Quantiles of many lines at once, held to numpy's own line by line."""

from __future__ import annotations

import numpy as np
import pytest

from balise.core.quantiles import median, quantiles


@pytest.mark.parametrize("n", [1, 2, 5, 60])
def test_quantiles_are_those_of_what_is_there(n: int) -> None:
    rng = np.random.default_rng(n)
    lines = rng.normal(0, 10, (200, n))
    lines[rng.random(lines.shape) < 0.3] = np.nan
    some = ~np.isnan(lines).all(axis=1)
    for share, found in zip((0.0, 0.2, 0.5, 0.8, 1.0), quantiles(lines, (0, 0.2, 0.5, 0.8, 1)), strict=True):
        assert found[some] == pytest.approx([np.nanquantile(line, share) for line in lines[some]])
        assert np.isnan(found[~some]).all()


def test_a_median_of_nothing_is_nothing_and_infinite_ones_are_no_harm() -> None:
    assert np.isnan(median(np.full((2, 3), np.nan))).all()
    assert np.isnan(median(np.empty((2, 0)))).all()
    assert median(np.array([[np.inf, np.inf, 1.0], [np.inf, 2.0, 1.0]])).tolist() == [np.inf, 2.0]

"""The real service, for attacks from outside."""

from __future__ import annotations

from collections.abc import Iterator

import pytest

from running import Service


@pytest.fixture(scope="module")
def service(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    made = Service(tmp_path_factory.mktemp("hard"))
    yield made
    made.stop()
    assert "Traceback" not in made.log()

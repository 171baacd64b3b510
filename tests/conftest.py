"""Fixtures that all tests share."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import settings

from balise.client import Balise
from running import Receiver, Service

_LONGEST = ("test_bench.py", "test_outages.py", "test_pages.py", "test_collecting.py", "test_demo.py")


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """The files that take longest come first, so that no worker is left alone with one at the end."""
    items.sort(key=lambda item: _LONGEST.index(item.path.name) if item.path.name in _LONGEST else len(_LONGEST))


settings.register_profile("balise", deadline=None, max_examples=60)
settings.load_profile("balise")


@pytest.fixture(scope="session")
def service(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    """One service for all tests that leave it as they found it."""
    made = Service(tmp_path_factory.mktemp("service"))
    yield made
    made.stop()
    assert "Traceback" not in made.log()


@pytest.fixture(scope="session")
def admin(service: Service) -> Iterator[Balise]:
    with service.client() as client:
        yield client


@pytest.fixture
def own_service(tmp_path: Path) -> Iterator[Service]:
    """A service for one test, which may kill it."""
    made = Service(tmp_path)
    yield made
    made.stop()


@pytest.fixture
def receiver() -> Iterator[Receiver]:
    made = Receiver()
    yield made
    made.close()

"""A console as its parts: without its HTTP face and without its workers."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from balise.server.life import close
from balise.server.parts import Parts, build
from balise.server.settings import Settings


@pytest.fixture
def console(tmp_path: Path) -> Iterator[Parts]:
    made = build(Settings(data=tmp_path))
    yield made
    close(made)

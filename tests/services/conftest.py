"""Real services, each started when a test first asks for it."""

from __future__ import annotations

from collections.abc import Iterator

import pytest

import real


@pytest.fixture(scope="session")
def postgres() -> Iterator[real.Postgres]:
    yield from real.kept(real.Postgres)


@pytest.fixture(scope="session")
def maria() -> Iterator[real.Maria]:
    yield from real.kept(real.Maria)


@pytest.fixture(scope="session")
def redis() -> Iterator[real.Redis]:
    yield from real.kept(real.Redis)


@pytest.fixture(scope="session")
def nginx() -> Iterator[real.Nginx]:
    yield from real.kept(real.Nginx)


@pytest.fixture(scope="session")
def apache() -> Iterator[real.Apache]:
    yield from real.kept(real.Apache)


@pytest.fixture(scope="session")
def haproxy(nginx: real.Nginx) -> Iterator[real.Haproxy]:
    yield from real.kept(lambda: real.Haproxy(nginx.port))


@pytest.fixture(scope="session")
def tomcat() -> Iterator[real.Tomcat]:
    yield from real.kept(real.Tomcat)


@pytest.fixture(scope="session")
def rabbit() -> Iterator[real.Rabbit]:
    yield from real.kept(real.Rabbit)


@pytest.fixture(scope="session")
def postfix() -> Iterator[real.Postfix]:
    yield from real.kept(real.Postfix)


@pytest.fixture(scope="session")
def dnsmasq() -> Iterator[real.Dnsmasq]:
    yield from real.kept(real.Dnsmasq)


@pytest.fixture(scope="session")
def bind() -> Iterator[real.Bind]:
    yield from real.kept(real.Bind)


@pytest.fixture(scope="session")
def files() -> Iterator[real.Files]:
    yield from real.kept(real.Files)


@pytest.fixture(scope="session")
def directory() -> Iterator[real.Directory]:
    yield from real.kept(real.Directory)


@pytest.fixture(scope="session")
def mailbox() -> Iterator[real.Mailbox]:
    yield from real.kept(real.Mailbox)

"""Reading a real service once with a shipped kit, and looking at what came of it."""

from __future__ import annotations

import time
from typing import Any

from balise.api.credentials import LoginCredential
from balise.collect.kits.folder import shipped_kits
from balise.collect.kits.reader import ServiceRead, once
from balise.core.kits.documents import whole_target


def login(password: str = "monpw", user: str = "mon") -> LoginCredential:
    return LoginCredential(kind="login", user=user, password=password)


def read(kit: str, target: dict[str, Any], credential: Any = None, limit: float = 5.0) -> ServiceRead:
    document = shipped_kits()[kit].kit
    return once(document, whole_target(document, target, here=True), credential, limit, kit, time.time())


def values(found: ServiceRead, metric: str) -> dict[tuple[str, ...], float]:
    """The values of a metric by those of its attributes that are not the service's name."""
    return {
        tuple(v for k, v in r.attributes.items() if k != "service.name"): r.value
        for r in found.readings
        if r.metric == metric
    }


def value(found: ServiceRead, metric: str, *attributes: str) -> float:
    return values(found, metric)[attributes]

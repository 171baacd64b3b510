"""Hosts as the tests of the series store need them."""

from __future__ import annotations


class Hosts:
    version = 1

    def attribute(self, host: int, name: str) -> object:
        return {"host": f"pier-{host}", "label.site": "north" if host == 1 else "south", "group": ["quay"]}.get(name)

    def name(self, host: int) -> str | None:
        return f"pier-{host}"

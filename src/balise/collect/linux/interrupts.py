"""Interrupts by kind, from /proc/interrupts (proc(5))."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from balise.collect.readings import Meaning, Reading

MOST_KINDS = 24


def interrupts(text: str) -> dict[str, float]:
    """How many of each kind were served, over all processors; devices by their own names, else the kernel's words."""
    found: dict[str, float] = {}
    for line in text.splitlines()[1:]:
        label, there, rest = line.partition(":")
        words = rest.split()
        counts = [float(w) for w in words[: next((i for i, w in enumerate(words) if not w.isdecimal()), len(words))]]
        if not there or not counts:
            continue
        about = words[len(counts) :]
        # A device's line names the controller and the pin before the device.
        name = " ".join(about[2:] or about) if label.strip().isdecimal() else " ".join(about)
        name = name.removesuffix(" interrupts") or label.strip()
        found[name] = found.get(name, 0.0) + sum(counts)
    return found


class Interrupts:
    """Which devices and timers interrupt the processors."""

    name = "interrupts"
    meanings = {
        "balise.kernel.interrupts.kind": Meaning("{interrupt}", "counter", "Interrupts served, by device or kind"),
    }

    def __init__(self, look: Callable[[], str]) -> None:
        self._look = look

    def read(self, now: float) -> Iterator[Reading]:
        del now
        most = sorted(interrupts(self._look()).items(), key=lambda i: -i[1])[:MOST_KINDS]
        for name, count in most:
            if count:
                yield Reading("balise.kernel.interrupts.kind", count, {"balise.interrupt": name[:100]})

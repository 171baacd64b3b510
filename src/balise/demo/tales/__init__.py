"""The stories of Skerry Ferries, each with a known true cause."""

from __future__ import annotations

from balise.demo.tales.bad_rollout import BadRollout
from balise.demo.tales.creeping_heap import CreepingHeap
from balise.demo.tales.failing_fan import FailingFan
from balise.demo.tales.full_deck import FullDeck
from balise.demo.tales.lost_gate import LostGate
from balise.demo.tales.loud_neighbour import LoudNeighbour
from balise.demo.tales.password_sweep import PasswordSweep
from balise.demo.tales.stale_certificate import StaleCertificate
from balise.demo.tales.tale import Tale
from balise.demo.tales.tariff_import import TariffImport

TALES: dict[str, Tale] = {
    tale.name: tale
    for tale in (
        TariffImport(), CreepingHeap(), FullDeck(), LoudNeighbour(), PasswordSweep(), StaleCertificate(), FailingFan(),
        LostGate(), BadRollout(),
    )
}  # fmt: skip
"""By name."""

"""Kits as they are kept: those that came with Balise and people's own, version by version."""

from __future__ import annotations

import hashlib
import logging
import time
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from balise.api.kit_documents import Kit, KitCheck, KitDocument, KitMetricShown, KitWhole
from balise.api.problems import FieldProblem
from balise.collect.kits.folder import KitFile, kits_in, shipped_kits
from balise.collect.telling import MEANINGS
from balise.core.documents import DocumentError
from balise.core.kits.documents import read_kit
from balise.core.kits.rows import metrics_of
from balise.server.errors import Refused, unknown
from balise.server.people.access import audit
from balise.server.signals import Signal
from balise.store.state import tables
from balise.store.state.store import StateStore

log = logging.getLogger(__name__)
MOST_VERSIONS = 20
FOLDER = "kits"
"""Under the data folder: people's own kits, each in a folder of its own with a `kit.yaml` in it."""


@dataclass(frozen=True)
class KitChanged:
    """The chosen version of a kit, or its text, is another. `before` is the version it was, empty for none."""

    kit: str
    before: str


class KitBook:
    """All kits. One version of each is chosen: services are read with it."""

    def __init__(self, *, state: StateStore, folder: Path) -> None:
        self._state = state
        self.folder = folder / FOLDER
        self._chosen: dict[str, KitDocument] = {}
        self._all: dict[tuple[str, str], KitDocument] = {}
        self._digests: dict[str, str] = {}
        self._seen: dict[Path, float] = {}
        self.problems: list[KitCheck] = []
        """What is wrong with kits in the folder, which are not taken up until it is put right."""
        self.changed = Signal[KitChanged]("kit")

    def start(self) -> None:
        """Takes up the kits that came with this version of Balise, and those in the folder."""
        self._keep(list(shipped_kits().values()), shipped=True, who="balise")
        self.look()

    def look(self) -> None:
        """Takes up kits in the folder that are new or changed since the last look."""
        times = {p: p.stat().st_mtime for p in sorted(self.folder.glob("*/kit.yaml"))[:300]}
        if times == self._seen and self._all:
            return
        self._seen = times
        good, self.problems = kits_in(self.folder)
        for bad in self.problems:
            log.warning("kit=%s is not taken up: %s", bad.kit, bad.problems[0].detail)
        self._keep(good, shipped=False, who="the kits folder")

    def _keep(self, files: list[KitFile], *, shipped: bool, who: str) -> None:
        taken: list[str] = []
        before = {name: kit.version for name, kit in self._chosen.items()}

        def write(session: Session) -> None:
            for one in files:
                if _keep_one(session, one.kit, one.text, shipped=shipped, who=who):
                    taken.append(one.kit.kit)

        self._state.write(write)
        self._load()
        for name in taken:
            self.changed.tell(KitChanged(name, before.get(name, "")))

    def _load(self) -> None:
        """Reads all versions; one that this Balise cannot read any more is left out and said."""
        rows = self._state.read(lambda s: list(s.scalars(select(tables.Kit))))
        every: dict[tuple[str, str], KitDocument] = {}
        chosen: dict[str, KitDocument] = {}
        digests: dict[str, str] = {}
        for row in rows:
            came = shipped_kits().get(row.name)
            try:
                kit = came.kit if came is not None and came.text == row.text else read_kit(row.text)
            except DocumentError as error:
                log.warning("kit=%s version=%s cannot be read: %s", row.name, row.version, error)
                continue
            every[(row.name, row.version)] = kit
            if row.chosen:
                chosen[row.name] = kit
                digests[row.name] = hashlib.sha256(row.text.encode()).hexdigest()[:16]
        self._all, self._chosen, self._digests = every, chosen, digests

    # --- asking

    def names(self) -> list[str]:
        return sorted(self._chosen)

    def chosen(self, name: str) -> KitDocument:
        """The version of a kit that services are read with. Raises Refused 404."""
        kit = self._chosen.get(name)
        if kit is None:
            raise unknown("kit", name)
        return kit

    def find(self, name: str) -> KitDocument | None:
        return self._chosen.get(name)

    def digest(self, name: str) -> str:
        """Tells the text of a chosen kit from every other."""
        return self._digests.get(name, "")

    def version(self, name: str, version: str) -> KitDocument:
        kit = self._all.get((name, version))
        if kit is None:
            raise Refused(404, f"There is no version {version!r} of the kit {name!r}.")
        return kit

    def of_system(self) -> list[KitDocument]:
        """Kits of systems themselves: in use wherever a host is collected, without a service of theirs."""
        return [kit for name in self.names() if (kit := self.chosen(name)).system]

    def all(self) -> list[Kit]:
        counts = _counts(self._state)
        return [_answer(self._chosen[name], _versions(self._all, name), counts) for name in self.names()]

    def get(self, name: str) -> KitWhole:
        kit = self.chosen(name)
        answer = _answer(kit, _versions(self._all, name), _counts(self._state))
        return KitWhole(**dict(answer), document=kit)

    # --- changing

    def put(self, text: str, who: str) -> KitWhole:
        """Keeps a kit as written; a new version is chosen at once, and an older one can be chosen again.

        Raises:
            Refused: 422 with line and column of what is wrong, 409 for another text under a version there is.
        """
        try:
            kit = read_kit(text)
        except DocumentError as error:
            raise refused(error) from None

        def write(session: Session) -> None:
            held = session.get(tables.Kit, (kit.kit, kit.version))
            if held is not None and held.text != text:
                raise Refused(
                    409,
                    f"There is a version {kit.version} of {kit.kit!r} already, and it says something else: raise it.",
                )
            _keep_one(session, kit, text, shipped=False, who=who)
            _choose(session, kit.kit, kit.version)
            audit(session, who, "kit.put", kit.kit, version=kit.version)

        held = self._chosen.get(kit.kit)
        self._state.write(write)
        self._load()
        self.changed.tell(KitChanged(kit.kit, held.version if held is not None else ""))
        return self.get(kit.kit)

    def choose(self, name: str, version: str, who: str) -> KitWhole:
        """From now on services are read with this version; identity, history and changed limits stay."""
        self.version(name, version)

        def write(session: Session) -> None:
            _choose(session, name, version)
            audit(session, who, "kit.choose", name, version=version)

        before = self.chosen(name).version
        self._state.write(write)
        self._load()
        self.changed.tell(KitChanged(name, before))
        return self.get(name)


def _versions(every: Iterable[tuple[str, str]], name: str) -> list[str]:
    return sorted((version for kit, version in every if kit == name), key=version_order)


def _answer(kit: KitDocument, versions: list[str], counts: dict[str, int]) -> Kit:
    shown = [
        KitMetricShown(name=name, unit=m.unit, kind=m.kind, about=m.about, part=part.part)
        for part in kit.read
        for name, m in metrics_of(part)
    ]
    shown += [
        KitMetricShown(name=name, unit=m.unit, kind=m.kind, about=m.description, part=part)
        for part in kit.system
        for name, m in MEANINGS.get(part, {}).items()
    ]
    shown += [
        KitMetricShown(name=name, unit=m.unit, kind=m.kind, about=m.about, part=f"log {one.log}")
        for one in kit.logs
        for name, m in one.metrics.items()
    ]
    return Kit(
        name=kit.kit,
        version=kit.version,
        title=kit.title,
        about=kit.about,
        shipped=(held := shipped_kits().get(kit.kit)) is not None and held.kit == kit,
        generic=kit.generic,
        versions=versions,
        services=counts.get(kit.kit, 0),
        recognises=kit.recognise,
        target=kit.target,
        credential=kit.credential,
        grant=kit.grant,
        collects=shown,
        logs=[f"{one.log}: {one.about}" for one in kit.logs],
        rules=[rule.rule or "" for rule in kit.rules],
    )


def _counts(state: StateStore) -> dict[str, int]:
    """How many services are read with each kit."""
    query = select(tables.Service.kit, func.count()).group_by(tables.Service.kit)
    return {row[0]: row[1] for row in state.read(lambda s: list(s.execute(query)))}


def _keep_one(session: Session, kit: KitDocument, text: str, *, shipped: bool, who: str) -> bool:
    """Adds a version that is new; the first of its kit is chosen. A file that was edited in place is taken as it is."""
    row = session.get(tables.Kit, (kit.kit, kit.version))
    if row is not None:
        changed = row.text != text
        row.text = text
        return changed
    versions = list(session.scalars(select(tables.Kit).where(tables.Kit.name == kit.kit)))
    if len(versions) >= MOST_VERSIONS:
        oldest = min((v for v in versions if not v.chosen), key=lambda v: version_order(v.version))
        session.delete(oldest)
    session.add(
        tables.Kit(
            name=kit.kit,
            version=kit.version,
            text=text,
            shipped=shipped,
            chosen=not versions,
            added_at=time.time(),
            added_by=who,
        )
    )
    session.flush()
    return True


def _choose(session: Session, name: str, version: str) -> None:
    for row in session.scalars(select(tables.Kit).where(tables.Kit.name == name)):
        row.chosen = row.version == version


def version_order(version: str) -> tuple[int, ...]:
    return tuple(int(part) for part in version.split("."))


def refused(error: DocumentError) -> Refused:
    """A kit that cannot be read, as an answer that names line and column."""
    fields = [
        FieldProblem(field=field or "text", detail=f"line {place[0]}, column {place[1]}: {detail}")
        for place, field, detail in error.problems
    ]
    return Refused(422, f"The kit is not kept: {error}", errors=fields)

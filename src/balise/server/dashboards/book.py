"""Dashboards as people keep them, in versions, and as kits bring them."""

from __future__ import annotations

import json
import time
from collections.abc import Callable, Mapping

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from balise.api.dashboards import (
    Dashboard,
    DashboardBody,
    DashboardDocument,
    DashboardInList,
    DashboardRead,
    DashboardVersion,
)
from balise.api.kit_documents import KitDocument
from balise.api.problems import FieldProblem
from balise.api.spans import rfc3339
from balise.core.dashboards import of_kit, slips_in
from balise.core.documents import DocumentError, place_in, read_document, written
from balise.server.errors import Refused, unknown
from balise.server.people.access import Principal, audit
from balise.store.state import tables
from balise.store.state.store import StateStore

MOST_DASHBOARDS, MOST_OF_ONE = 1000, 200
MOST_VERSIONS = 50
OF_KIT = "kit "
"""How the names of dashboards begin that kits bring."""


class DashboardBook:
    """All dashboards. `kits` are those that are chosen, by name."""

    def __init__(self, *, state: StateStore, kits: Callable[[], Mapping[str, KitDocument]]) -> None:
        self._state = state
        self._kits = kits

    # --- asking

    def all(self, who: Principal) -> list[DashboardInList]:
        """Those that somebody may see: their own, those that are shared, and those of kits."""
        rows = self._state.read(lambda s: list(s.scalars(select(tables.Dashboard).order_by(tables.Dashboard.name))))
        kept = [_in_list(row, who) for row in rows if _may_see(row, who)]
        return [*kept, *(_kit_in_list(kit) for kit in self._kits().values() if kit.charts or kit.dashboard)]

    def get(self, name: str, who: Principal) -> Dashboard:
        """Raises Refused 404 when there is none, or it is somebody else's own."""
        if name.startswith(OF_KIT) and (who.role != "screen" or _is_shown(name, who)):
            kit = self._kits().get(name.removeprefix(OF_KIT))
            if kit is not None and (kit.charts or kit.dashboard):
                return _of_kit(kit)
            raise unknown("dashboard", name)
        row = self._state.read(lambda s: s.get(tables.Dashboard, name))
        if row is None or not _may_see(row, who):
            raise unknown("dashboard", name)
        return _answer(row)

    def versions(self, name: str, who: Principal) -> list[DashboardVersion]:
        """The newest first. Raises as `get`."""
        self.get(name, who)
        table = tables.DashboardVersion
        query = select(table).where(table.dashboard == name).order_by(table.version.desc())
        return [
            DashboardVersion(
                version=row.version, at=rfc3339(row.at), who=row.who, panels=len(row.body["panels"]),
                body=DashboardBody.model_validate(row.body),
            )
            for row in self._state.read(lambda s: list(s.scalars(query)))
        ]  # fmt: skip

    # --- changing

    def put(self, name: str, body: DashboardBody, who: Principal) -> Dashboard:
        """Keeps a dashboard as it is now, as another version.

        Raises:
            Refused: 422 naming the field, 403 when they may not, 409 when the name is taken or there are too many.
        """
        if name.startswith(OF_KIT):
            raise Refused(
                409, f"Names that begin with {OF_KIT!r} are those of kits' dashboards: keep it under another."
            )
        check(body)

        def write(session: Session) -> tables.Dashboard:
            row = session.get(tables.Dashboard, name)
            if row is not None and not _may_see(row, who):
                raise Refused(409, f"There is a dashboard {name!r} already: choose another name.")
            if row is None:
                _check_room(session, who)
                row = tables.Dashboard(name=name, owner=who.name, version=0)
            elif not may_change(row, who):
                raise Refused(403, f"The dashboard {name!r} is {row.owner}'s: keep yours under another name.")
            if body.shared and not who.may("operator"):
                raise Refused(403, "Sharing a dashboard with everybody needs the role operator: keep it for yourself.")
            row.version, row.body, row.shared = (
                row.version + 1,
                body.model_dump(mode="json", by_alias=True),
                body.shared,
            )
            row.updated_at, row.updated_by = time.time(), who.name
            session.add(row)
            session.flush()
            _keep_version(session, row)
            audit(session, who.name, "dashboard.put", name, panels=len(body.panels), shared=body.shared)
            return row

        return _answer(self._state.write(write))

    def restore(self, name: str, version: int, who: Principal) -> Dashboard:
        """As it was in an earlier version, as another one. Raises as `put`, and 404 when there is no such version."""
        held = next((one for one in self.versions(name, who) if one.version == version), None)
        if held is None:
            raise unknown("version", version)
        return self.put(name, held.body, who)

    def delete(self, name: str, who: Principal) -> None:
        def write(session: Session) -> None:
            row = session.get(tables.Dashboard, name)
            if row is None or not _may_see(row, who):
                raise unknown("dashboard", name)
            if not may_change(row, who):
                raise Refused(403, f"The dashboard {name!r} is {row.owner}'s.")
            session.execute(delete(tables.DashboardVersion).where(tables.DashboardVersion.dashboard == name))
            session.delete(row)
            audit(session, who.name, "dashboard.delete", name)

        self._state.write(write)


def check(body: DashboardBody) -> None:
    """Raises Refused 422 naming every field that does not hold together."""
    slips = [FieldProblem(field=field, detail=detail) for field, detail in slips_in(body)][:20]
    if slips:
        raise Refused(422, "; ".join(f"{slip.field}: {slip.detail}" for slip in slips[:3]), errors=slips)


def read_text(text: str) -> DashboardRead:
    """A dashboard from its text, JSON or YAML; or what is wrong with it, by line and column."""
    try:
        found = read_document(text, DashboardDocument)
    except DocumentError as error:
        return DashboardRead(dashboard=None, problems=error.told())
    slips = DocumentError([(place_in(text, field), field, f"{field}: {detail}") for field, detail in slips_in(found)])
    return DashboardRead(dashboard=found, problems=slips.told())


def text_of(document: DashboardDocument, *, as_json: bool) -> str:
    """A dashboard as a file has it: what is as it would be anyway is left out."""
    said = document.model_dump(mode="json", by_alias=True, exclude_none=True, exclude_defaults=True)
    whole = {"dashboard": document.dashboard, **said}
    return json.dumps(whole, indent=2, ensure_ascii=False) + "\n" if as_json else written(whole)


def may_change(row: tables.Dashboard, who: Principal) -> bool:
    return row.owner == who.name or (row.shared and who.may("operator")) or who.may("administrator")


def _may_see(row: tables.Dashboard, who: Principal) -> bool:
    if who.role == "screen":
        return _is_shown(row.name, who)
    return row.shared or row.owner == who.name or who.may("administrator")


def _is_shown(name: str, screen: Principal) -> bool:
    return screen.scope is not None and name in screen.scope.dashboards


def _check_room(session: Session, who: Principal) -> None:
    counted = select(func.count()).select_from(tables.Dashboard)
    if (session.scalar(counted) or 0) >= MOST_DASHBOARDS:
        raise Refused(409, f"There are {MOST_DASHBOARDS} dashboards already: delete some first.")
    if (session.scalar(counted.where(tables.Dashboard.owner == who.name)) or 0) >= MOST_OF_ONE:
        raise Refused(409, f"You have {MOST_OF_ONE} dashboards already: delete some first.")


def _keep_version(session: Session, row: tables.Dashboard) -> None:
    table = tables.DashboardVersion
    session.add(table(dashboard=row.name, version=row.version, at=row.updated_at, who=row.updated_by, body=row.body))
    session.execute(delete(table).where(table.dashboard == row.name, table.version <= row.version - MOST_VERSIONS))


def _answer(row: tables.Dashboard) -> Dashboard:
    return Dashboard(
        **{**DashboardBody.model_validate(row.body).__dict__, "shared": row.shared},
        name=row.name,
        owner=row.owner,
        version=row.version,
        updated_at=rfc3339(row.updated_at),
        updated_by=row.updated_by,
    )


def _of_kit(kit: KitDocument) -> Dashboard:
    said = f"the kit {kit.kit} {kit.version}"
    return Dashboard(
        **of_kit(kit).__dict__, name=f"{OF_KIT}{kit.kit}", owner="", version=1, brought_by=said, updated_at=None,
        updated_by=said,
    )  # fmt: skip


def _in_list(row: tables.Dashboard, who: Principal) -> DashboardInList:
    return DashboardInList(
        name=row.name,
        about=row.body["about"],
        owner=row.owner,
        shared=row.shared,
        panels=len(row.body["panels"]),
        version=row.version,
        updated_at=rfc3339(row.updated_at),
        may_change=may_change(row, who),
    )


def _kit_in_list(kit: KitDocument) -> DashboardInList:
    found = _of_kit(kit)
    return DashboardInList(
        name=found.name,
        about=found.about,
        owner="",
        shared=True,
        panels=len(found.panels),
        version=1,
        brought_by=found.brought_by,
        updated_at=None,
        may_change=False,
    )

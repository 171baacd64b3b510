"""What everything takes; backups; exports."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Path, Query

from balise.api.data import Backup, DataAnswer, Export, ExportBody, NewBackup
from balise.api.lists import Note, Page
from balise.api.spans import Name
from balise.server.callers import Administrator, Viewer, part
from balise.server.data.backups import BackupBook
from balise.server.data.exports import ExportBook
from balise.server.data.sizes import Sizes
from balise.server.keeping.growth import Growth
from balise.server.keeping.space import Space

router = APIRouter(tags=["data"])
ExportsHere = Annotated[ExportBook, part(ExportBook)]
BackupsHere = Annotated[BackupBook, part(BackupBook)]
ExportName = Annotated[Name, Path()]


@router.get("/data")
def read_data(
    sizes: Annotated[Sizes, part(Sizes)],
    space: Annotated[Space, part(Space)],
    growth: Annotated[Growth, part(Growth)],
    backups: BackupsHere,
    exports: ExportsHere,
    _who: Viewer,
) -> DataAnswer:
    """What everything takes by kind, how it grows, what it will be; backups, and what is at work."""
    of_kinds, free = sizes.of_kinds(), space.free
    return DataAnswer(
        bytes=sum(one.bytes for one in of_kinds),
        sizes=of_kinds,
        free_bytes=int(free),
        growth_bytes_per_day=growth.per_day(),
        full_in_days=growth.full_in(free),
        forecast=sizes.forecast(),
        backups_in=str(backups.folder),
        backups=backups.all(),
        exports_in=str(exports.folder),
        jobs=[*backups.jobs(), *exports.jobs()],
    )


@router.post("/data/backups", status_code=202)
def begin_backup(backups: BackupsHere, who: Administrator, body: NewBackup) -> Backup:
    """Copies everything as of one moment into a folder of the console's machine, while the console runs."""
    return backups.begin(body.name, who.name)


@router.get("/exports")
def list_exports(exports: ExportsHere, _who: Viewer) -> Page[Export]:
    return Page[Export](items=exports.all())


@router.get("/exports/{name}")
def read_export(exports: ExportsHere, _who: Viewer, name: ExportName) -> Export:
    return exports.get(name)


@router.put("/exports/{name}")
def put_export(exports: ExportsHere, who: Administrator, name: ExportName, body: ExportBody) -> Export:
    """Writes history as Parquet into a folder of the console's machine, once, or on and on."""
    return exports.put(name, body, who.name)


@router.delete("/exports/{name}")
def delete_export(
    exports: ExportsHere,
    who: Administrator,
    name: ExportName,
    files: Annotated[bool, Query(description="remove what was exported, too")] = False,
) -> Note:
    exports.delete(name, who.name, files=files)
    return Note(detail=f"export {name} deleted: " + ("so is what it wrote" if files else "what it wrote stays"))

"""The Parquet files of one day of one kind: written aside, and put into their places together once all are whole."""

from __future__ import annotations

import os
import shutil
from hashlib import blake2b
from pathlib import Path
from types import TracebackType
from urllib.parse import quote

import pyarrow as pa
import pyarrow.parquet as pq

from balise.durable import settle

ROWS = 256_000
"""Rows of a row group."""
MOST_WAITING = 3_000_000
"""Rows of all files that wait until there are enough of one."""
MOST_NAME = 180
NOTHING = "__HIVE_DEFAULT_PARTITION__"
FILE = "part-0.parquet"
UNFINISHED = ".unfinished"


class DayFiles:
    """A file for each value of the column that is in the folders' names, such as `metric=system.cpu.time`."""

    def __init__(self, to: Path, kind: str, day: str, column: str, schema: pa.Schema) -> None:
        self._place = to / kind / f"day={day}"
        self._aside = to / UNFINISHED / kind / f"day={day}"
        self._column, self._schema = column, schema
        self._writers: dict[str, pq.ParquetWriter] = {}
        self._waiting: dict[str, list[pa.Table]] = {}
        self._sizes: dict[str, int] = {}
        self.rows = 0

    def __enter__(self) -> DayFiles:
        shutil.rmtree(self._aside, ignore_errors=True)
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, at: TracebackType | None) -> None:
        for writer in self._writers.values():
            writer.close()
        shutil.rmtree(self._aside, ignore_errors=True)

    def add(self, value: str, table: pa.Table) -> None:
        self._waiting.setdefault(value, []).append(table)
        self._sizes[value] = self._sizes.get(value, 0) + len(table)
        self.rows += len(table)
        if self._sizes[value] >= ROWS:
            self._write(value)
        while sum(self._sizes.values()) > MOST_WAITING:
            self._write(max(self._sizes, key=lambda one: self._sizes[one]))

    def _write(self, value: str) -> None:
        tables = self._waiting.pop(value)
        del self._sizes[value]
        whole = pa.concat_tables(tables).unify_dictionaries()
        if value not in self._writers:
            folder = self._aside / f"{self._column}={partition(value)}"
            folder.mkdir(parents=True, exist_ok=True, mode=0o700)
            schema = self._schema.with_metadata({"balise." + self._column: value})
            self._writers[value] = pq.ParquetWriter(folder / FILE, schema, compression="zstd")
        self._writers[value].write_table(whole.replace_schema_metadata(self._writers[value].schema.metadata), ROWS)

    def end(self, value: str) -> None:
        """Nothing more comes for a value: its file is finished."""
        if value in self._waiting:
            self._write(value)
        writer = self._writers.pop(value, None)
        if writer is not None:
            writer.close()

    def settle(self) -> int:
        """Puts all files into their places, and takes away those that are of nothing any more. Answers their bytes."""
        for value in [*self._waiting, *self._writers]:
            self.end(value)
        size = 0
        made = sorted(self._aside.glob("*"))
        for folder in made:
            with open(folder / FILE, "rb+") as file:
                os.fsync(file.fileno())
            size += (folder / FILE).stat().st_size
            place = self._place / folder.name
            place.mkdir(parents=True, exist_ok=True, mode=0o700)
            os.replace(folder / FILE, place / FILE)
            settle(place)
        names = {folder.name for folder in made}
        for old in [old for old in self._place.glob("*=*") if old.name not in names]:
            shutil.rmtree(old)
        if self._place.exists():
            settle(self._place)
        return size


def partition(value: str) -> str:
    """A value as it stands in the name of a folder.

    >>> partition("GET /bookings")
    'GET%20%2Fbookings'
    """
    if not value:
        return NOTHING
    name = quote(value, safe="._-+@")
    # A name of dots alone is a place of its own.
    name = name.replace(".", "%2E") if set(name) == {"."} else name
    if len(name) > MOST_NAME:
        name = f"{name[:MOST_NAME]}~{blake2b(value.encode(), digest_size=8).hexdigest()}"
    return name

"""What was exported so far, beside it: `balise-export.json`."""

from __future__ import annotations

import json
from dataclasses import asdict, dataclass
from pathlib import Path

from balise.durable import write_durably
from balise.store.folders import DataError

FILE = "balise-export.json"
FORM = 1


@dataclass(frozen=True)
class Done:
    """A day of a kind that stands whole: what it was known by, its rows and bytes."""

    mark: str
    rows: int
    size: int


class Ledger:
    """By kind and day, like `points/2026-11-29`."""

    def __init__(self, path: Path, units: dict[str, Done]) -> None:
        self._path, self.units = path, units

    @classmethod
    def read(cls, to: Path) -> Ledger:
        """What was exported into a folder. Raises DataError when it cannot be read."""
        path = to / FILE
        if not path.exists():
            return cls(path, {})
        try:
            told = json.loads(path.read_text("utf-8"))
            return cls(path, {name: Done(**one) for name, one in told["units"].items()})
        except (OSError, ValueError, KeyError, TypeError, AttributeError) as error:
            raise DataError(f"{path} cannot be read: {error}. Name another folder.") from None

    @classmethod
    def begin(cls, to: Path) -> Ledger:
        """The same, of a folder that is exported into. Raises DataError when it holds something else."""
        if to.exists() and not (to / FILE).exists() and any(to.iterdir()):
            raise DataError(f"{to} is not empty and holds no export: name another folder")
        to.mkdir(parents=True, exist_ok=True, mode=0o700)
        found = cls.read(to)
        found._write()
        return found

    def note(self, name: str, done: Done) -> None:
        self.units[name] = done
        self._write()

    def _write(self) -> None:
        units = {name: asdict(one) for name, one in sorted(self.units.items())}
        write_durably(self._path, json.dumps({"form": FORM, "units": units}, indent=1).encode())

    @property
    def rows(self) -> int:
        return sum(one.rows for one in self.units.values())

    @property
    def size(self) -> int:
        """Bytes."""
        return sum(one.size for one in self.units.values())

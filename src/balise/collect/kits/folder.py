"""Kits on disk: those that come with Balise, and people's own, a folder each with a `kit.yaml` in it."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from pathlib import Path

from balise.api.kit_documents import KitCheck, KitDocument
from balise.api.problems import DocumentProblem
from balise.core.documents import DocumentError
from balise.core.kits.documents import check_kit, read_kit

SHIPPED = Path(__file__).parent / "shipped"
MOST_TEXT = 300_000
MOST_KITS = 300


@dataclass(frozen=True)
class KitFile:
    """A kit as it lies in a folder."""

    kit: KitDocument
    text: str
    path: Path


def kit_text(path: Path) -> str:
    """The text of a kit, from its folder or from the file itself.

    Raises:
        OSError: there is none, or it is longer than a kit may be.
    """
    file = path / "kit.yaml" if path.is_dir() else path
    if file.stat().st_size > MOST_TEXT:
        raise OSError(f"{file} is longer than {MOST_TEXT // 1000} kB")
    return file.read_text("utf-8", "replace")


def kits_in(folder: Path) -> tuple[list[KitFile], list[KitCheck]]:
    """The kits of a folder of kits, and what is wrong with those that are not good."""
    good: list[KitFile] = []
    bad: list[KitCheck] = []
    if not folder.is_dir():
        return good, bad
    for path in sorted(p for p in folder.iterdir() if (p / "kit.yaml").is_file())[:MOST_KITS]:
        try:
            text = kit_text(path)
            kit = read_kit(text)
        except DocumentError:
            bad.append(check_kit(path.name, text))
            continue
        except OSError as error:
            fault = DocumentProblem(line=1, column=1, field="", detail=str(error)[:200])
            bad.append(KitCheck(kit=path.name, good=False, problems=[fault]))
            continue
        if kit.kit != path.name:
            fault = DocumentProblem(line=1, column=1, field="kit", detail=f"the folder is called {path.name!r}")
            bad.append(KitCheck(kit=kit.kit, good=False, problems=[fault]))
            continue
        good.append(KitFile(kit, text, path))
    return good, bad


@cache
def shipped_kits() -> dict[str, KitFile]:
    """The kits that come with Balise, by name."""
    good, bad = kits_in(SHIPPED)
    if bad:
        raise RuntimeError(f"shipped kits do not hold together: {bad}")
    return {one.kit.kit: one for one in good}

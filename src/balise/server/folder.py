"""Where a console keeps everything."""

from __future__ import annotations

import os
from pathlib import Path


def data_folder(path: str | None) -> Path:
    """Where the console keeps everything: as given, from `BALISE_DATA`, else below the user's own data."""
    if path:
        return Path(path)
    if os.environ.get("BALISE_DATA"):
        return Path(os.environ["BALISE_DATA"])
    return Path(os.environ.get("XDG_DATA_HOME", Path.home() / ".local" / "share")) / "balise"

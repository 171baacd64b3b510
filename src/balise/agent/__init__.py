"""The agent of a host."""

from __future__ import annotations

import sys

# httpx brings a command line of its own along where it can, which would take five MiB on every host.
sys.modules.setdefault("httpx._main", None)  # type: ignore[arg-type]

"""What commands need that run something on this machine."""

from __future__ import annotations

import argparse
import logging
import os
import sys
from typing import Any

from balise.cli.errors import CommandError


def server_packages() -> None:
    """Raises CommandError where only an agent is installed."""
    try:
        import fastapi  # noqa: F401
    except ImportError:
        raise CommandError("this needs the service's packages: pip install 'balise[console]'") from None


def log_to_stderr() -> None:
    logging.basicConfig(stream=sys.stderr, level=logging.INFO, format="%(asctime)s %(levelname)s %(name)s %(message)s")
    logging.getLogger("httpx").setLevel(logging.WARNING)
    logging.getLogger("alembic").setLevel(logging.WARNING)


def login() -> str:
    """Who is at this machine's command line."""
    return os.environ.get("SUDO_USER") or os.environ.get("USER") or "unknown"


def trust_of(arguments: argparse.Namespace) -> Any:
    """What the command says of whom to trust."""
    from balise.client.trust import Trust

    return Trust(arguments.ca, arguments.fingerprint)

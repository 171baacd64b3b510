"""The command line: `balise NOUN VERB`."""

from balise.cli.main import main

__all__ = ["main"]

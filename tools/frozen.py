"""What `make agent` builds from: the command line of an agent, for machines without Python."""

from __future__ import annotations

import sys

from balise.cli.main import WRONG_USAGE, main

if __name__ == "__main__":
    if sys.argv[1:2] not in (["agent"], ["--version"]):
        print("balise: this is an agent alone: balise agent VERB, such as balise agent --help", file=sys.stderr)
        sys.exit(WRONG_USAGE)
    sys.exit(main())

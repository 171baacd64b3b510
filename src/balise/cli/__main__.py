"""`python -m balise.cli`."""

import sys

from balise.cli.main import main

sys.exit(main())

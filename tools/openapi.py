"""Writes the service's OpenAPI document to where the console's types are made from."""

import json
import sys
from pathlib import Path

from balise.server.app import build_api

target = Path(sys.argv[1] if len(sys.argv) > 1 else "console/openapi.json")
target.write_text(json.dumps(build_api(None).openapi(), indent=1, sort_keys=True) + "\n", "utf-8")

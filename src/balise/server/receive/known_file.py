"""What is known of senders' bodies, kept in a file so that a console that starts need not learn it anew.

It is only ever a short cut. What it says of a body holds only while the same series stand in the same order, all of
hosts that are here; whatever else it says is left out, and learnt again.
"""

from __future__ import annotations

import json
import logging
from base64 import b64decode, b64encode
from collections.abc import Callable
from hashlib import sha256
from pathlib import Path
from typing import Any

import numpy as np

from balise.core.series.shapes import Shape
from balise.durable import write_durably
from balise.server.receive.known import Key, KnownBodies, KnownBody
from balise.store.series.layouts import Layout

log = logging.getLogger(__name__)
FORM = "balise known bodies 1"
LayoutOf = Callable[[bytes], Layout | None]
"""The layout that has a digest, if all its series are of hosts that are here."""


def write_known(path: Path, known: KnownBodies) -> None:
    """Puts all that is known, but for what was said only once, into a file, in the place of the one before. Raises
    OSError when there is no room."""
    shapes: dict[Shape, int] = {}
    bodies = []
    for key, body in known.items():
        if body.layout is not None and body.digest and not body.begun:
            chosen = None if body.chosen is None else body.chosen.tolist()
            shape = shapes.setdefault(body.shape, len(shapes))
            bodies.append([*_told(key), shape, body.digest.hex(), body.layout.key().hex(), chosen, body.skipped])
    content = json.dumps({"shapes": [shape.told() for shape in shapes], "bodies": bodies}).encode()
    write_durably(path, f"{FORM} {sha256(content).hexdigest()}\n".encode() + content)


def read_known(path: Path, known: KnownBodies, layout_of: LayoutOf) -> None:
    """Takes up what a file says and still holds. One that is damaged, or of another form, says nothing."""
    try:
        head, _, content = path.read_bytes().partition(b"\n")
        if head.decode() != f"{FORM} {sha256(content).hexdigest()}":
            raise ValueError("its head says something else")
        told = json.loads(content)
        shapes = [Shape.read(one) for one in told["shapes"]]
    except FileNotFoundError:
        return
    except (OSError, ValueError, KeyError) as error:
        log.warning("%s is left out, and bodies are learnt anew: %s", path.name, error)
        return
    for *key, shape, digest, layout_key, chosen, skipped in reversed(told["bodies"]):
        layout = layout_of(bytes.fromhex(layout_key))
        if layout is not None:
            places = None if chosen is None else np.array(chosen, np.int64)
            body = KnownBody(shapes[shape], bytes.fromhex(digest), layout, chosen=places, skipped=skipped)
            known.keep(_read(key), body)


def _told(key: Key) -> list[Any]:
    (name, number), resource, length = key
    return [name, number, b64encode(resource).decode(), length]


def _read(told: list[Any]) -> Key:
    name, number, resource, length = told
    return (str(name), number), b64decode(resource), int(length)

"""People who can be told."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from balise.api.hours import Hours
from balise.api.spans import Name
from balise.api.strict import Strict


class PersonBody(Strict):
    """Somebody who can be told, by channels of their own; not in quiet hours."""

    channels: Annotated[list[Name], Field(min_length=1, max_length=10)]
    quiet: Hours | None = None


class Person(PersonBody):
    name: str

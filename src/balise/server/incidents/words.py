"""What somebody is about to be told: it waits for what else there is to tell them."""

from __future__ import annotations

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from balise.store.state.tables import Word


def add_word(
    session: Session,
    incident: int,
    to: tuple[str, str | None],
    callout: str,
    kind: str,
    why: str,
    gather: float,
    due: float,
) -> None:
    """Somebody, by channel and person, is to be told something of an incident. `due` is unix seconds."""
    channel, person = to
    whose = (Word.channel == channel, Word.person.is_not_distinct_from(person))
    same = (Word.incident == incident, Word.kind == kind, *whose)
    if session.scalar(select(func.count()).select_from(Word).where(*same)):
        return
    session.add(
        Word(
            incident=incident,
            channel=channel,
            person=person,
            callout=callout,
            kind=kind,
            why=why[:500],
            gather=gather,
            due=due,
        )
    )

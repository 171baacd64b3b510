"""What somebody is about to be told: it waits for what else there is to tell them."""

from __future__ import annotations

from collections.abc import Callable

from sqlalchemy import select
from sqlalchemy.orm import Session

from balise.store.state.tables import Heard, Word

ALL_OVER = "all that was wrong has recovered"


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
    if session.scalar(select(Word.id).where(Word.incident == incident, Word.kind == kind, *whose).limit(1)) is not None:
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


def add_words_to_listeners(
    session: Session,
    incident: int,
    kind: str,
    why: str,
    now: float,
    gather_of: Callable[[str], float] = lambda _callout: 0.0,
) -> None:
    """Whoever was told of an incident, and not yet that it is over, is to be told; `gather_of` answers for how long, in
    seconds, what a callout tells is gathered."""
    for heard in list(session.scalars(select(Heard).where(Heard.incident == incident, Heard.over.is_(False)))):
        gather = gather_of(heard.callout)
        add_word(session, incident, (heard.channel, heard.person), heard.callout, kind, why, gather, now + gather)

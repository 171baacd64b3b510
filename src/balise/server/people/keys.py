"""Enrolment keys as whoever comes with one shows them."""

from __future__ import annotations

import time

from sqlalchemy import select
from sqlalchemy.orm import Session

from balise.server.errors import Refused
from balise.store.state import tables
from balise.store.state.secrets import digest


def usable_key(session: Session, text: str) -> tables.EnrolmentKey:
    """The key, if it still enrols something."""
    key = session.scalar(select(tables.EnrolmentKey).where(tables.EnrolmentKey.digest == digest(text)))
    if key is None:
        raise Refused(403, "The enrolment key is not known: copy it again from Settings, Enrolment keys.")
    if key.revoked_at is not None:
        raise Refused(403, f"The enrolment key {key.label!r} was revoked: make a new one.")
    if key.expires_at < time.time():
        raise Refused(403, f"The enrolment key {key.label!r} has expired: make a new one.")
    if key.uses_left < 1:
        raise Refused(403, f"The enrolment key {key.label!r} has been used as often as it may: make a new one.")
    return key

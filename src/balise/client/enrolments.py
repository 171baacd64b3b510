"""Lists of hosts, and machines that wait to be let in."""

from __future__ import annotations

from typing import Literal

from balise.api.agents import Approval, Candidate
from balise.api.lists import Note
from balise.api.remote import Enrolment, NewEnrolment, StartedEnrolment
from balise.client.noun import Items, Noun


class Enrolments(Noun):
    """Lists of hosts that are tested and added at once."""

    def list(self) -> Items[Enrolment]:
        """The newest lists, without their entries.

        >>> balise.enrolments.list()
        []
        """
        return self._connection.items(Enrolment, "/enrolments")

    def start(self, enrolment: NewEnrolment) -> int:
        """Begins to test a list of hosts; answers the list's number.

        >>> entry = EnrolmentEntry(address="127.0.0.1", port=9, protocol="ssh", credential="quays")
        >>> balise.enrolments.start(NewEnrolment(entries=[entry]))
        1
        """
        return self._connection.send(StartedEnrolment, "POST", "/enrolments", enrolment).id

    def show(self, number: int) -> Enrolment:
        """How testing a list goes, entry by entry.

        >>> balise.enrolments.show(1).total
        1
        """
        return self._connection.get(Enrolment, f"/enrolments/{number}")


class Candidates(Noun):
    """Machines that wait to be let in."""

    def list(self) -> Items[Candidate]:
        """Who waits.

        >>> [candidate.name for candidate in balise.candidates.list()]
        ['mole-1', 'mole-2']
        """
        return self._connection.items(Candidate, "/candidates")

    def approve(self, number: int, name: str | None = None, *, kind: Literal["agent", "sender"] = "agent") -> str:
        """Lets a machine in, or makes who speaks to a receiver a host; under its own name or another.

        >>> balise.candidates.approve(1)
        'mole-1 is let in'
        """
        path = f"/candidates/{number}/approve"
        return self._connection.send(Note, "POST", path, Approval(name=name), kind=kind).detail

    def refuse(self, number: int, *, kind: Literal["agent", "sender"] = "agent") -> str:
        """Turns a machine away, or keeps nothing more of what a sender says.

        >>> balise.candidates.refuse(2)
        'turned away: its token is good for nothing'
        """
        return self._connection.note("DELETE", f"/candidates/{number}", kind=kind)

"""Incidents."""

from __future__ import annotations

from pydantic import BaseModel

from balise.api.incidents import (
    Acknowledged,
    AddNote,
    Close,
    HandOver,
    Incident,
    IncidentDetail,
    Join,
    Part,
    Snooze,
    Take,
    Together,
    TogetherDone,
)
from balise.client.noun import Items, Noun


class Incidents(Noun):
    """What a person has to deal with."""

    def list(
        self, where: str | None = None, *, state: str | None = None, filter: str | None = None, limit: int = 100
    ) -> Items[Incident]:
        """Incidents, the newest first.

        >>> [(incident.id, incident.severity) for incident in balise.incidents.list("practice eq false", state="open")]
        [(1, 'critical')]
        """
        return self._connection.items(Incident, "/incidents", where=where, state=state, filter=filter, limit=limit)

    def show(self, number: int) -> IncidentDetail:
        """An incident with its story.

        >>> balise.incidents.show(1).timeline[0].kind
        'alert'
        """
        return self._connection.get(IncidentDetail, f"/incidents/{number}")

    def acknowledge(self, number: int, note: str = "") -> IncidentDetail:
        """Says that somebody has seen it; callouts go on.

        >>> balise.incidents.acknowledge(1).timeline[-1].text
        'has seen it'
        """
        return self._act(number, "acknowledge", Acknowledged(note=note))

    def take(self, number: int, *, person: str | None = None, note: str = "") -> IncidentDetail:
        """Has it: callouts tell nobody else.

        >>> balise.incidents.take(1, note="on my way").taken_by
        'the administrator'
        """
        return self._act(number, "take", Take(person=person, note=note))

    def hand_over(self, number: int, to: str, note: str = "") -> IncidentDetail:
        """Gives it to a person, who is told.

        >>> balise.incidents.hand_over(1, "anna").taken_by
        'anna'
        """
        return self._act(number, "hand-over", HandOver(to=to, note=note))

    def note(self, number: int, text: str) -> IncidentDetail:
        """Writes something down.

        >>> balise.incidents.note(1, "the ramp was painted").timeline[-1].text
        'the ramp was painted'
        """
        return self._act(number, "note", AddNote(text=text))

    def snooze(self, number: int, until: str | None = None) -> IncidentDetail:
        """Nobody is told until a time, or until it is worse when none is given.

        >>> balise.incidents.snooze(1).snoozed_until_worse
        True
        """
        return self._act(number, "snooze", Snooze(until=until, until_worse=until is None))

    def close(self, number: int, reason: str) -> IncidentDetail:
        """Closes it by hand.

        >>> balise.incidents.close(1, "a test").state
        'closed'
        """
        return self._act(number, "close", Close(reason=reason))

    def reopen(self, number: int) -> IncidentDetail:
        """Opens it again.

        >>> balise.incidents.reopen(1).reopened
        1
        """
        return self._connection.send(IncidentDetail, "POST", f"/incidents/{number}/reopen")

    def join(self, number: int, other: int) -> IncidentDetail:
        """Another incident is a part of this one from now on.

        >>> balise.incidents.join(1, 2)
        Traceback (most recent call last):
        balise.client.errors.Refused: There is no incident 2.
        """
        return self._act(number, "join", Join(with_=other))

    def part(self, number: int, alerts: Items[int]) -> IncidentDetail:
        """Some alerts are an incident of their own from now on, which is answered.

        >>> balise.incidents.part(1, [7])
        Traceback (most recent call last):
        balise.client.errors.Refused: Alert 7 is none of those that are open in incident 1.
        """
        return self._act(number, "part", Part(alerts=alerts))

    def together(self, body: Together) -> Items[TogetherDone]:
        """The same for several.

        >>> balise.incidents.together(Together(incidents=[1, 9], act="note", text="seen by both"))[1].problem
        'There is no incident 9.'
        """
        answer = self._connection.call("POST", "/incidents/together", body)
        return [TogetherDone.model_validate(item) for item in answer["items"]]

    def _act(self, number: int, act: str, body: BaseModel) -> IncidentDetail:
        return self._connection.send(IncidentDetail, "POST", f"/incidents/{number}/{act}", body)

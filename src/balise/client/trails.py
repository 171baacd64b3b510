"""The trail."""

from __future__ import annotations

from balise.api.trail import CauseBody, SaidCause, Trail, TrailQuery, TrailRecord
from balise.client.noun import Noun


class Trails(Noun):
    """The likely causes of what is felt somewhere, and what people said of them."""

    def of_incident(self, number: int) -> Trail:
        """Of an incident, the likeliest first.

        >>> balise.trails.of_incident(1).looked_at.left_out
        0
        """
        return self._connection.get(Trail, f"/incidents/{number}/trail")

    def of_place(self, query: TrailQuery) -> Trail:
        """Of a host, a service, an application or an alert, in a stretch of time.

        >>> balise.trails.of_place(TrailQuery(host="quay-a")).suspects
        []
        """
        return self._connection.send(Trail, "POST", "/trail", query)

    def say_cause(self, number: int, *, suspect: int | None = None, other: str | None = None) -> SaidCause:
        """Says which suspect of an incident was right, by its rank, or what else it was.

        >>> balise.trails.say_cause(1, other="the ramp was painted").text
        'the ramp was painted'
        """
        body = CauseBody(suspect=suspect, other=other)
        return self._connection.send(SaidCause, "POST", f"/incidents/{number}/cause", body)

    def take_back(self, number: int) -> str:
        """What was said of a cause counts no more.

        >>> balise.trails.take_back(1)
        'what was said of the cause of incident 1 was taken back'
        """
        return self._connection.note("DELETE", f"/incidents/{number}/cause")

    def record(self, days: int | None = None) -> TrailRecord:
        """How often which rank was right.

        >>> balise.trails.record().said
        0
        """
        return self._connection.get(TrailRecord, "/trail/record", days=days)

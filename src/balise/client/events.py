"""Log records from everywhere."""

from __future__ import annotations

from collections.abc import Iterator

from balise.api.events import (
    AroundAnswer,
    Event,
    EventQuery,
    ExportQuery,
    FieldsAnswer,
    FieldsQuery,
    HistogramAnswer,
    HistogramQuery,
    PatternAnswer,
    PatternQuery,
)
from balise.api.lists import Page
from balise.client.connection import quoted
from balise.client.noun import Noun


class Events(Noun):
    """Log records, searched, counted and followed."""

    def search(self, query: EventQuery) -> Page[Event]:
        """Events by text, filter and span, the newest first.

        >>> [event.body for event in balise.events.search(EventQuery(text="rope")).items]
        ['the rope parted']
        """
        return self._connection.send(Page[Event], "POST", "/events/query", query)

    def count(self, query: HistogramQuery) -> HistogramAnswer:
        """How many there were over a span, by severity.

        >>> balise.events.count(HistogramQuery(from_="-1h")).total
        1
        """
        return self._connection.send(HistogramAnswer, "POST", "/events/histogram", query)

    def patterns(self, query: PatternQuery) -> PatternAnswer:
        """What the log says: lines that say the same with other values are one, new ones first.

        >>> one = balise.events.patterns(PatternQuery(from_="-1h")).items[0]
        >>> one.pattern, one.count, one.change
        ('the rope parted', 1, 'new')
        """
        return self._connection.send(PatternAnswer, "POST", "/events/patterns", query)

    def fields(self, query: FieldsQuery) -> FieldsAnswer:
        """The top values of attributes in a span.

        >>> balise.events.fields(FieldsQuery(attributes=["host"])).items[0].events
        1
        """
        return self._connection.send(FieldsAnswer, "POST", "/events/fields", query)

    def get(self, number: str) -> Event:
        """One event.

        >>> found = balise.events.search(EventQuery(text="rope")).items[0]
        >>> balise.events.get(found.id).body
        'the rope parted'
        """
        return self._connection.send(Event, "GET", f"/events/{quoted(number)}")

    def around(self, number: str, *, scope: str = "source", lines: int = 50) -> AroundAnswer:
        """An event with the lines before and after it, of its source or of its whole host.

        >>> balise.events.around(found.id, scope="host", lines=3).before
        []
        """
        path = f"/events/{quoted(number)}/around"
        return self._connection.send(AroundAnswer, "GET", path, scope=scope, lines=lines)

    def export(self, query: ExportQuery) -> Iterator[bytes]:
        """All events of a question as lines of a file, part by part, however many.

        >>> lines = b"".join(balise.events.export(ExportQuery(format="csv", text="rope"))).splitlines()
        >>> lines[0], b"the rope parted" in lines[1]
        (b'time,host,severity,source,body,attributes', True)
        """
        return self._connection.download("/events/export", query)

    def follow(
        self, where: str | None = None, text: str | None = None, *, filter: str | None = None
    ) -> Iterator[Event]:
        """Matching events as they arrive, without end.

        >>> following = balise.events.follow('severity le 4')
        >>> following.close()  # a real reader goes through them: for event in following
        """
        for topic, content in self._connection.stream("/events/live", where=where, text=text, filter=filter):
            if topic == "event":
                yield Event.model_validate(content)

"""What the attributes of events hold most."""

from __future__ import annotations

from balise.api.events import FieldCount, FieldsAnswer, FieldsQuery, FieldValue
from balise.core import filters
from balise.server.errors import bad_field
from balise.server.events.search import search_of
from balise.store.events.fields import FieldCounts
from balise.store.events.store import EventStore

LONGEST_VALUE = 500


class FieldSearch:
    """Answers the top values of attributes."""

    def __init__(self, events: EventStore) -> None:
        self._counts = FieldCounts(events)

    def of(self, query: FieldsQuery) -> FieldsAnswer:
        """Raises Refused 422 naming the field that cannot be read."""
        try:
            fields, left = self._counts.of(search_of(query), query.attributes or ())
        except filters.FilterError as error:
            raise bad_field("where", str(error)) from None
        items = []
        for field in fields:
            top = field.values.most_common(query.limit)
            values = [FieldValue(value=v[:LONGEST_VALUE] if isinstance(v, str) else v, count=n) for v, n in top]
            others = max(0, field.events - sum(n for _, n in top))
            items.append(FieldCount(attribute=field.name, events=field.events, values=values, others=others))
        return FieldsAnswer(items=items, left_out=left)

"""Filters that have a name."""

from __future__ import annotations

from balise.api.filters import FilterBody, FilterExplained, FilterQuestion, SavedFilter
from balise.client.connection import quoted
from balise.client.noun import Items, Noun


class Filters(Noun):
    """Filters that have a name, and what a filter means."""

    def list(self) -> Items[SavedFilter]:
        """All filters that have a name.

        >>> balise.filters.list()
        []
        """
        return self._connection.items(SavedFilter, "/filters")

    def explain(self, where: str) -> FilterExplained:
        """What a filter means; a slip is told with its place.

        >>> balise.filters.explain('severity ge "error"').sentence
        'severity is error or worse'
        >>> balise.filters.explain('severity gee "error"').problem.at
        10
        """
        return self._connection.send(FilterExplained, "POST", "/filters/explain", FilterQuestion(where=where))

    def set(self, name: str, body: FilterBody) -> SavedFilter:
        """Keeps a filter under a name, new or changed.

        >>> balise.filters.set("crew", FilterBody(where='source eq "crew"', about="the crew's lines")).sentence
        'source is “crew”'
        """
        return self._connection.send(SavedFilter, "PUT", f"/filters/{quoted(name)}", body)

    def get(self, name: str) -> SavedFilter:
        """One filter.

        >>> balise.filters.get("crew").owner
        'the administrator'
        """
        return self._connection.send(SavedFilter, "GET", f"/filters/{quoted(name)}")

    def delete(self, name: str) -> str:
        """Takes a filter away.

        >>> balise.filters.delete("crew")
        'filter crew deleted'
        """
        return self._connection.note("DELETE", f"/filters/{quoted(name)}")

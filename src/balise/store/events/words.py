"""Whether a text has the words of a search, as the index of the store finds them."""

from __future__ import annotations

import sqlite3

from balise.store.events.index import match_expression


class WordMatch:
    """Asks the very index that a search asks, over one text at a time, so that both find the same."""

    def __init__(self, text: str) -> None:
        self._expression = match_expression(text)
        self._index = sqlite3.connect(":memory:", check_same_thread=False, isolation_level=None)
        self._index.execute(
            'CREATE VIRTUAL TABLE words USING fts5(body, tags, tokenize="unicode61 remove_diacritics 2")'
        )

    def __call__(self, body: str) -> bool:
        if self._expression is None:
            return True
        self._index.execute("INSERT INTO words (rowid, body) VALUES (1, ?)", (body,))
        found = self._index.execute("SELECT 1 FROM words WHERE words MATCH ?", (self._expression,)).fetchone()
        self._index.execute("DELETE FROM words")
        return found is not None

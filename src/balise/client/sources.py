"""Sources of lines, and paths tried on hosts."""

from __future__ import annotations

from balise.api.parsers import ParserAnswer, ParserQuestion
from balise.api.sources import PathQuestion, PathTried, Source
from balise.client.connection import quoted
from balise.client.noun import Items, Noun


class Sources(Noun):
    """Every place that lines come from."""

    def list(self, host: str | None = None, state: str | None = None) -> Items[Source]:
        """Sources of a host, or of all, with how it goes there; what somebody has to look at comes first.

        >>> [(source.kind, source.state) for source in balise.sources.list(host="quay-a")]
        [('otlp', 'following')]
        """
        return self._connection.items(Source, "/sources", host=host, state=state)

    def attempt(self, host: str, path: str) -> PathTried:
        """The last lines at a path on a host, or why there are none; its collector looks within ten seconds.

        >>> balise.sources.attempt("quay-a", "/var/log/ferry.log")
        Traceback (most recent call last):
        ...
        balise.client.errors.Refused: Nobody can look at files there: 'quay-a' is known from other senders: files are \
read by an agent, or over SSH.
        """
        body = PathQuestion(path=path)
        return self._connection.send(PathTried, "POST", f"/hosts/{quoted(host)}/paths/try", body)

    def parse(self, question: ParserQuestion) -> ParserAnswer:
        """Lines as the events that a parser makes of them.

        >>> asked = ParserQuestion(lines=['{"level":"warn","msg":"low tide","berth":4}'])
        >>> event = balise.sources.parse(asked).items[0].event
        >>> event.severity, event.body, event.attributes
        ('warning', 'low tide', {'berth': '4'})
        """
        return self._connection.send(ParserAnswer, "POST", "/parsers/try", question)

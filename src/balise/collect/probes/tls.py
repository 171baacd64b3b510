"""TLS and its certificates."""

from __future__ import annotations

import ssl

from balise.collect.probes.stream import StreamProbe


class TlsProbe(StreamProbe):
    """Whether TLS is agreed on with a certificate that is trusted, fits the name and is good for long enough."""

    kind = "tls"
    always_secure = True

    def make(self) -> str:
        line = self._opened()
        with line:
            own = self._talk.certificates[0] if self._talk.certificates else None
            days = f", good for {own.days_left:.0f} days" if own else ""
            kind = line.version() if isinstance(line, ssl.SSLSocket) else ""
            return f"{kind}, certificate {own.subject if own else 'unread'}{days}"

"""The client library.

from balise.client import Balise

with Balise("http://127.0.0.1:8808", token) as balise:
    for host in balise.hosts.list('state ne "ok"'):
        print(host.name, host.state)
"""

from typing import TYPE_CHECKING, Any

from balise.client.errors import BaliseError, Refused, Unreachable

if TYPE_CHECKING:
    from balise.client.client import Balise

__all__ = ["Balise", "BaliseError", "Refused", "Unreachable"]


def __getattr__(name: str) -> Any:
    """Loads the client and all its types when it is asked for: an agent only needs the errors."""
    if name == "Balise":
        from balise.client.client import Balise

        return Balise
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")

"""The client library.

from balise.client import Balise

with Balise("http://127.0.0.1:8808", token) as console:
    for host in console.hosts(where='state ne "ok"'):
        print(host.name, host.state)
"""

from balise.client.client import Balise
from balise.client.errors import BaliseError, Refused, Unreachable

__all__ = ["Balise", "BaliseError", "Refused", "Unreachable"]

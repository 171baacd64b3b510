"""What Balise signs in with."""

from __future__ import annotations

from pydantic import BaseModel

from balise.api.credentials import Credential
from balise.client.connection import quoted
from balise.client.noun import Items, Noun


class Credentials(Noun):
    """What Balise signs in with; secrets are never shown again."""

    def list(self) -> Items[Credential]:
        """All credentials.

        >>> [credential.name for credential in balise.credentials.list()]
        ['quays']
        """
        return self._connection.items(Credential, "/credentials")

    def set(self, name: str, body: BaseModel, *, anyway: bool = False) -> Credential:
        """Keeps one of `balise.api.credentials`; one in use is tried first on every host that uses it.

        >>> balise.credentials.set("piers", SshCredential(kind="ssh", user="balise", password=Secret("s"))).kind
        'ssh'
        """
        return self._connection.send(Credential, "PUT", f"/credentials/{quoted(name)}", body, anyway=anyway or None)

    def delete(self, name: str) -> str:
        """Takes a credential away.

        >>> balise.credentials.delete("piers")
        'the credential piers is gone'
        """
        return self._connection.note("DELETE", f"/credentials/{quoted(name)}")

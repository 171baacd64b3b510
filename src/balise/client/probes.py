"""Probes."""

from __future__ import annotations

from balise.api.probes import Probe, ProbeBody, ProbeResult
from balise.client.connection import quoted
from balise.client.noun import Items, Noun


class Probes(Noun):
    """What is tried from outside."""

    def list(self, host: str | None = None) -> Items[Probe]:
        """All probes, or those of a host.

        >>> balise.probes.list()
        []
        """
        return self._connection.items(Probe, "/probes", host=host)

    def set(self, name: str, body: ProbeBody) -> Probe:
        """Keeps a probe, new or changed; it is made at once.

        >>> balise.probes.set("door", ProbeBody(kind="tcp", target={"address": "127.0.0.1", "port": port})).name
        'door'
        """
        return self._connection.send(Probe, "PUT", f"/probes/{quoted(name)}", body)

    def try_(self, name: str, body: ProbeBody) -> ProbeResult:
        """Makes a probe once from the console, without keeping it.

        >>> balise.probes.try_("door", ProbeBody(kind="tcp", target={"address": "127.0.0.1", "port": port})).good
        True
        """
        return self._connection.send(ProbeResult, "POST", f"/probes/{quoted(name)}/try", body)

    def delete(self, name: str) -> str:
        """A probe is made no more.

        >>> balise.probes.delete("door")
        'the probe door is made no more; its series stay until they are forgotten'
        """
        return self._connection.note("DELETE", f"/probes/{quoted(name)}")

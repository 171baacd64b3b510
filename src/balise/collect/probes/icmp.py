"""Echoes (RFC 792, RFC 4443)."""

from __future__ import annotations

from icmplib import ICMPLibError, SocketPermissionError, ping

from balise.collect.probes.errors import ProbeFailed
from balise.collect.probes.probe import Probe


class IcmpProbe(Probe):
    """One echo, over IPv4 or IPv6."""

    kind = "icmp"

    def make(self) -> str:
        address, _ = self._talk.resolve(self._place["address"], 0)
        with self._talk.phase("wait for the echo"):
            try:
                came_back = self._echo(address)
            except SocketPermissionError:
                raise ProbeFailed(
                    "this user may not send an echo here: allow it (net.ipv4.ping_group_range), or probe a port"
                ) from None
            except ICMPLibError as error:
                raise ProbeFailed(f"no echo could be sent: {str(error)[:200]}") from None
            if came_back is None:
                raise TimeoutError
        return f"an echo came back in {came_back:.1f} ms"

    def _echo(self, address: str) -> float | None:
        """Milliseconds until the echo came back; None when none did in time."""
        for privileged in (False, True):
            try:
                answer = ping(address, count=1, timeout=self._talk.left(), privileged=privileged)
            except SocketPermissionError:
                if privileged:
                    raise
                continue
            return answer.avg_rtt if answer.is_alive else None
        return None

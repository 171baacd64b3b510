"""What has to hold of a service before it is read."""

from __future__ import annotations

from collections.abc import Sequence

from balise.api.kit_documents import KitDocument
from balise.api.kits import Target
from balise.api.services import (
    Service,
    ServiceBody,
)
from balise.collect.kits.reader import LOCAL
from balise.server.errors import Refused, bad_field
from balise.server.hosts.directory import Known
from balise.server.people.access import Principal
from balise.server.remote.credentials import CredentialBook
from balise.server.services.kits import KitBook
from balise.server.services.reach import Reach

MOST_ON_HOST = 200


class Checks:
    """Looks whether a service can be read as somebody wishes."""

    def __init__(self, *, kits: KitBook, credentials: CredentialBook, reach: Reach) -> None:
        self._kits = kits
        self._credentials = credentials
        self._reach = reach

    def check(self, known: Known | None, body: ServiceBody, who: Principal, others: Sequence[Service]) -> None:
        """Whether a service can be read so. `others` are those of its host.

        Raises:
            Refused: 409 naming who reads it already, 422 when it cannot be read in this mode, or does not answer.
        """
        kit = self._kits.find(body.kit)
        if kit is None:
            raise bad_field("kit", f"there is no kit {body.kit!r}: balise kit list shows those there are")
        if known is not None and known.mode == "resident" and body.mode == "remote":
            raise bad_field("mode", f"{known.name!r} has an agent: take split, or resident to let the agent read it")
        if body.mode != "remote" and known is not None and known.mode != "resident":
            word = "that could read it" if body.mode == "resident" else "that found it"
            raise bad_field("mode", f"{known.name!r} has no agent {word}: take remote")
        if body.mode != "resident" and kit.by in LOCAL:
            if known is None or self._reach.hand_for(kit, known) is None:
                raise bad_field(
                    "mode",
                    f"the kit {kit.kit} looks at the host itself: let its agent read it (resident), or enrol the host "
                    "over SSH",
                )
            if kit.generic and who.role != "administrator":
                raise bad_field("kit", "only an administrator may have any command run over SSH: make a kit of it")
        usual = kit.target["socket"].default if "socket" in kit.target else None
        if who.role != "administrator" and body.target.get("socket") not in (None, "", usual):
            raise bad_field("target.socket", "only an administrator may have another socket than the kit's asked")
        self._check_credential(kit, known, body, who)
        target = self._reach.whole(kit, known, body.target, body.mode)
        if known is not None:
            self._check_others(known, kit, target, body, others)
        if body.mode != "resident" and not body.site:
            # What the console is to read has to answer it first.
            read = self._reach.attempt(kit, target, self._reach.secret(body.credential), known=known)
            if read.nothing:
                field_name = "credential" if "password" in read.nothing else "target"
                raise bad_field(field_name, f"the console cannot read it: {read.nothing}")

    def _check_credential(self, kit: KitDocument, known: Known | None, body: ServiceBody, who: Principal) -> None:
        if body.credential is None:
            if kit.credential is not None and kit.credential.needed:
                raise bad_field(
                    "credential", f"the kit {kit.kit} needs one of kind {kit.credential.kind} (balise credential set)"
                )
            return
        self._credentials.usable(body.credential, who, None, known.groups if known else ())
        kind = self._credentials.get(body.credential).kind
        if kit.credential is None or kind != kit.credential.kind:
            wants = f"one of kind {kit.credential.kind}" if kit.credential else "none"
            raise bad_field("credential", f"{body.credential!r} is of kind {kind}; the kit {kit.kit} wants {wants}")

    def _check_others(
        self, known: Known, kit: KitDocument, target: Target, body: ServiceBody, others: Sequence[Service]
    ) -> None:
        if len(others) >= MOST_ON_HOST:
            raise Refused(409, f"{known.name!r} has {MOST_ON_HOST} services already.")
        for other in others:
            held = self._kits.find(other.kit)
            if held is not None and other.kit == kit.kit:
                there = self._reach.whole(held, known, other.target, other.collection.mode)
                same = there == target or (
                    kit.kit == "port" and there.get("port") == target.get("port") and "address" not in other.target
                )
                if same:
                    by = f"{other.collection.by} as {other.name!r} ({other.collection.mode})"
                    what = f"Port {target.get('port')} of {known.name!r}" if target.get("port") else "It"
                    raise Refused(
                        409,
                        f"{what} is already read by {by}: change that one instead (balise service change {other.id}).",
                    )
            if body.name and other.name == body.name:
                raise bad_field("name", f"{known.name!r} has a service of this name already")

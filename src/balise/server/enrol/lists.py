"""Lists of hosts tested side by side and added, good ones at once, bad ones kept to be put right and tried again."""

from __future__ import annotations

import asyncio
import logging
import time
from collections.abc import Sequence
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from balise.api.hosts import NOBODYS
from balise.api.remote import Enrolment as EnrolmentAnswer
from balise.api.remote import EnrolmentEntry, NewEnrolment, RemoteTarget, TestedEntry
from balise.api.spans import duration_text, rfc3339, seconds
from balise.collect.remote.trial import Trial
from balise.server.enrol.keys import new_host, owner_in_words, same_machine
from balise.server.errors import Refused, bad_field, unknown
from balise.server.hosts.directory import Directory, clean_name
from balise.server.hosts.groups import join_group
from balise.server.keeping.settings import SettingsBook
from balise.server.people.access import Principal, audit
from balise.server.remote.book import RemoteBook, by_words
from balise.server.remote.credentials import CredentialBook
from balise.server.remote.desk import RelayDesk
from balise.server.remote.thread import RemoteThread
from balise.server.remote.work import RemoteWork
from balise.server.signals import Signal
from balise.store.state import tables
from balise.store.state.store import StateStore

log = logging.getLogger(__name__)
KEPT = 100
"""Finished lists that are kept."""
MOST_RUNNING = 20
GOOD = ("added", "already-enrolled")


class Enrolments:
    """All lists. One that was being tested when the service stopped goes on at the next start."""

    def __init__(
        self,
        *,
        state: StateStore,
        directory: Directory,
        credentials: CredentialBook,
        remote: RemoteBook,
        work: RemoteWork,
        thread: RemoteThread,
        desk: RelayDesk,
        settings: SettingsBook,
    ) -> None:
        self._state = state
        self._directory = directory
        self._credentials = credentials
        self._remote = remote
        self._work = work
        self._settings = settings
        self._thread = thread
        self._desk = desk
        self.progressed = Signal[int]("enrolment")
        """Told the number of a list of which there are more results."""

    # --- asking

    def all(self) -> list[EnrolmentAnswer]:
        """The newest lists, without their entries."""

        def read(session: Session) -> list[EnrolmentAnswer]:
            rows = session.scalars(select(tables.Enrolment).order_by(tables.Enrolment.id.desc()).limit(KEPT))
            return [_answer(row, _counts(session, row.id), []) for row in rows]

        return self._state.read(read)

    def get(self, number: int) -> EnrolmentAnswer:
        def read(session: Session) -> EnrolmentAnswer:
            row = session.get(tables.Enrolment, number)
            if row is None:
                raise unknown("enrolment", number)
            entries = session.scalars(_of(number).order_by(tables.EnrolmentEntry.position))
            return _answer(row, _counts(session, number), [_entry_answer(e) for e in entries])

        return self._state.read(read)

    # --- starting

    def start(self, wanted: NewEnrolment, who: Principal) -> int:
        """Keeps a list and begins to test it.

        Raises:
            Refused: 422 when an entry's credential is not there, 403 when this person may not use it.
        """
        limit = seconds(wanted.time_limit)
        if not 0.5 <= limit <= 60:
            raise bad_field("time_limit", "between 500ms and 60s")
        for position, entry in enumerate(wanted.entries):
            self._check(entry, who, position)
        now = time.time()

        def write(session: Session) -> int:
            running = select(func.count(tables.Enrolment.id)).where(tables.Enrolment.state == "testing")
            if (session.scalar(running) or 0) >= MOST_RUNNING:
                raise Refused(409, f"{MOST_RUNNING} lists are being tested already: wait for one to be done.")
            row = tables.Enrolment(
                state="testing", time_limit=limit, created_at=now, created_by=who.name, role=str(who.role)
            )
            session.add(row)
            session.flush()
            for position, entry in enumerate(wanted.entries):
                session.add(tables.EnrolmentEntry(enrolment=row.id, position=position, wanted=entry.model_dump()))
            old = select(tables.Enrolment.id).where(tables.Enrolment.state == "done")
            for number in list(session.scalars(old.order_by(tables.Enrolment.id.desc()).offset(KEPT))):
                session.delete(session.get_one(tables.Enrolment, number))
            audit(session, who.name, "enrolment.start", str(row.id), entries=len(wanted.entries))
            return row.id

        number = self._state.write(write)
        self._thread.submit(self._run(number))
        return number

    def _check(self, entry: EnrolmentEntry, who: Principal, position: int) -> None:
        try:
            self._credentials.usable(entry.credential, who, entry.group, self._directory.lineage(entry.group))
        except Refused as error:
            for field in error.errors:
                field.field = f"entries.{position}.{field.field}"
            error.detail = f"entry {position + 1} ({entry.name or entry.address}): {error.detail}"
            raise

    def retry(self, number: int, corrected: dict[int, EnrolmentEntry], who: Principal) -> None:
        """Tests what was not good again, each as corrected, or as it was."""
        for position, entry in corrected.items():
            self._check(entry, who, position)

        def write(session: Session) -> None:
            row = session.get(tables.Enrolment, number)
            if row is None:
                raise unknown("enrolment", number)
            if row.state == "testing":
                raise Refused(409, "The list is still being tested: wait until it is done.")
            bad = {e.position: e for e in session.scalars(_of(number)) if e.result not in GOOD}
            strange = sorted(set(corrected) - set(bad))
            if strange:
                raise bad_field("entries", f"entry {strange[0]} is good already, or not in this list")
            for position, entry in bad.items():
                if position in corrected:
                    entry.wanted = corrected[position].model_dump()
                entry.result, entry.message = None, ""
            row.state, row.done_at = "testing", None
            audit(session, who.name, "enrolment.retry", str(number), entries=len(bad))

        self._state.write(write)
        self._thread.submit(self._run(number))

    def resume(self) -> None:
        """Goes on with lists that were being tested when the service stopped."""
        query = select(tables.Enrolment.id).where(tables.Enrolment.state == "testing")
        for number in self._state.read(lambda s: list(s.scalars(query))):
            self._thread.submit(self._run(number))

    # --- testing

    async def _run(self, number: int) -> None:
        try:
            await self._test_all(number)
        except Exception:
            log.exception("enrolment=%d", number)

    async def _test_all(self, number: int) -> None:
        query = _of(number).where(tables.EnrolmentEntry.result.is_(None)).order_by(tables.EnrolmentEntry.position)
        rows = await asyncio.to_thread(self._state.read, lambda s: list(s.scalars(query)))
        limit = await asyncio.to_thread(self._state.read, lambda s: s.get_one(tables.Enrolment, number).time_limit)
        gate = asyncio.Semaphore(self._settings.collection().side_by_side)
        seen: set[tuple[str, int]] = set()
        done: asyncio.Queue[tuple[tables.EnrolmentEntry, EnrolmentEntry, Trial] | None] = asyncio.Queue()

        async def one(row: tables.EnrolmentEntry, entry: EnrolmentEntry, twice: bool) -> None:
            trial = await self._trial(entry, limit, gate, twice)
            await done.put((row, entry, trial))

        async def writer() -> None:
            ended = False
            while not ended:
                batch = [await done.get()]
                while not done.empty():
                    batch.append(done.get_nowait())
                ended = batch[-1] is None
                await asyncio.to_thread(self._settle, number, [b for b in batch if b is not None])

        writing = asyncio.create_task(writer())
        tasks = []
        for row in rows:
            entry = EnrolmentEntry.model_validate(row.wanted)
            tasks.append(asyncio.create_task(one(row, entry, entry.name is None and entry.reached_at in seen)))
            seen.add(entry.reached_at)
        await asyncio.gather(*tasks)
        await done.put(None)
        await writing
        await asyncio.to_thread(self._finish, number)

    async def _trial(self, entry: EnrolmentEntry, limit: float, gate: asyncio.Semaphore, twice: bool) -> Trial:
        if twice:
            return Trial("failed", "this address is in the list twice: only the first of them is tested")
        before = await asyncio.to_thread(self._state.read, lambda s: self._held(s, entry))
        if before:
            return Trial("already-enrolled", before)
        try:
            secret = await asyncio.to_thread(self._credentials.secret, entry.credential)
        except Refused as error:
            return Trial("failed", error.detail)
        address, port = entry.reached_at
        target = RemoteTarget(
            host_id=0,
            host=entry.name or address,
            protocol=entry.protocol,
            address=address,
            port=port,
            credential=secret,
            every=60.0,
            time_limit=limit,
            host_key=entry.host_key,
        )
        async with gate:
            if entry.site:
                return await self._desk.attempt(entry.site, target)
            return await self._work.attempt(target, keep=True)

    def _held(self, session: Session, entry: EnrolmentEntry) -> str | None:
        """Who has this name or this address already, in words."""
        address, port = entry.reached_at
        if entry.name:
            host = session.scalar(select(tables.Host).where(tables.Host.name == clean_name(entry.name)))
            if host is not None and host.mode not in NOBODYS and host.retired_at is None:
                return f"already here as {owner_in_words(host)}"
        query = (
            select(tables.Host)
            .join(tables.Remote)
            .where(tables.Remote.address == address, tables.Remote.port == port, tables.Host.retired_at.is_(None))
        )
        host = session.scalar(query)
        return f"{address} port {port} is already here as {owner_in_words(host)}" if host is not None else None

    # --- settling

    def _settle(self, number: int, results: Sequence[tuple[tables.EnrolmentEntry, EnrolmentEntry, Trial]]) -> None:
        """Writes results, and adds the hosts that were good, in one transaction."""
        if not results:
            return

        def write(session: Session) -> list[int]:
            added = []
            who = session.get_one(tables.Enrolment, number).created_by
            for row, entry, trial in results:
                result, message, host = trial.result, trial.message, None
                if result == "added":
                    result, message, host = self._add(session, entry, trial, who)
                kept = session.get(tables.EnrolmentEntry, row.id)
                if kept is not None:
                    kept.result, kept.message, kept.host = result, message[:500], host.name if host else None
                if host is not None and result == "added":
                    added.append(host.id)
            return added

        added = self._state.write(write)
        if added:
            self._directory.refresh(*added)
            self._desk.settle()
            self._work.refresh()
        self.progressed.tell(number)

    def _add(self, session: Session, entry: EnrolmentEntry, trial: Trial, who: str) -> tuple[Any, str, Any]:
        held = self._held(session, entry)
        if held:
            return "already-enrolled", held, None
        same = same_machine(session, trial.facts) if trial.facts else None
        if same is not None and same.retired_at is None and same.mode not in NOBODYS:
            return "already-enrolled", f"this machine is already here as {owner_in_words(same)}", same
        said = trial.facts.host_name if trial.facts else ""
        name = clean_name(entry.name or said or entry.address)
        host = same or session.scalar(select(tables.Host).where(tables.Host.name == name))
        if host is not None and host is not same and host.mode not in NOBODYS:
            return (
                "already-enrolled",
                f"the name is taken: {owner_in_words(host)}. Give this one a name of its own",
                host,
            )
        host = host or new_host(session, name)
        host.labels = {**host.labels, **entry.labels}
        host.facts = trial.facts.model_dump() if trial.facts else host.facts
        host.machine_id = trial.facts.machine_id if trial.facts else host.machine_id
        host.mode, host.collected_by, host.retired_at = "remote", by_words("the console", entry.protocol), None
        address, port = entry.reached_at
        session.merge(
            tables.Remote(
                host=host.id,
                protocol=entry.protocol,
                address=address,
                port=port,
                credential=entry.credential,
                host_key=trial.host_key,
                site=entry.site,
                owner=0,
                owners=[[time.time(), 0]],
                positions={},
            )
        )
        if entry.group:
            join_group(session, host.id, entry.group)
        audit(
            session, who, "host.add", host.name, address=address, protocol=entry.protocol, credential=entry.credential
        )
        return "added", trial.message, host

    def _finish(self, number: int) -> None:
        def write(session: Session) -> None:
            row = session.get(tables.Enrolment, number)
            if row is not None:
                row.state, row.done_at = "done", time.time()

        self._state.write(write)
        self.progressed.tell(number)


def _of(number: int) -> Any:
    return select(tables.EnrolmentEntry).where(tables.EnrolmentEntry.enrolment == number)


def _counts(session: Session, number: int) -> dict[str | None, int]:
    entry = tables.EnrolmentEntry
    query = select(entry.result, func.count()).where(entry.enrolment == number).group_by(entry.result)
    return {row[0]: row[1] for row in session.execute(query)}


def _answer(row: tables.Enrolment, counts: dict[str | None, int], entries: list[TestedEntry]) -> EnrolmentAnswer:
    total = sum(counts.values())
    return EnrolmentAnswer(
        id=row.id,
        state=row.state,  # type: ignore[arg-type]
        total=total,
        tested=total - counts.get(None, 0),
        results={result: count for result, count in counts.items() if result},  # type: ignore[misc]
        time_limit=duration_text(row.time_limit),
        created_at=rfc3339(row.created_at),
        created_by=row.created_by,
        done_at=rfc3339(row.done_at) if row.done_at else None,
        entries=entries,
    )


def _entry_answer(row: tables.EnrolmentEntry) -> TestedEntry:
    entry = EnrolmentEntry.model_validate(row.wanted)
    address, port = entry.reached_at
    return TestedEntry(
        position=row.position,
        name=entry.name or row.host or address,
        address=address,
        port=port,
        protocol=entry.protocol,
        credential=entry.credential,
        labels=entry.labels,
        group=entry.group,
        site=entry.site,
        result=row.result,  # type: ignore[arg-type]
        message=row.message,
        host=row.host,
    )

"""A full disk: nothing more is taken in, people get on, and it is told. On a small file system of its own."""

from __future__ import annotations

import contextlib
import os
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest

from balise.api.callouts import CalloutBody
from balise.api.channels import WebhookChannel
from balise.api.keeping import Keeping
from balise.client import Refused
from balise.server.keeping.space import NAME, Full, RoomNews, RoomState, Space
from balise.server.people.access import Access
from balise.server.people.tries import Passwords
from balise.server.people.users import UserBook
from balise.store.state.store import StateStore
from running import Receiver, Service, until
from sending import gauge_request, log_request, post

MIB = 1 << 20


@pytest.fixture
def small(tmp_path: Path) -> Iterator[Path]:
    """A file system of 96 MiB."""
    place = tmp_path / "small"
    place.mkdir()
    made = subprocess.run(
        ["mount", "-t", "tmpfs", "-o", "size=96m,mode=700", "tmpfs", str(place)], check=False, capture_output=True
    )
    if made.returncode:
        pytest.skip(f"a small file system cannot be had here: {made.stderr.decode().strip()}")
    yield place
    subprocess.run(["umount", "-l", str(place)], check=True)


def fill(place: Path, leave: int) -> Path:
    """Somebody else's file, that leaves so many bytes of the file system free."""
    other = place / "somebody-elses"
    with other.open("ab") as file:
        while (size := (room := os.statvfs(place)).f_bavail * room.f_frsize - leave) > 0:
            # The service may take some of it in the meantime.
            with contextlib.suppress(OSError):
                os.posix_fallocate(file.fileno(), file.seek(0, os.SEEK_END), size)
                break
    return other


def test_the_room_on_a_disk_is_told_and_a_reserve_is_kept(small: Path) -> None:
    told: list[RoomState] = []
    space = Space(small / "data")
    space.changed.connect(lambda news: told.append(news.state))
    space.look()
    reserve = small / "data" / NAME
    assert (space.state, reserve.stat().st_size > MIB) == ("enough", True)
    other = fill(small, 15 * MIB)
    space.look()
    assert (space.state, told) == ("low", ["low"])
    fill(small, 3 * MIB)
    space.look()
    assert (space.state, told) == ("full", ["low", "full"])
    assert reserve.exists()
    with pytest.raises(Full, match=r"disk is full: .* are free"):
        space.check()
    fill(small, 0)
    space.look()
    assert not reserve.exists()
    assert 0 < space.free < 4 * MIB
    other.unlink()
    space.look()
    assert (space.state, told, reserve.exists()) == ("enough", ["low", "full", "enough"], True)
    space.check()


def test_what_could_not_be_told_is_told_at_the_next_look(small: Path) -> None:
    fails, told = [True], []

    def tell(news: RoomNews) -> None:
        if fails:
            fails.pop()
            raise OSError("nobody hears")
        told.append(news.state)

    space = Space(small / "data")
    space.changed.connect(tell)
    fill(small, MIB)
    space.look()
    assert (told, space.changed.failed) == ([], 1)
    space.look()
    space.look()
    assert told == ["full"]


def test_people_get_on_while_the_disk_is_full(small: Path, receiver: Receiver) -> None:
    service = Service(small)
    state = StateStore(service.data)
    UserBook(state=state, access=Access(state), passwords=Passwords()).add(
        "ana", "administrator", "a long enough password", by="tests"
    )
    state.close()
    with service.client() as admin:
        admin.channels.set("pager", WebhookChannel(kind="webhook", url=receiver.url))
        admin.callouts.set("all", CalloutBody(tell=["pager"]))
        old = log_request("quay", [(time.time() - 3 * 86_400, 9, "an old line " + "x" * 40_000)] * 200)
        assert sent(service, "logs", old.SerializeToString()) == 200
        # Their words are in the index once it was asked: it takes nothing of the reserve later.
        assert admin.call("POST", "/events/query", {"from": "-5d", "where": 'body co "line"', "limit": 1})["items"]
        other = fill(small, 0)
        # Those who send are told to wait, and why; nothing of theirs is taken for good.
        until(lambda: sent(service, "metrics", gauge()) == 503)
        answer = post(service.url, service.tokens["ingest"], "metrics", gauge())
        assert b"the console's disk is full" in answer.content
        assert answer.headers["retry-after"]
        # The console says it, a channel says it, and people sign in, read, and change things.
        assert "disk is full" in until(lambda: admin.status().warnings)[0]
        assert until(lambda: [e for _, e in receiver.got if e["type"] == "balise.console"])
        with httpx.Client(base_url=service.url) as page:
            signed = page.post("/api/v1/session", json={"name": "ana", "password": "a long enough password"})
            assert signed.status_code == 200
        assert [h.name for h in admin.hosts.list()] == ["quay"]
        admin.callouts.set("night", CalloutBody(tell=["pager"]))
        # It starts on a full disk, too.
        service.stop(9)
        service.start()
        if "disk is full" not in admin.status().warnings[0]:
            # What it tidied up as it started is taken by others again.
            fill(small, 0)
        until(lambda: "disk is full" in admin.status().warnings[0])
        # Room is made with what the console itself offers: events of past days go whole.
        before = free_of(small)
        admin.keeping.set(Keeping(events=1))
        until(lambda: free_of(small) > before + MIB, 90)
        other.unlink()
        until(lambda: sent(service, "metrics", gauge()) == 200)
        until(lambda: [e for _, e in receiver.got if e["data"].get("severity") == "recovered"])
        assert not admin.status().warnings
    service.stop()
    assert "Traceback" not in service.log(), service.log()


def test_without_any_room_a_change_says_so(small: Path) -> None:
    """The reserve is used up as well: nothing is changed, and the answer says what to do."""
    service = Service(small)
    with service.client() as admin:
        until(lambda: (service.data / NAME).exists())

        def refused() -> Refused | None:
            fill(small, 0)
            try:
                admin.channels.set("pager", WebhookChannel(kind="webhook", url="http://127.0.0.1/" + "x" * 900))
            except Refused as error:
                return error
            return None

        error = until(refused, 60)
        assert error.problem.status == 507
        assert "Make room" in error.problem.detail
        assert admin.status().state == "ready"
    service.stop()


def sent(service: Service, kind: str, body: bytes) -> int:
    return post(service.url, service.tokens["ingest"], kind, body).status_code


def gauge() -> bytes:
    return gauge_request("quay", "held", [(time.time(), 1.0)]).SerializeToString()


def free_of(place: Path) -> int:
    room = os.statvfs(place)
    return room.f_bavail * room.f_frsize

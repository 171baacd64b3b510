"""Signing in under attack: bounded memory, throttled by name, by address and in all, and nobody kept out for good."""

from __future__ import annotations

import threading
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import httpx
import pytest
from hypothesis import given
from hypothesis import strategies as st

from balise.server.errors import Refused
from balise.server.people.access import Access
from balise.server.people.sessions import Sessions
from balise.server.people.tries import HASHES, OF_ADDRESS, OF_ALL, OF_NAME, OF_ONE, Passwords, Tries
from balise.server.people.users import UserBook
from balise.store.state.store import StateStore
from peaks import peak_mib
from running import Service


def test_a_storm_of_guesses_takes_little_and_holds_nobody_up(service: Service) -> None:
    before = peak_mib(service)
    slowest = [0.0]
    over = threading.Event()

    def watch() -> None:
        with httpx.Client(base_url=service.url, timeout=30) as http:
            while not over.is_set():
                began = time.perf_counter()
                assert http.get("/api/v1/status").status_code == 200
                slowest[0] = max(slowest[0], time.perf_counter() - began)
                time.sleep(0.05)

    watching = threading.Thread(target=watch)
    watching.start()
    with httpx.Client(base_url=service.url, timeout=60, limits=httpx.Limits(max_connections=50)) as http:

        def guess(number: int) -> int:
            body = {"name": f"name-{number % 40}", "password": "guess"}
            return http.post("/api/v1/session", json=body).status_code

        with ThreadPoolExecutor(50) as pool:
            statuses = list(pool.map(guess, range(300)))
    over.set()
    watching.join()
    # One address is throttled whatever names it tries.
    assert statuses.count(401) <= OF_ADDRESS
    assert set(statuses) <= {401, 429, 503}
    assert statuses.count(429) > 200
    assert peak_mib(service) - before < 64 * HASHES + 120
    assert slowest[0] < 5


@given(
    st.lists(
        st.tuples(st.sampled_from(["ada", "ben"]), st.sampled_from(["::1", "192.0.2.1", "192.0.2.2"])), max_size=90
    )
)
def test_tries_are_counted_by_name_by_address_and_in_all(tried: list[tuple[str, str]]) -> None:
    tries = Tries()
    taken: list[tuple[str, str]] = []
    for name, origin in tried:
        mine = [
            (sum(t == (name, origin) for t in taken), OF_ONE),
            (sum(n == name for n, _ in taken), OF_NAME),
            (sum(o == origin for _, o in taken), OF_ADDRESS),
            (len(taken), OF_ALL),
        ]
        if any(count >= most for count, most in mine):
            with pytest.raises(Refused):
                tries.begin(name, origin, known=False)
        else:
            tries.begin(name, origin, known=False)
            taken.append((name, origin))


def test_whoever_has_signed_in_from_a_place_is_not_kept_out_of_it_by_others(tmp_path: Path) -> None:
    state = StateStore(tmp_path)
    access, passwords = Access(state), Passwords()
    users = UserBook(state=state, access=access, passwords=passwords)
    sessions = Sessions(state=state, access=access, passwords=passwords)
    users.add("anker", "viewer", "correct horse", by="test")
    sessions.sign_in("anker", "correct horse", origin="192.0.2.9")
    for number in range(OF_NAME):
        with pytest.raises(Refused, match="wrong"):
            sessions.sign_in("anker", "guess", origin=f"198.51.100.{number}")
    with pytest.raises(Refused, match="Too many tries for this name"):
        sessions.sign_in("anker", "correct horse", origin="203.0.113.5")
    assert sessions.sign_in("anker", "correct horse", origin="192.0.2.9")[1].name == "anker"
    # Also after a restart, which forgets what was tried.
    again = Sessions(state=state, access=Access(state), passwords=Passwords())
    for number in range(OF_NAME):
        with pytest.raises(Refused, match="wrong"):
            again.sign_in("anker", "guess", origin=f"198.51.100.{number}")
    assert again.sign_in("anker", "correct horse", origin="192.0.2.9")[1].name == "anker"
    state.close()


def test_few_passwords_are_hashed_at_once() -> None:
    passwords = Passwords()
    hashed = passwords.hash("correct horse")
    assert passwords.fits("correct horse", hashed)
    assert not passwords.fits("guess", hashed)
    assert not passwords.fits("nobody has this password", None)
    said: list[object] = []

    def one() -> None:
        try:
            said.append(passwords.fits("guess", hashed))
        except Refused as refused:
            said.append(refused.status)

    threads = [threading.Thread(target=one) for _ in range(60)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert set(said) == {False, 503}

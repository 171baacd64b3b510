"""The writer thread, the state store, secrets, and the migrations."""

from __future__ import annotations

import asyncio
import threading
import time
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest
from alembic import command
from alembic.autogenerate import compare_metadata
from alembic.config import Config
from alembic.migration import MigrationContext
from sqlalchemy import event, inspect, select
from sqlalchemy.exc import IntegrityError

from balise.store.database import insert_rows, open_engine
from balise.store.state import tables
from balise.store.state.secrets import ENVIRONMENT, Sealer, digest, new_token
from balise.store.state.store import StateStore
from balise.store.state.tables import Base, Group, Host, Member
from balise.store.writer import Busy, GroupWriter, Stopped


def test_many_open_a_new_file_at_once(tmp_path: Path) -> None:
    """Each wants to make it a file with a log; SQLite lets none of them wait while two do."""

    def opened(number: int) -> str:
        attached = {"beside": tmp_path / f"beside-{number // 8}.db"}
        with open_engine(tmp_path / f"main-{number // 8}.db", attached=attached).connect() as connection:
            return str(connection.exec_driver_sql("PRAGMA beside.journal_mode").scalar())

    with ThreadPoolExecutor(8) as pool:
        assert set(pool.map(opened, range(8 * 25))) == {"wal"}


def test_columns_of_many_rows_are_set_by_their_numbers(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    state = StateStore(tmp_path)
    made = [Host(name=f"pier-{n}", created_at=0.0, state_since=0.0) for n in range(600)]
    state.write(lambda s: s.add_all(made))
    told = {"words": 'it\'s "so" – ⚓', "deep": [1, 2.5, None, {"x": True}], "far": float("inf")}
    state.set_columns(
        [Host.agent, Host.last_seen, Host.state],
        [(one.id, {**told, "n": one.id}, 1.5 + one.id, "silent") for one in made if one.id != 7],
    )
    state.set_columns([Host.last_seen], [(10_000, 1.0)])
    for row in state.read(lambda s: list(s.scalars(select(Host)))):
        wanted = (None, None, "ok") if row.id == 7 else ({**told, "n": row.id}, 1.5 + row.id, "silent")
        assert (row.agent, row.last_seen, row.state) == wanted
    with pytest.raises(ValueError, match="not JSON compliant"):
        state.set_columns([Host.last_seen], [(1, float("nan"))])
    # Others write between the pieces of many.
    pieces: list[int] = []
    write = state.write
    monkeypatch.setattr(state, "write", lambda change: (pieces.append(1), write(change))[1])
    state.set_columns([Host.last_seen], [(one.id, 1.0) for one in made])
    assert len(pieces) == 3
    state.close()


@pytest.mark.parametrize("count", [0, 1, 2, 5, 511, 512, 513, 1700])
def test_rows_are_inserted_in_order_by_few_statements_of_few_sizes(tmp_path: Path, count: int) -> None:
    with open_engine(tmp_path / "rows.db").connect() as connection:
        connection.exec_driver_sql("CREATE TABLE t (number INTEGER PRIMARY KEY, often INTEGER, word TEXT)")
        words: list[str] = []
        event.listen(connection, "before_cursor_execute", lambda _c, _cursor, said, *_: words.append(said))
        rows = [(n * 3 % 1701, 1, f"it's {n}") for n in range(count)]
        again = "ON CONFLICT (number) DO UPDATE SET often = often + 1, word = excluded.word"
        insert_rows(connection, "INSERT INTO t (number, often, word) VALUES", rows, again)
        wanted = {number: (sum(number == other for other, *_ in rows), word) for number, _, word in rows}
        found = connection.exec_driver_sql("SELECT number, often, word FROM t").all()
        assert {number: (often, word) for number, often, word in found} == wanted
        assert {said.count("(?, ?, ?)") for said in words[:-1]} <= {1 << n for n in range(10)}
        assert len(words) - 1 <= count // 512 + 9


class Book:
    """Keeps what is committed; can be made to wait or to fail."""

    def __init__(self) -> None:
        self.groups: list[list[int]] = []
        self.gate = threading.Event()
        self.gate.set()
        self.fail = False

    def commit(self, group: Sequence[int]) -> None:
        self.gate.wait(10)
        if self.fail:
            raise OSError("no space left on device")
        self.groups.append(list(group))


def test_what_waits_is_written_in_one_group_and_in_order() -> None:
    book = Book()
    writer = GroupWriter("t", book.commit, limit=1000)

    async def run() -> None:
        book.gate.clear()
        first = writer.put(0)
        await asyncio.sleep(0.05)
        rest = [writer.put(n) for n in range(1, 50)]
        book.gate.set()
        await asyncio.gather(first, *rest)

    asyncio.run(run())
    writer.close()
    assert [n for group in book.groups for n in group] == list(range(50))
    assert len(book.groups) <= 3


def test_nobody_is_waited_for_when_as_many_wait_as_lately(monkeypatch: pytest.MonkeyPatch) -> None:
    """Senders that wait for their answers come again together; no more can come meanwhile."""
    monkeypatch.setattr("balise.store.writer.GATHER", 3600)
    book = Book()
    writer = GroupWriter("t", book.commit, limit=1000)

    async def run() -> None:
        book.gate.clear()
        first = [writer.put(0)]
        await asyncio.sleep(0.05)
        first += [writer.put(0) for _ in range(7)]
        book.gate.set()
        await asyncio.gather(*first)
        for n in range(1, 20):
            await asyncio.gather(*(writer.put(n) for _ in range(8)))

    asyncio.run(asyncio.wait_for(run(), 30))
    monkeypatch.setattr("balise.store.writer.GATHER", 0.01)
    # Whoever comes alone waits for the others no longer than that.
    for n in range(20, 24):
        writer.write(n)
    writer.close()
    assert [len(group) for group in book.groups[-4:]] == [1] * 4
    assert [sorted(set(group)) for group in book.groups[-23:-4]] == [[n] for n in range(1, 20)]


def test_more_than_the_limit_is_refused_until_there_is_room() -> None:
    book = Book()
    writer = GroupWriter("t", book.commit, limit=10)
    book.gate.clear()

    async def run() -> None:
        taken = [writer.put(1, 6)]
        with pytest.raises(Busy):
            writer.put(2, 6)
        book.gate.set()
        await asyncio.gather(*taken)
        await writer.put(3, 6)

    asyncio.run(run())
    assert writer.waiting == 0
    writer.close()


def test_a_failed_commit_is_told_to_each_and_the_writer_goes_on() -> None:
    book = Book()
    writer = GroupWriter("t", book.commit, limit=10)
    book.fail = True
    with pytest.raises(OSError, match="no space left"):
        writer.write(1)
    book.fail = False
    writer.write(2)
    assert (book.groups, writer.failures) == ([[2]], 1)
    writer.close()
    with pytest.raises(Stopped):
        writer.write(3)


def test_closing_writes_what_waits() -> None:
    book = Book()
    writer = GroupWriter("t", book.commit, limit=100)
    book.gate.clear()
    waiting = threading.Thread(target=lambda: [writer.write(n) for n in range(3)])
    waiting.start()
    time.sleep(0.05)
    book.gate.set()
    waiting.join(5)
    writer.close()
    assert [n for group in book.groups for n in group] == [0, 1, 2]


def test_tasks_run_between_the_groups_and_raise_where_they_were_asked(monkeypatch: pytest.MonkeyPatch) -> None:
    # With nothing to be written there is nobody to be waited for.
    monkeypatch.setattr("balise.store.writer.GATHER", 3600)
    writer = GroupWriter("t", lambda _group: None, limit=10)
    assert writer.run(lambda: threading.current_thread().name) == "t"
    assert writer.run(lambda: writer.run(lambda: 7)) == 7
    with pytest.raises(ZeroDivisionError):
        writer.run(lambda: 1 // 0)
    writer.close()


# --- state.db


def test_the_migrations_make_exactly_the_tables(tmp_path: Path) -> None:
    state = StateStore(tmp_path)
    with state.engine.connect() as connection:
        assert compare_metadata(MigrationContext.configure(connection), Base.metadata) == []
        assert "alembic_version" in inspect(connection).get_table_names()
    state.close()


def test_an_older_state_is_brought_up_to_date_and_loses_nothing(tmp_path: Path) -> None:
    """A state.db of the first slice with a group, a member and a token: making tables anew must not delete them."""
    engine = open_engine(tmp_path / "state.db")
    config = Config()
    config.set_main_option("script_location", str(Path(tables.__file__).parent / "migrations"))
    with engine.begin() as connection:
        config.attributes["connection"] = connection
        command.upgrade(config, "0001")
    with engine.begin() as connection:
        run = connection.exec_driver_sql
        run(
            "INSERT INTO host (id, name, machine_id, labels, mode, collected_by, state, state_since, created_at) "
            "VALUES (1, 'pier', 'm', '{}', 'resident', 'its agent', 'ok', 1, 1)"
        )
        run("INSERT INTO \"group\" (id, name, position) VALUES (1, 'Quays', 0)")
        run('INSERT INTO member ("group", host) VALUES (1, 1)')
        run("INSERT INTO token (id, name, role, digest, host, created_at) VALUES (1, 't', 'agent', 'd', 1, 1)")
        run(
            "INSERT INTO enrolment_key (id, label, digest, uses_left, created_at, expires_at) VALUES (1, 'k', 'd', 1, 1, 9)"
        )
    engine.dispose()
    state = StateStore(tmp_path)
    with state.engine.connect() as connection:
        count = {
            t: connection.exec_driver_sql(f'SELECT count(*) FROM "{t}"').scalar_one()
            for t in ("host", "group", "member", "token")
        }
    assert count == {"host": 1, "group": 1, "member": 1, "token": 1}
    [key] = state.read(lambda s: list(s.scalars(select(tables.EnrolmentKey))))
    assert (key.labels, key.approval, key.revoked_at) == ({}, "automatic", None)
    state.close()


def test_a_change_that_fails_leaves_nothing(tmp_path: Path) -> None:
    state = StateStore(tmp_path)

    def broken(session: object) -> None:
        session.add(Host(name="a", created_at=1, state_since=1))  # type: ignore[attr-defined]
        session.flush()  # type: ignore[attr-defined]
        raise RuntimeError("half way")

    with pytest.raises(RuntimeError, match="half way"):
        state.write(broken)
    assert state.read(lambda s: s.scalars(select(Host)).all()) == []
    state.close()


def test_foreign_keys_are_on_and_members_go_with_their_group(tmp_path: Path) -> None:
    state = StateStore(tmp_path)
    with pytest.raises(IntegrityError):
        state.write(lambda s: s.add(Member(group=9, host=9)))
    state.write(lambda s: s.add_all([Host(id=1, name="a", created_at=1, state_since=1), Group(id=1, name="g")]))
    state.write(lambda s: s.add(Member(group=1, host=1)))
    state.write(lambda s: s.delete(s.get_one(Group, 1)))
    assert state.read(lambda s: s.scalars(select(Member)).all()) == []
    state.close()


def test_two_may_come_first_to_a_new_folder(tmp_path: Path) -> None:
    made: list[StateStore] = []
    threads = [threading.Thread(target=lambda: made.append(StateStore(tmp_path))) for _ in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(20)
    assert len(made) == 4
    for state in made:
        state.close()


# --- secrets


def test_a_secret_is_read_back_only_with_its_key(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    sealed = Sealer(tmp_path).seal("pier-pass")
    assert b"pier" not in sealed
    assert Sealer(tmp_path).open(sealed) == "pier-pass"
    assert (tmp_path / "secret.key").stat().st_mode & 0o077 == 0
    with pytest.raises(RuntimeError, match="another key"):
        Sealer(tmp_path / "else").open(sealed)
    monkeypatch.setenv(ENVIRONMENT, "no key at all")
    with pytest.raises(RuntimeError, match="damaged"):
        Sealer(tmp_path)


def test_tokens_tell_their_kind_and_never_repeat() -> None:
    tokens = {new_token("agt") for _ in range(50)}
    assert len(tokens) == 50 and all(t.startswith("bal_agt_") for t in tokens)
    assert digest("abc") == "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad"

"""Asking PostgreSQL: read-only, with a limit on every statement."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import psycopg
from psycopg.rows import dict_row

from balise.api.credentials import CredentialBody
from balise.api.kits import Target
from balise.collect.kits.sources.source import (
    MOST_ROWS,
    Rows,
    SourceProblem,
    login_of,
    place_of,
    statement_of,
    with_value,
)

_RIGHTS = """
select r.rolsuper as super, r.rolcreaterole or r.rolcreatedb as creates,
  pg_has_role(r.rolname, 'pg_write_all_data', 'usage') or exists (
    select from pg_class c join pg_namespace n on n.oid = c.relnamespace
    where c.relkind in ('r', 'p') and n.nspname not in ('pg_catalog', 'information_schema', 'pg_toast')
      and has_table_privilege(c.oid, 'insert, update, delete, truncate')) as tables,
  exists (select from pg_namespace n where n.nspname !~ '^pg_' and n.nspname <> 'information_schema'
    and has_schema_privilege(n.oid, 'create')) as schemas
from pg_roles r where r.rolname = current_user
"""
_MAY = {
    "super": "it is a superuser",
    "creates": "it may make roles or databases",
    "tables": "it may change tables",
    "schemas": "it may make tables",
}


class PostgresSource:
    """Target: `address`, `port`, `database`, `tls` (a libpq sslmode)."""

    def __init__(self, target: Target, credential: CredentialBody | None, time_limit: float) -> None:
        address, port = place_of(target, 5432)
        login = login_of(credential)
        self._target = target
        self._where = f"{target.get('address') or '127.0.0.1'} port {port}"
        named: dict[str, Any] = {"user": login[0], "password": login[1]} if login else {}
        try:
            self._connection = psycopg.connect(
                host=str(target.get("address") or address),
                hostaddr=address,
                port=port,
                dbname=str(target.get("database") or "postgres"),
                connect_timeout=max(2, int(time_limit)),
                application_name="balise",
                sslmode=str(target.get("tls") or "prefer"),
                tcp_user_timeout=int(time_limit * 2000),
                options=f"-c default_transaction_read_only=on -c statement_timeout={int(time_limit * 1000)} "
                f"-c lock_timeout={int(time_limit * 500)} -c idle_session_timeout=0",
                autocommit=True,
                row_factory=dict_row,
                **named,
            )
            self._connection.read_only = True
        except psycopg.Error as error:
            raise SourceProblem(self._words(error), lost=True) from None

    def _words(self, error: psycopg.Error) -> str:
        text = " ".join(str(error).split())
        for lead in ("connection failed: ", "connection is bad: "):
            text = text.split(lead, 1)[-1]
        for lead in ("FATAL: ", "ERROR: "):
            text = text.split(lead, 1)[-1].strip()
        if "password authentication failed" in text or "no password supplied" in text:
            return f"PostgreSQL at {self._where} did not accept the user or the password: {text[:200]}"
        if isinstance(error, psycopg.errors.InsufficientPrivilege):
            return f"no permission: {text[:200]}. Grant what the kit asks for (balise kit show)"
        if "Connection refused" in text:
            return f"PostgreSQL at {self._where} refused the connection: does it run and listen there?"
        if isinstance(error, psycopg.errors.QueryCanceled):
            return "the statement took longer than its time limit and was stopped"
        if "timeout" in text:
            return f"PostgreSQL at {self._where} did not answer in time"
        return f"PostgreSQL at {self._where}: {text[:300]}"

    def ask(self, question: Mapping[str, Any]) -> Rows:
        """One statement, prepared, in a transaction that is read only and rolled back."""
        statement = statement_of(question, self._target)
        try:
            with self._connection.transaction(force_rollback=True), self._connection.cursor() as cursor:
                cursor.execute(statement.encode(), prepare=True)
                return with_value(cursor.fetchmany(MOST_ROWS)) if cursor.description else []
        except psycopg.Error as error:
            raise SourceProblem(self._words(error), lost=self._connection.broken or self._connection.closed) from None

    def may_write(self) -> str:
        [row] = self.ask({"sql": _RIGHTS})
        found = [said for column, said in _MAY.items() if row[column]]
        return ", ".join(found)

    def close(self) -> None:
        self._connection.close()

"""Asking MariaDB: read-only, with a limit on every statement."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Mapping
from typing import Any

import pymysql
from pymysql.cursors import DictCursor

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

WRONG_LOGIN = (1045, 1698)
NO_RIGHT = (1044, 1142, 1143, 1227, 1370)
LOST = (2003, 2006, 2013, 2055)


_WRITING = {
    "ALL PRIVILEGES", "ALTER", "CREATE", "CREATE USER", "DELETE", "DROP", "FILE", "INSERT", "SUPER", "UPDATE",
}  # fmt: skip


class MariadbSource:
    """Target: `address`, `port`, `database`."""

    def __init__(self, target: Target, credential: CredentialBody | None, time_limit: float) -> None:
        address, port = place_of(target, 3306)
        login = login_of(credential)
        self._target = target
        self._where = f"{target.get('address') or '127.0.0.1'} port {port}"
        try:
            self._connection = pymysql.connect(
                host=address,
                port=port,
                user=login[0] if login else "",
                password=login[1] if login else "",
                database=str(target["database"]) if target.get("database") else None,
                connect_timeout=max(1, int(time_limit)),
                read_timeout=max(1, int(time_limit * 2)),
                write_timeout=max(1, int(time_limit * 2)),
                autocommit=True,
                local_infile=False,
                cursorclass=DictCursor,
            )
            with self._connection.cursor() as cursor:
                cursor.execute("SET SESSION TRANSACTION READ ONLY")
                with contextlib.suppress(pymysql.MySQLError):
                    cursor.execute("SET SESSION max_statement_time = %s", (time_limit,))
        except pymysql.MySQLError as error:
            raise SourceProblem(self._words(error), lost=True) from None

    def _words(self, error: pymysql.MySQLError) -> str:
        code = error.args[0] if error.args and isinstance(error.args[0], int) else 0
        text = " ".join(str(error.args[1] if len(error.args) > 1 else error).split())[:300]
        if code in WRONG_LOGIN:
            return f"MariaDB at {self._where} did not accept the user or the password: {text}"
        if code in NO_RIGHT:
            return f"no permission: {text}. Grant what the kit asks for (balise kit show)"
        if "refused" in text:
            return f"MariaDB at {self._where} refused the connection: does it run and listen there?"
        if "timed out" in text:
            return f"MariaDB at {self._where} did not answer in time"
        return f"MariaDB at {self._where}: {text}"

    def ask(self, question: Mapping[str, Any]) -> Rows:
        """`pivot`: rows of a name and a value, as SHOW STATUS gives them, become one row."""
        statement = statement_of(question, self._target)
        try:
            with self._connection.cursor() as cursor:
                cursor.execute("START TRANSACTION READ ONLY")
                try:
                    cursor.execute(statement)
                    rows: Rows = list(cursor.fetchmany(MOST_ROWS)) if cursor.description else []
                finally:
                    self._connection.rollback()
        except pymysql.MySQLError as error:
            code = error.args[0] if error.args else 0
            raise SourceProblem(self._words(error), lost=code in LOST or not self._connection.open) from None
        if question.get("pivot") and rows:
            name, value = list(rows[0])[:2]
            return [{str(row[name]): row[value] for row in rows}]
        return with_value(rows)

    def may_write(self) -> str:
        grants = " ".join(str(next(iter(row.values()))) for row in self.ask({"sql": "show grants"}))
        given = re.findall(r"GRANT (.+?) ON", grants)
        rights = {right.strip().split(" (")[0] for part in given for right in part.split(",")}
        return "it has " + ", ".join(sorted(rights & _WRITING)) if rights & _WRITING else ""

    def close(self) -> None:
        with contextlib.suppress(pymysql.MySQLError, OSError):
            self._connection.close()

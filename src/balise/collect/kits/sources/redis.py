"""Asking Redis, with commands that only read."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping
from typing import Any

import redis
from redis.backoff import NoBackoff
from redis.retry import Retry

from balise.api.credentials import CredentialBody
from balise.api.kits import Target
from balise.collect.kits.sources.source import MOST_ROWS, Rows, SourceProblem, login_of, place_of
from balise.core.kits.forms import flat
from balise.core.kits.reading import refused_redis


class RedisSource:
    """Target: `address`, `port`, `tls`. A credential's user `default` means the plain password."""

    def __init__(self, target: Target, credential: CredentialBody | None, time_limit: float) -> None:
        address, port = place_of(target, 6379)
        login = login_of(credential)
        self._where = f"{target.get('address') or '127.0.0.1'} port {port}"
        self._client: Any = redis.Redis(
            host=address,
            port=port,
            username=login[0] if login else None,
            password=login[1] if login else None,
            ssl=bool(target.get("tls")),
            socket_timeout=time_limit,
            socket_connect_timeout=time_limit,
            decode_responses=True,
            client_name="balise",
            retry=Retry(NoBackoff(), 0),
            protocol=2,
        )
        try:
            self._client.ping()
        except redis.RedisError as error:
            self.close()
            raise SourceProblem(self._words(error), lost=True) from None

    def _words(self, error: redis.RedisError) -> str:
        text = " ".join(str(error).split())[:200]
        if isinstance(error, redis.AuthenticationError) or "NOAUTH" in text or "WRONGPASS" in text:
            return f"Redis at {self._where} did not accept the user or the password: {text}"
        if isinstance(error, redis.exceptions.NoPermissionError):
            return f"no permission: {text}. Grant what the kit asks for (balise kit show)"
        if isinstance(error, redis.exceptions.TimeoutError):
            return f"Redis at {self._where} did not answer in time"
        if "refused" in text:
            return f"Redis at {self._where} refused the connection: does it run and listen there?"
        return f"Redis at {self._where}: {text}"

    def ask(self, question: Mapping[str, Any]) -> Rows:
        """`command`: `info` (one row), `keyspace`, `commandstats`, `slowlog` or `latency` (a row for each), or `call`:
        a command with its words, whose answer is the column `value`."""
        command = str(question.get("command") or "info")
        try:
            return self._rows(command, question)
        except redis.RedisError as error:
            lost = isinstance(error, redis.ConnectionError | redis.TimeoutError)
            raise SourceProblem(self._words(error), lost=lost) from None

    def _rows(self, command: str, question: Mapping[str, Any]) -> Rows:
        if command == "info":
            return [{k: v for k, v in flat(self._client.info()).items() if not k.startswith("db")}]
        if command == "keyspace":
            return [{"database": name, **held} for name, held in self._client.info("keyspace").items()]
        if command == "commandstats":
            found = self._client.info("commandstats")
            return [{"command": name.removeprefix("cmdstat_"), **held} for name, held in found.items()][:MOST_ROWS]
        if command == "slowlog":
            entries = self._client.slowlog_get(int(question.get("most", 20)))
            return [{"id": e["id"], "at": e["start_time"], "seconds": e["duration"] / 1e6,
                     "command": _text(e["command"])[:300], "client": _text(e.get("client_address", ""))}
                    for e in entries]  # fmt: skip
        if command == "latency":
            return [
                {"event": e[0], "at": e[1], "latest": e[2] / 1000, "worst": e[3] / 1000}
                for e in self._client.execute_command("LATENCY LATEST")
            ]
        if command == "call":
            words = [str(word) for word in question.get("words", [])]
            if why := refused_redis(words):
                raise SourceProblem(why)
            answer = self._client.execute_command(*words)
            return [{"value": _text(one)} for one in (answer if isinstance(answer, list) else [answer])][:MOST_ROWS]
        raise SourceProblem(f"the kit asks for {command!r}, which is none of info, keyspace, commandstats, slowlog, "
                            "latency, call")  # fmt: skip

    def may_write(self) -> str:
        """By a dry run (Redis 7), which an account without rights to look at accounts may not do either."""
        try:
            name = self._client.execute_command("ACL WHOAMI")
            for words in (("SET", "balise", "x"), ("FLUSHALL",), ("CONFIG", "SET", "maxclients", "1")):
                if _text(self._client.execute_command("ACL DRYRUN", name, *words)) == "OK":
                    return f"it may {words[0]}"
        except redis.RedisError as error:
            raise SourceProblem(self._words(error)) from None
        return ""

    def close(self) -> None:
        with contextlib.suppress(redis.RedisError, OSError):
            self._client.close()


def _text(held: Any) -> str:
    return held.decode("utf-8", "replace") if isinstance(held, bytes) else str(held)

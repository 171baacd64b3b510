"""Directories (LDAP, RFC 4511)."""

from __future__ import annotations

import socket
from typing import Any

from pyasn1.codec.ber import decoder, encoder
from pyasn1.error import PyAsn1Error
from pyasn1_modules import rfc2251

from balise.collect.probes.errors import ProbeFailed
from balise.collect.probes.stream import StreamProbe

SECURE_PORT = 636
SUCCESS = 0
MOST_ANSWER = 1 << 20


class LdapProbe(StreamProbe):
    """Binds to a directory and, with a base, searches for it."""

    kind = "ldap"

    def make(self) -> str:
        if self._place.get("tls") == "from-the-start" and not self._place.get("port"):
            self._place["port"] = SECURE_PORT
        base = self._place.get("base")
        with self._opened() as line:
            with self._talk.phase("bind"):
                self._asked(line, 1, _bind(self._login))
                said = self._result(line, "bindResponse")
            if said:
                raise ProbeFailed(f"it does not let the user in: {said}")
            if base:
                with self._talk.phase("search"):
                    self._asked(line, 2, _search(base))
                    said = self._result(line, "searchResDone")
                if said:
                    raise ProbeFailed(f"{base} was not found: {said}")
        return f"bound{f' and found {base}' if base else ''}"

    def _asked(self, line: socket.socket, number: int, operation: tuple[str, Any]) -> None:
        message = rfc2251.LDAPMessage()
        message["messageID"] = number
        name, content = operation
        message["protocolOp"][name] = content
        line.sendall(encoder.encode(message))

    def _result(self, line: socket.socket, name: str) -> str:
        """What is wrong by the answer of this name, which others may come before; empty when nothing is."""
        held = b""
        while True:
            try:
                message, held = decoder.decode(held, asn1Spec=rfc2251.LDAPMessage())
            except PyAsn1Error:
                more = self._more(line, len(held))
                held += more
                continue
            operation = message["protocolOp"]
            if operation.getName() == name:
                result = operation.getComponent()
                code = result["resultCode"]
                return "" if int(code) == SUCCESS else f"{code.prettyPrint()} {result['errorMessage']}".strip()[:200]

    def _more(self, line: socket.socket, held: int) -> bytes:
        line.settimeout(self._talk.left())
        try:
            more = line.recv(65_536)
        except ConnectionError as error:
            raise ProbeFailed(f"ldap: the connection broke off: {error.strerror}") from None
        if not more or held > MOST_ANSWER:
            raise ProbeFailed("ldap: the connection ended without an answer" if not more else "ldap: no end of answer")
        return more


def _bind(login: tuple[str, str] | None) -> tuple[str, Any]:
    """A simple bind (section 4.2); without a login, an anonymous one."""
    user, password = login or ("", "")
    request = rfc2251.BindRequest()
    request["version"] = 3
    request["name"] = user
    request["authentication"]["simple"] = password
    return "bindRequest", request


def _search(base: str) -> tuple[str, Any]:
    """The base itself and no attribute of it (section 4.5)."""
    request = rfc2251.SearchRequest()
    request["baseObject"] = base
    request["scope"] = "baseObject"
    request["derefAliases"] = "neverDerefAliases"
    request["sizeLimit"], request["timeLimit"], request["typesOnly"] = 1, 0, True
    request["filter"]["present"] = "objectClass"
    request["attributes"].append("1.1")
    return "searchRequest", request

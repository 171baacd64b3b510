"""Secrets: encrypted where they must be read again, hashed where they need only be recognised."""

from __future__ import annotations

import hashlib
import os
import secrets
from pathlib import Path

from cryptography.fernet import Fernet, InvalidToken
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.kdf.hkdf import HKDF

ENVIRONMENT = "BALISE_SECRET_KEY"


class Sealer:
    """Encrypts with the key of the environment or of a file that the service alone can read."""

    def __init__(self, folder: Path) -> None:
        key = os.environ.get(ENVIRONMENT, "").encode()
        path = folder / "secret.key"
        if not key:
            if not path.exists():
                self._make(path)
            key = path.read_bytes().strip()
        try:
            self._fernet = Fernet(key)
            self._key = key
        except ValueError:
            raise RuntimeError(
                f"the secret key ({ENVIRONMENT} or {path}) is damaged: put the right one back; "
                "with a new one, the secrets of all channels have to be entered again"
            ) from None

    @staticmethod
    def _make(path: Path) -> None:
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        try:
            descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        except FileExistsError:
            return
        with os.fdopen(descriptor, "wb") as file:
            file.write(Fernet.generate_key())
            file.flush()
            os.fsync(file.fileno())

    def derived(self, purpose: str) -> bytes:
        """A key of 32 bytes for one purpose, the same at every start."""
        return HKDF(algorithm=SHA256(), length=32, salt=None, info=purpose.encode()).derive(self._key)

    def seal(self, text: str) -> bytes:
        return self._fernet.encrypt(text.encode())

    def open(self, blob: bytes) -> str:
        """Raises RuntimeError when the key is not the one it was sealed with."""
        try:
            return self._fernet.decrypt(blob).decode()
        except InvalidToken:
            raise RuntimeError("a secret was sealed with another key: enter it again") from None


def digest(token: str) -> str:
    """What is kept of a token: enough to recognise it."""
    return hashlib.sha256(token.encode()).hexdigest()


def new_token(kind: str) -> str:
    """`new_token("tok")` begins with `bal_tok_`, so that one found in a log can be told for what it is."""
    return f"bal_{kind}_{secrets.token_urlsafe(32)}"

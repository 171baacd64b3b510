"""Credentials: what Balise signs in with on the systems it collects from. Answers never hold a secret."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Discriminator, Field, Tag, model_validator

from balise.api.secrets import OfLength, Secret
from balise.api.spans import Name

Password = Annotated[Secret, OfLength(1, 400)]
UserName = Annotated[str, Field(min_length=1, max_length=100)]
HIDING = ConfigDict(extra="forbid", hide_input_in_errors=True)
UseRole = Literal["operator", "administrator"]


class _Usable(BaseModel):
    """Who may use a credential: people of this role or above, for hosts of these groups (all, if none is named)."""

    model_config = HIDING
    role: UseRole = "administrator"
    groups: Annotated[list[Name], Field(max_length=50)] = []


class SshCredential(_Usable):
    kind: Literal["ssh"]
    user: UserName
    private_key: Annotated[Secret, OfLength(1, 20_000)] | None = None
    password: Password | None = None
    passphrase: Password | None = None

    @model_validator(mode="after")
    def _something_to_prove_it(self) -> SshCredential:
        if not self.private_key and not self.password:
            raise ValueError("give a private_key or a password")
        return self


class SnmpAuth(BaseModel):
    """RFC 3414 and RFC 7860."""

    model_config = HIDING
    protocol: Literal["MD5", "SHA-1", "SHA-224", "SHA-256", "SHA-384", "SHA-512"] = "SHA-256"
    password: Annotated[Secret, OfLength(8, 200)]


class SnmpPrivacy(BaseModel):
    """RFC 3414 and RFC 3826."""

    model_config = HIDING
    protocol: Literal["DES", "AES-128", "AES-192", "AES-256"] = "AES-128"
    password: Annotated[Secret, OfLength(8, 200)]


class Snmp2Credential(_Usable):
    kind: Literal["snmp"]
    version: Literal["2c"]
    community: Annotated[Secret, OfLength(1, 200)]


class Snmp3Credential(_Usable):
    kind: Literal["snmp"]
    version: Literal["3"]
    user: Annotated[str, Field(min_length=1, max_length=32)]
    auth: SnmpAuth | None = None
    privacy: SnmpPrivacy | None = None

    @model_validator(mode="after")
    def _privacy_needs_auth(self) -> Snmp3Credential:
        if self.privacy and not self.auth:
            raise ValueError("privacy needs auth too (RFC 3414)")
        return self


class LoginCredential(_Usable):
    kind: Literal["login"]
    user: UserName
    password: Password


def _form(value: Any) -> str | None:
    """Which of the forms a credential has, by its kind and, for SNMP, its version."""
    held = value if isinstance(value, dict) else vars(value) if isinstance(value, BaseModel) else {}
    kind = held.get("kind")
    return f"snmp {held.get('version')}" if kind == "snmp" else str(kind)


CredentialBody = Annotated[
    Annotated[SshCredential, Tag("ssh")]
    | Annotated[Snmp2Credential, Tag("snmp 2c")]
    | Annotated[Snmp3Credential, Tag("snmp 3")]
    | Annotated[LoginCredential, Tag("login")],
    Discriminator(
        _form,
        custom_error_type="credential_form",
        custom_error_message="kind is ssh, snmp (with version 2c or 3) or login",
    ),
]


class Credential(BaseModel):
    """A credential as it is listed: what it is for, never what it holds."""

    name: str
    kind: Literal["ssh", "snmp", "login"]
    settings: dict[str, Any] = Field(description="what is no secret: the user, the version, the key's fingerprint")
    role: UseRole
    groups: list[str]
    used_by: int = Field(description="hosts collected with it")
    updated_at: str
    updated_by: str

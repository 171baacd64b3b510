"""Secrets are a type of their own: whatever writes them down by accident writes something else."""

from __future__ import annotations

import copy
import json
import logging
import pickle
from typing import Annotated, Any

import pytest
from pydantic import BaseModel, TypeAdapter, ValidationError

from balise.api.access import NewUser
from balise.api.channels import WebhookChannel
from balise.api.credentials import CredentialBody, LoginCredential
from balise.api.secrets import REVEALED, OfLength, Secret
from balise.server.app import build_api

TEXT = "the-word-nobody-hears"
FORMS: list[dict[str, Any]] = [
    {"kind": "ssh", "user": "x", "private_key": TEXT, "passphrase": TEXT},
    {"kind": "ssh", "user": "x", "password": TEXT},
    {"kind": "snmp", "version": "2c", "community": TEXT},
    {"kind": "snmp", "version": "3", "user": "x", "auth": {"password": TEXT}, "privacy": {"password": TEXT}},
    {"kind": "login", "user": "x", "password": TEXT},
]


@pytest.mark.parametrize("form", FORMS, ids=lambda form: f"{form['kind']} {form.get('version', '')}")
def test_a_credential_is_written_down_without_what_it_holds(form: dict[str, Any]) -> None:
    adapter: TypeAdapter[Any] = TypeAdapter(CredentialBody)
    held = adapter.validate_python(form)
    for written in (repr(held), str(held), f"{held}", held.model_dump_json(), str(held.model_dump()), str(vars(held))):
        assert TEXT not in written
    again = adapter.validate_json(held.model_dump_json(context=REVEALED))
    assert again == held
    assert TEXT in again.model_dump_json(context=REVEALED)


def test_a_secret_gives_itself_to_nothing_but_reveal(caplog: pytest.LogCaptureFixture) -> None:
    held = Secret(TEXT)
    with caplog.at_level(logging.INFO):
        logging.getLogger("balise").info("held=%s %r", held, held)
    assert TEXT not in caplog.text + f"{held} {held!r} {held:>40}" + "%s" % held + str([held])  # noqa: UP031
    for sink in (json.dumps, pickle.dumps, lambda s: "x" + s, ", ".join):
        with pytest.raises(TypeError):
            sink(held)
    assert (held.reveal(), len(held), bool(Secret(""))) == (TEXT, len(TEXT), False)
    assert held == Secret(TEXT) == copy.copy(held) == copy.deepcopy(held)
    assert held != Secret("another")
    assert held != TEXT


@pytest.mark.parametrize("given", [TEXT * 200, "", 5, None, ["x"]])
def test_what_is_wrong_with_a_secret_is_said_without_it(given: object) -> None:
    with pytest.raises(ValidationError) as error:
        LoginCredential.model_validate({"kind": "login", "user": "x", "password": given})
    assert TEXT not in str(error.value)
    [found] = error.value.errors()
    assert found["loc"] == ("password",)


def test_a_token_that_no_header_can_carry_is_refused_without_it() -> None:
    with pytest.raises(ValidationError, match="visible ASCII") as error:
        WebhookChannel.model_validate({"kind": "webhook", "url": "http://x/", "bearer": f"{TEXT}\r\nX: y"})
    assert TEXT not in str(error.value)


def test_a_field_may_be_given_as_text_or_as_a_secret() -> None:
    class Holder(BaseModel):
        word: Annotated[Secret, OfLength(2, 5)]

    assert (
        Holder.model_validate({"word": "abc"})
        == Holder(word=Secret("abc"))
        == Holder.model_validate_json('{"word": "abc"}')
    )
    shown = Holder.model_json_schema()["properties"]["word"]
    assert (shown["type"], shown["minLength"], shown["maxLength"], shown["writeOnly"]) == ("string", 2, 5, True)


SECRET_NAMES = {"password", "private_key", "passphrase", "community", "bearer"}
SHOWN_ONCE = {("MadeEnrolmentKey", "key"), ("Candidate", "key")}
"""What is made for whoever asks, and told to them this once; and the label of a key."""


def test_every_field_that_is_named_like_a_secret_is_one() -> None:
    found = 0
    for name, schema in build_api(None).openapi()["components"]["schemas"].items():
        for field, shown in schema.get("properties", {}).items():
            if field in SECRET_NAMES or (field == "key" and (name, field) not in SHOWN_ONCE):
                forms = shown.get("anyOf", [shown])
                if any(form.get("type") == "string" for form in forms):
                    assert any(form.get("writeOnly") for form in forms), (name, field)
                    found += 1
    assert found >= 10


def test_a_secret_that_is_made_already_is_held_to_the_same_length() -> None:
    with pytest.raises(ValidationError, match="at least 8 characters"):
        NewUser(name="maat", role="viewer", password=Secret("short"))

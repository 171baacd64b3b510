"""Credentials, and the settings of remote collection."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Path, Query

from balise.api.credentials import Credential, CredentialBody
from balise.api.lists import Note, Page
from balise.api.remote import CollectionSettings
from balise.api.spans import Name
from balise.server.callers import Administrator, Viewer, part
from balise.server.keeping.settings import SettingsBook
from balise.server.remote.credentials import CredentialBook
from balise.server.services.rotation import Rotation

router = APIRouter(tags=["enrolment"])
CredentialsHere = Annotated[CredentialBook, part(CredentialBook)]
SettingsHere = Annotated[SettingsBook, part(SettingsBook)]
CredentialName = Annotated[Name, Path()]


@router.get("/credentials")
def list_credentials(credentials: CredentialsHere, _who: Viewer) -> Page[Credential]:
    return Page[Credential](items=credentials.all())


@router.get("/credentials/{name}")
def read_credential(credentials: CredentialsHere, _who: Viewer, name: str) -> Credential:
    return credentials.get(name)


@router.put("/credentials/{name}")
def put_credential(
    rotation: Annotated[Rotation, part(Rotation)],
    who: Administrator,
    name: CredentialName,
    body: CredentialBody,
    anyway: Annotated[bool, Query(description="keep it although it does not work on every host that uses it")] = False,
) -> Credential:
    """Keeps a credential. One that is in use is tried first on every host that uses it."""
    return rotation.put(name, body, who.name, anyway=anyway)


@router.delete("/credentials/{name}")
def delete_credential(credentials: CredentialsHere, who: Administrator, name: str) -> Note:
    credentials.delete(name, who.name)
    return Note(detail=f"the credential {name} is gone")


@router.get("/settings/collection")
def read_collection(settings: SettingsHere, _who: Viewer) -> CollectionSettings:
    return settings.collection()


@router.put("/settings/collection")
def set_collection(settings: SettingsHere, who: Administrator, body: CollectionSettings) -> CollectionSettings:
    return settings.set_collection(body, who.name)

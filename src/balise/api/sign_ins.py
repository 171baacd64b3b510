"""Sign-ins: who tried to get in, and who did."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, Field


class SignInItem(BaseModel):
    """The tries of one account, one address, or one with the other.

    Of what is not asked by, the most frequent is told: by address, `account` is the one that was tried most.
    """

    account: str
    address: str = Field(description="empty when it was on the host itself")
    host: str
    hosts: int
    failed: int
    succeeded: int
    accounts: int = Field(description="how many accounts were tried")
    first: str
    last: str
    kind: Literal["success-after-failures", "sweep", "first-seen", "failing", "usual"]


class AccountChange(BaseModel):
    """An account that was made, removed, locked or put into a group."""

    time: str
    host: str
    account: str
    what: Literal["locked", "unlocked", "new-account", "account-removed", "group-change"]
    detail: str
    event: str = Field(description="the id of the event that says it")


class SignInTrend(BaseModel):
    """Tries in steps of an hour or a day, at their beginnings in unix seconds."""

    step_seconds: float
    times: list[float]
    failed: list[int]
    succeeded: list[int]


class SignInAnswer(BaseModel):
    """What should be looked at first comes first."""

    items: list[SignInItem]
    total: int
    changes: list[AccountChange] = Field(description="the newest first")
    trend: SignInTrend
    complete: bool = Field(description="false when there were more than can be read: ask for a shorter span")

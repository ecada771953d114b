"""Provisioning tasks, their attempts, and errors by kind."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from dravo.web.api.schemas.base import Model, RequestModel, Text
from dravo.web.api.schemas.common import Named, Page, PersonRef, SearchQuery


class TroubleKind(Model):
    """Open deliveries of one application that failed by one kind of trouble: how many, and one in its own words."""

    application: Named
    kind: str
    state: str
    number: int
    message: str
    hint: str


class TroubleKinds(Model):
    """What open deliveries failed by."""

    items: list[TroubleKind]


class ProvisioningSummary(Model):
    """How much provisioning is pending: tasks for accounts, and groups that are provisioned."""

    settled: bool = Field(description="Whether nothing is pending: no user is being recomputed, and no task is waiting that Dravo processes itself.")
    recomputing: int = Field(description="Users whose access is being recomputed.")
    waiting: int = Field(description="Tasks that Dravo processes by itself, with those that wait for a retry.")
    stopped: int = Field(description="Tasks that wait until their application is enabled, connected or resumed.")
    failed: int = Field(description="Tasks that the application refused.")
    held: int = Field(description="Tasks that are held until an operator approves them or changes a setting.")
    unresolved: int = Field(description="Tasks whose outcome Dravo could not learn; an operator resolves them.")


class DeliveriesQuery(SearchQuery):
    """Which deliveries."""

    application: str | None = None
    person: str | None = Field(None, description="By id.")
    state: Literal["open", "waiting", "failed", "held", "done", "dropped"] | None = None


class KindsQuery(Model):
    """Of which application; without one, of all."""

    application: str | None = None


class ProvisioningSummaryQuery(Model):
    """Of which application, and how long to wait."""

    application: str | None = Field(None, description="The key of an application; without it, all applications are counted.")
    wait: float = Field(0, ge=0, le=60, description="Answer only when nothing is pending, or after this many seconds (0 to 60).")


class RetryRequest(RequestModel):
    """Which deliveries to try again: of an application, and of one kind of trouble if that is said."""

    application: Text
    kind: Text | None = None


class ResolveRequest(RequestModel):
    """What was found where it could not be known whether an account was made."""

    found: Literal["there", "not there"]
    remote_id: Text | None = None


class Exchange(Model):
    """One request of an attempt, and how it was answered; without bodies and secrets."""

    method: str
    path: str
    query: dict[str, str] | None
    status: int | None
    milliseconds: int
    said: str | None
    together: int | None = Field(None, description="how many changes went in one request, where it did not go by itself")


class Attempt(Model):
    """One attempt of a delivery."""

    version: int
    started_at: str
    ended_at: str
    outcome: str
    message: str | None
    exchanges: list[Exchange]


class DeliveryLine(Model):
    """A delivery as in lists."""

    id: str
    person: PersonRef
    application: Named
    account: str
    state: str
    aim: str
    version: int
    attempts: int
    created_at: str
    next_attempt_at: str | None
    closed_at: str | None
    message: str | None
    hint: str | None
    waits_for: str | None
    kind: str | None


class Delivery(DeliveryLine):
    """A delivery with its attempts, newest first."""

    tries: list[Attempt]


class PageOfDeliveries(Page[DeliveryLine]):
    """A page of deliveries."""

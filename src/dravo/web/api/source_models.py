"""What the management API gives of a source's schemas and requests, and of settings."""

from __future__ import annotations

from typing import Any, Literal

from dravo.web.api.base import Model
from dravo.web.api.models import Page


class SourceSchema(Model):
    """An extension schema that was added to a source; `kind` is what it belongs to, User or Group."""

    urn: str
    kind: str
    name: str
    document: dict[str, Any]


class SourceSchemas(Model):
    """The extension schemas of a source."""

    items: list[SourceSchema]


class TraceSubject(Model):
    """The person (by the user's id) or group that a request was about."""

    kind: str
    id: str
    name: str


class TracePerson(Model):
    """What a request led to for one person."""

    id: str
    name: str
    gained: list[str]
    lost: list[str]
    accounts: list[list[str]]


class TraceLine(Model):
    """One request of a source: what came, what was answered, what it led to; `more` people beside those listed."""

    id: str
    at: str
    method: str
    path: str
    query: str | None
    status: int
    milliseconds: int
    outcome: str
    manners: list[str]
    subject: TraceSubject | None
    people: list[TracePerson]
    more: int


class Trace(TraceLine):
    """One request with its body, secrets left out."""

    body: str | None


class PageOfTraces(Page[TraceLine]):
    """A page of traces."""


class Setting(Model):
    """A setting of the house."""

    name: str
    label: str
    kind: Literal["number", "time zone", "text"]
    value: int | str
    default: int | str
    least: int
    most: int


class HouseSettings(Model):
    """Every setting of the house."""

    items: list[Setting]

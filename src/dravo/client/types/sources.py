"""What the management API gives of sources and settings.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import Any, TypedDict


class HouseSettings(TypedDict):
    """Every setting of the house."""

    items: list[Setting]


class PageOfTraces(TypedDict):
    """A page of traces."""

    items: list[TraceLine]
    total: int
    next: str | None


class Setting(TypedDict):
    """A setting of the house."""

    name: str
    label: str
    kind: str
    value: int | str
    default: int | str
    least: int
    most: int


class SourceSchema(TypedDict):
    """An extension schema that was added to a source; `kind` is what it belongs to, User or Group."""

    urn: str
    kind: str
    name: str
    document: dict[str, Any]


class SourceSchemas(TypedDict):
    """The extension schemas of a source."""

    items: list[SourceSchema]


class Trace(TypedDict):
    """One request with its body, secrets left out."""

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
    body: str | None


class TraceLine(TypedDict):
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


class TracePerson(TypedDict):
    """What a request led to for one person."""

    id: str
    name: str
    gained: list[str]
    lost: list[str]
    accounts: list[list[str]]


class TraceSubject(TypedDict):
    """The person (by the user's id) or group that a request was about."""

    kind: str
    id: str
    name: str

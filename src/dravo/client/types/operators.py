"""Operators, their sessions, second factors and sign-in.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, TypedDict

if TYPE_CHECKING:
    from dravo.client.types.common import Named


class Left(TypedDict):
    """Where a browser goes to sign out at the provider too; empty where there is none."""

    go_to: str


class LinkOffer(TypedDict):
    """A source to which one could link oneself; `start` is where a browser with one's session begins, "" for programs."""

    key: str
    label: str
    start: str


class NewOperator(TypedDict):
    """An operator, with the password if one was made; the only time that it is shown."""

    id: str
    name: str
    kind: str
    masked: bool
    applications: list[str]
    created_at: str
    second_factor: bool
    only_by_source: bool
    disabled_at: str | None
    password: str | None


class NewSecondFactor(TypedDict):
    """A secret for one's app, shown once; `address` is the same for apps that take it whole, `picture` the same to be read by a camera."""

    secret: str
    address: str
    picture: str


class Operator(TypedDict):
    """An operator."""

    id: str
    name: str
    kind: str
    masked: bool
    applications: list[str]
    created_at: str
    second_factor: bool
    only_by_source: bool
    disabled_at: str | None


class OperatorLink(TypedDict):
    """A source that lets an operator in, and by what its provider knows them."""

    id: str
    source: Named
    subject: str
    made_at: str
    last_used_at: str
    status: str


class OperatorLinks(TypedDict):
    """By which sources one comes in as an operator, by which others one could, and whether by these alone."""

    items: list[OperatorLink]
    offered: list[LinkOffer]
    only_by_source: bool


class OperatorSession(TypedDict):
    """A session of one's own; `this` is the one that asks."""

    created_at: str
    last_seen_at: str
    until_at: str
    this: bool
    source: Named | None


class OperatorSessions(TypedDict):
    """Where one is signed in."""

    items: list[OperatorSession]


class PageOfOperators(TypedDict):
    """A page of operators."""

    items: list[Operator]
    total: int
    next: str | None


class RecoveryCodes(TypedDict):
    """Codes for the day on which the app is lost, each good once; shown once."""

    recovery_codes: list[str]


class SecondFactor(TypedDict):
    """Whether one has a second factor, since when, and how many recovery codes are left."""

    on: bool
    since: str | None
    recovery_left: int
    required: bool


class Session(TypedDict):
    """Who is signed in, and what they may do."""

    name: str
    kind: str
    csrf: str
    permissions: list[str]
    applications: list[str] | None
    needs_second_factor: bool

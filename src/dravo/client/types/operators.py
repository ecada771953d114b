"""Operators, their sessions and sign-in.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, TypedDict

if TYPE_CHECKING:
    from dravo.client.types.common import KeyAndLabel


class LinkOffer(TypedDict):
    """A source that you can link; `start` is the URL for your browser."""

    key: str
    label: str
    start: str


class LogoutUrl(TypedDict):
    """The logout URL of the provider; empty if it has none."""

    go_to: str


class NewOperator(TypedDict):
    """A new operator with the generated password."""

    id: str
    name: str
    kind: str
    email: str | None
    masked: bool
    masked_names: bool
    masked_networks: bool
    hidden_areas: list[str]
    applications: list[str]
    owner_of: list[str]
    created_at: str
    second_factor: bool
    only_by_source: bool
    disabled_at: str | None
    password: str | None


class Operator(TypedDict):
    """An operator."""

    id: str
    name: str
    kind: str
    email: str | None
    masked: bool
    masked_names: bool
    masked_networks: bool
    hidden_areas: list[str]
    applications: list[str]
    owner_of: list[str]
    created_at: str
    second_factor: bool
    only_by_source: bool
    disabled_at: str | None


class OperatorLink(TypedDict):
    """A linked source of an operator."""

    id: str
    source: KeyAndLabel
    subject: str
    created_at: str
    last_used_at: str
    status: str


class OperatorLinks(TypedDict):
    """Your linked sources and those that you can link."""

    items: list[OperatorLink]
    offered: list[LinkOffer]
    only_by_source: bool


class OperatorSession(TypedDict):
    """One of your sessions."""

    created_at: str
    last_seen_at: str
    until_at: str
    this: bool
    source: KeyAndLabel | None


class OperatorSessions(TypedDict):
    """Your sessions."""

    items: list[OperatorSession]


class PageOfOperators(TypedDict):
    """A page of operators."""

    items: list[Operator]
    total: int
    next: str | None


class Session(TypedDict):
    """Your session."""

    name: str
    kind: str
    csrf: str
    permissions: list[str]
    applications: list[str] | None
    needs_second_factor: bool

"""Sources, their SCIM tokens, setup checklist, schemas and requests.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, TypedDict

if TYPE_CHECKING:
    from dravo.client.types.common import Named


class ChecklistItem(TypedDict):
    """What real traffic has shown to work, and when."""

    what: str
    label: str
    first_at: str | None
    last_at: str | None


class ChecklistTrouble(TypedDict):
    """A call that was turned away or lost its way."""

    at: str
    message: str


class ChecklistValue(TypedDict):
    """A value to give to the other side."""

    name: str
    value: str
    note: str


class NewToken(TypedDict):
    """A token at the one time that its text is shown."""

    id: str
    label: str
    prefix: str
    created_at: str
    expires_at: str | None
    last_used_at: str | None
    revoked_at: str | None
    kinds: str
    access: str
    token: str


class PageOfSources(TypedDict):
    """A page of sources."""

    items: list[Source]
    total: int
    next: str | None


class PageOfTokens(TypedDict):
    """A page of tokens."""

    items: list[PushToken]
    total: int
    next: str | None


class PageOfTraces(TypedDict):
    """A page of traces."""

    items: list[TraceLine]
    total: int
    next: str | None


class PushToken(TypedDict):
    """A token of a source: what it opens (users, groups, both), and whether it may write."""

    id: str
    label: str
    prefix: str
    created_at: str
    expires_at: str | None
    last_used_at: str | None
    revoked_at: str | None
    kinds: str
    access: str


class SetupChecklist(TypedDict):
    """The setup checklist of a inbound SCIM."""

    source: Named
    give: list[ChecklistValue]
    usable_tokens: int
    provider_steps: list[str]
    ticks: list[ChecklistItem]
    trouble: list[ChecklistTrouble]
    text: str


class SharedDomain(TypedDict):
    """An email domain that several sources own."""

    domain: str
    sources: list[Named]


class Source(TypedDict):
    """A source; `read_as` is the kind of reader where it is read, with how its last run ended."""

    key: str
    label: str
    domains: list[str]
    connection_type: str
    sign_in_status: str | None
    signed_in_at: str | None
    certificate_ends_at: str | None
    sign_in_needs: str | None
    read_as: str | None
    enabled: bool | None
    run_status: str | None
    run_ended_at: str | None
    conflicts: int
    precedence: int
    deactivation_wins: bool
    updates: bool
    created_at: str
    users: int
    groups: int
    last_call_at: str | None
    last_activity_at: str | None
    shared_domains: list[SharedDomain]
    token_ends_at: str | None


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
    quirks: list[str]
    subject: TraceSubject | None
    users: list[TraceUser]
    more: int
    body: str | None


class TraceLine(TypedDict):
    """One request of a source: what came, what was answered, what it led to; `more` users beside those listed."""

    id: str
    at: str
    method: str
    path: str
    query: str | None
    status: int
    milliseconds: int
    outcome: str
    quirks: list[str]
    subject: TraceSubject | None
    users: list[TraceUser]
    more: int


class TraceSubject(TypedDict):
    """The user (by the user's id) or group that a request was about."""

    kind: str
    id: str
    name: str


class TraceUser(TypedDict):
    """What a request led to for one user."""

    id: str
    name: str
    gained: list[str]
    lost: list[str]
    accounts: list[list[str]]

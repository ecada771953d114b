"""Sources, their SCIM tokens, setup checklist, schemas and requests.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, TypedDict

if TYPE_CHECKING:
    from dravo.client.types.access.assignments import ChangeEffects
    from dravo.client.types.common import KeyAndLabel


class ChecklistItem(TypedDict):
    """A checklist item that real traffic verifies."""

    what: str
    label: str
    first_at: str | None
    last_at: str | None


class ChecklistTrouble(TypedDict):
    """A rejected or misdirected request."""

    at: str
    message: str


class ChecklistValue(TypedDict):
    """A value to enter on the other side."""

    name: str
    value: str
    note: str


class HandOverGroup(TypedDict):
    """A group of the old source."""

    name: str
    counterpart: bool
    assignments: int


class HandOverImpact(TypedDict):
    """What a hand-over does."""

    numbers: dict[str, int]
    users: list[HandOverUser]
    groups: list[HandOverGroup]
    assignments: int
    domains: list[str]
    effects: ChangeEffects


class HandOverState(TypedDict):
    """The last hand-over of a source."""

    to: str | None
    status: str
    users: int
    started_at: str | None
    changed_at: str | None
    changed_by: str | None


class HandOverUser(TypedDict):
    """A user of the old source."""

    id: str
    name: str
    outcome: str


class NewScimToken(TypedDict):
    """A new SCIM token with its secret."""

    id: str
    label: str
    prefix: str
    created_at: str
    expires_at: str | None
    last_used_at: str | None
    revoked_at: str | None
    kinds: str
    access: str
    created_by: str | None
    token: str


class PageOfScimRequests(TypedDict):
    """A page of traces."""

    items: list[ScimRequestLine]
    total: int
    next: str | None


class PageOfScimTokens(TypedDict):
    """A page of tokens."""

    items: list[ScimToken]
    total: int
    next: str | None


class PageOfSources(TypedDict):
    """A page of sources."""

    items: list[Source]
    total: int
    next: str | None


class RetiredSource(TypedDict):
    """A source that was retired or restored."""

    key: str
    users: int


class ScimRequestDetail(TypedDict):
    """A request with its body, without secrets."""

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


class ScimRequestLine(TypedDict):
    """A request of a source with its effects."""

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


class ScimToken(TypedDict):
    """A SCIM token with its resources and access."""

    id: str
    label: str
    prefix: str
    created_at: str
    expires_at: str | None
    last_used_at: str | None
    revoked_at: str | None
    kinds: str
    access: str
    created_by: str | None


class SetupChecklist(TypedDict):
    """The setup checklist of inbound SCIM."""

    source: KeyAndLabel
    give: list[ChecklistValue]
    usable_tokens: int
    provider_steps: list[str]
    ticks: list[ChecklistItem]
    trouble: list[ChecklistTrouble]
    warnings: list[str]
    text: str


class SharedDomain(TypedDict):
    """An email domain that several sources own."""

    domain: str
    sources: list[KeyAndLabel]


class Source(TypedDict):
    """A source; `read_as` is the connector of its import."""

    key: str
    label: str
    note: str | None
    retired_at: str | None
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
    priority: int
    deactivation_wins: bool
    members_from: str
    updates: bool
    created_at: str
    users: int
    groups: int
    last_call_at: str | None
    last_activity_at: str | None
    shared_domains: list[SharedDomain]
    token_ends_at: str | None
    scim_status: str
    waiting_deactivations: int
    template: str | None


class SourceSchema(TypedDict):
    """A schema extension of a source for User or Group."""

    urn: str
    kind: str
    name: str
    document: dict[str, Any]


class SourceSchemas(TypedDict):
    """The schema extensions of a source."""

    items: list[SourceSchema]


class SourceTemplate(TypedDict):
    """Preset values for a new source."""

    key: str
    label: str
    description: str
    connection_type: str
    guide: str
    connector: str | None
    protocol: str | None
    settings: dict[str, Any]
    policy: dict[str, Any]


class SourceTemplates(TypedDict):
    """All source templates."""

    items: list[SourceTemplate]


class TraceSubject(TypedDict):
    """The user or group of a request."""

    kind: str
    id: str
    name: str


class TraceUser(TypedDict):
    """The effects of a request on one user."""

    id: str
    name: str
    gained: list[str]
    lost: list[str]
    accounts: list[list[str]]

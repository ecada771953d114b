"""Sources, their SCIM tokens, setup checklist, schemas and requests."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from dravo.web.api.schemas.access.assignments import ChangeEffects
from dravo.web.api.schemas.base import Model, RequestModel, Text
from dravo.web.api.schemas.common import ConfirmedRequest, KeyAndLabel, KeyPath, Page, SearchQuery
from dravo.web.api.schemas.groups import MembersFrom
from dravo.web.api.schemas.tokens import CreateTokenRequest, Token


class TokenPath(KeyPath):
    """One token of a source."""

    token_id: str


class AddSourceRequest(RequestModel):
    """A new source."""

    key: Text = Field(description="Key for URLs; it cannot be changed later.")
    label: Text
    connection_type: Literal["inbound_scim", "import", "sign_in"] = Field(
        "inbound_scim", description="First connection type: inbound_scim, import or sign_in."
    )
    template: Text | None = Field(
        None, description="Key of a source template; it decides the connection type."
    )


class ChangeSourceRequest(RequestModel):
    """Changes to a source. Omitted fields keep their value."""

    label: Text | None = None
    domains: list[Text] | None = Field(
        None, description="All email domains that the source owns, such as fernhollow.example."
    )
    note: Text | None = Field(None, description="Note for other operators; empty removes it.")


class RetiredSource(Model):
    """A source that was retired or restored."""

    key: str
    users: int = Field(description="Number of users that the source reported.")


class HandOverRequest(ConfirmedRequest):
    """Which users to hand over, and to which source."""

    to: Text = Field(description="Key of the new source.")
    group: Text | None = Field(
        None, description="Pilot group, by name or ID; omit it to hand over all users and retire the source."
    )


class HandOverState(Model):
    """The last hand-over of a source."""

    to: str | None = Field(description="Key of the new source, or null.")
    status: str = Field(description="Status: none, pilot, done or undone.")
    users: int = Field(description="Number of users that were handed over.")
    started_at: str | None
    changed_at: str | None
    changed_by: str | None = Field(description="Name of the operator, or null.")


class HandOverUser(Model):
    """A user of the old source."""

    id: str = Field(description="ID of the user.")
    name: str = Field(description="Display name of the user.")
    outcome: str = Field(description="Outcome: matched, linked, unmatched or matched_twice.")


class HandOverGroup(Model):
    """A group of the old source."""

    name: str = Field(description="Name of the group.")
    counterpart: bool = Field(description="Whether the new source has one group of this name.")
    assignments: int = Field(description="Number of assignments to the group.")


class HandOverImpact(Model):
    """What a hand-over does."""

    numbers: dict[str, int] = Field(description="Number of users by outcome.")
    users: list[HandOverUser] = Field(description="Up to 200 users, those who need attention first.")
    groups: list[HandOverGroup] = Field(description="Up to 200 groups of the old source.")
    assignments: int = Field(description="Number of assignments that follow to the new source.")
    domains: list[str] = Field(description="Email domains that the new source gets.")
    effects: ChangeEffects


class CreateScimTokenRequest(CreateTokenRequest):
    """A new SCIM token."""

    kinds: Literal["users", "groups", "both"] = "both"
    access: Literal["read", "write"] = "write"


class SchemaRequest(RequestModel):
    """An extension schema, as the JSON document of RFC 7643, section 7."""

    kind: Literal["User", "Group"] = Field(description="Resource type that the schema extends.")
    document: dict[str, Any] = Field(description="The schema: id (its URN), name, description, attributes.")


class SchemaPath(KeyPath):
    """One schema of a source, by its URN."""

    urn: str


class ScimRequestsQuery(SearchQuery):
    """Filters for requests."""

    outcome: Literal["refused", "changed", "read"] | None = None
    method: str | None = Field(None, max_length=8)


class ScimRequestPath(KeyPath):
    """One request of a source."""

    id: str


class SharedDomain(Model):
    """An email domain that several sources own."""

    domain: str
    sources: list[KeyAndLabel]


class Source(Model):
    """A source; `read_as` is the connector of its import."""

    key: str
    label: str = Field(description="Label of the source.")
    note: str | None = Field(description="Note of operators, or null.")
    retired_at: str | None = Field(description="Time at which the source was retired, or null.")
    domains: list[str] = Field(description="All email domains of the source.")
    connection_type: str
    sign_in_status: str | None
    signed_in_at: str | None
    certificate_ends_at: str | None = Field(
        description="Expiry of the provider's last certificate, if it is within 30 days."
    )
    sign_in_needs: str | None = Field(description="What needs attention about the sign-in, in a sentence.")
    read_as: str | None
    enabled: bool | None
    run_status: str | None
    run_ended_at: str | None
    conflicts: int
    priority: int
    deactivation_wins: bool
    members_from: MembersFrom = Field(
        description="Who decides about the members of its groups, where a group does not differ."
    )
    updates: bool
    created_at: str
    users: int = Field(description="Number of users.")
    groups: int = Field(description="Number of groups.")
    last_call_at: str | None
    last_activity_at: str | None = Field(description="Time of the last request, import run or sign-in.")
    shared_domains: list[SharedDomain] = Field(description="Domains that other sources own too.")
    token_ends_at: str | None = Field(description="Expiry of a recently used token, if it is within 30 days.")
    scim_status: str = Field(description="Status of inbound SCIM: disabled, pilot or enabled.")
    waiting_deactivations: int = Field(
        description="Number of users whose deactivation or deletion waits until the source is enabled."
    )
    template: str | None = Field(description="Key of the template from which it was added, or null.")


class ScimToken(Token):
    """A SCIM token with its resources and access."""

    kinds: str
    access: str
    created_by: str | None = Field(description="Name of the operator who created the token, or null.")


class NewScimToken(ScimToken):
    """A new SCIM token with its secret."""

    token: str


class ChecklistValue(Model):
    """A value to enter on the other side."""

    name: str = Field(description="Name of the field at the identity provider.")
    value: str = Field(description="Value to enter there.")
    note: str


class ChecklistItem(Model):
    """A checklist item that real traffic verifies."""

    what: str
    label: str
    first_at: str | None
    last_at: str | None


class ChecklistTrouble(Model):
    """A rejected or misdirected request."""

    at: str = Field(description="Time of the last problem.")
    message: str = Field(description="Why the request was rejected, in a sentence.")


class SetupChecklist(Model):
    """The setup checklist of inbound SCIM."""

    source: KeyAndLabel
    give: list[ChecklistValue]
    usable_tokens: int
    provider_steps: list[str]
    ticks: list[ChecklistItem]
    trouble: list[ChecklistTrouble]
    warnings: list[str] = Field(description="Why other systems may not reach the addresses.")
    text: str = Field(description="The checklist as text to send, without the token.")


class SourceTemplate(Model):
    """Preset values for a new source."""

    key: str = Field(description="Key of the template.")
    label: str
    description: str = Field(description="What tells the template apart from the others.")
    connection_type: str
    guide: str = Field(description="Name of the guide.")
    connector: str | None = Field(description="Connector of an import, or null.")
    protocol: str | None = Field(description="Protocol of a sign-in, or null.")
    settings: dict[str, Any] = Field(description="Presets of the connector or protocol.")
    policy: dict[str, Any] = Field(description="Presets of the source policy.")


class SourceTemplates(Model):
    """All source templates."""

    items: list[SourceTemplate]


class PageOfSources(Page[Source]):
    """A page of sources."""


class PageOfScimTokens(Page[ScimToken]):
    """A page of tokens."""


class SourceSchema(Model):
    """A schema extension of a source for User or Group."""

    urn: str
    kind: str = Field(description="Resource type that the schema extends: User or Group.")
    name: str = Field(description="Name of the schema.")
    document: dict[str, Any]


class SourceSchemas(Model):
    """The schema extensions of a source."""

    items: list[SourceSchema]


class TraceSubject(Model):
    """The user or group of a request."""

    kind: str = Field(description="Kind: user or group.")
    id: str = Field(description="ID of the record or the group.")
    name: str = Field(description="Name of the user or the group.")


class TraceUser(Model):
    """The effects of a request on one user."""

    id: str = Field(description="ID of the user.")
    name: str = Field(description="Display name of the user.")
    gained: list[str] = Field(description="Roles that the user gained.")
    lost: list[str] = Field(description="Roles that the user lost.")
    accounts: list[list[str]] = Field(description="Accounts that change: application and desired state.")


class ScimRequestLine(Model):
    """A request of a source with its effects."""

    id: str = Field(description="ID of the request.")
    at: str = Field(description="Time of the request.")
    method: str
    path: str
    query: str | None
    status: int = Field(description="HTTP status of the response.")
    milliseconds: int
    outcome: str = Field(description="What Dravo did, in a sentence.")
    quirks: list[str]
    subject: TraceSubject | None = Field(description="The user or group of the request, or null.")
    users: list[TraceUser]
    more: int


class ScimRequestDetail(ScimRequestLine):
    """A request with its body, without secrets."""

    body: str | None


class PageOfScimRequests(Page[ScimRequestLine]):
    """A page of traces."""

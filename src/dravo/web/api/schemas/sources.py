"""Sources, their SCIM tokens, setup checklist, schemas and requests."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from dravo.web.api.schemas.base import Model, RequestModel, Text
from dravo.web.api.schemas.common import KeyPath, Named, Page, SearchQuery
from dravo.web.api.schemas.tokens import CreateTokenRequest, Token


class TokenPath(KeyPath):
    """One token of a source."""

    token_id: str


class AddSourceRequest(RequestModel):
    """A source to be added."""

    key: Text = Field(description="Stands in addresses and never changes.")
    label: Text


class ChangeSourceRequest(RequestModel):
    """Changes of a source; fields that are left out stay as they are."""

    label: Text | None = None
    domains: list[Text] | None = Field(None, description="All email domains that the source owns, such as fernhollow.example.")


class CreateScimTokenRequest(CreateTokenRequest):
    """A push token to be made."""

    kinds: Literal["users", "groups", "both"] = "both"
    access: Literal["read", "write"] = "write"


class SchemaRequest(RequestModel):
    """An extension schema, as the JSON document of RFC 7643, section 7."""

    kind: Literal["User", "Group"]
    document: dict[str, Any] = Field(description="The schema: id (its URN), name, description, attributes.")


class SchemaPath(KeyPath):
    """One schema of a source, by its URN."""

    urn: str


class TracesQuery(SearchQuery):
    """Which requests of a source."""

    outcome: Literal["refused", "changed", "read"] | None = None
    method: str | None = Field(None, max_length=8)


class TracePath(KeyPath):
    """One request of a source."""

    id: str


class SharedDomain(Model):
    """An email domain that several sources own."""

    domain: str
    sources: list[Named]


class Source(Model):
    """A source; `read_as` is the kind of reader where it is read, with how its last run ended."""

    key: str
    label: str
    domains: list[str] = Field(description="Email domains that the source owns, also those in its import and sign-in settings.")
    connection_type: str
    sign_in_status: str | None
    signed_in_at: str | None
    certificate_ends_at: str | None = Field(description="When the last of its provider's certificates ends, if that is within 30 days.")
    sign_in_needs: str | None = Field(description="What needs a user about signing in by it, in a sentence.")
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
    last_activity_at: str | None = Field(description="The latest of its last call, import run and sign-in.")
    shared_domains: list[SharedDomain] = Field(description="Domains that other sources own too: users of these choose how to sign in.")
    token_ends_at: str | None = Field(description="When a token that it lately used ends, if that is within 30 days.")


class PushToken(Token):
    """A token of a source: what it opens (users, groups, both), and whether it may write."""

    kinds: str
    access: str


class NewToken(PushToken):
    """A token at the one time that its text is shown."""

    token: str


class ChecklistValue(Model):
    """A value to give to the other side."""

    name: str
    value: str
    note: str


class ChecklistItem(Model):
    """What real traffic has shown to work, and when."""

    what: str
    label: str
    first_at: str | None
    last_at: str | None


class ChecklistTrouble(Model):
    """A call that was turned away or lost its way."""

    at: str
    message: str


class SetupChecklist(Model):
    """The setup checklist of a inbound SCIM."""

    source: Named
    give: list[ChecklistValue]
    usable_tokens: int
    provider_steps: list[str]
    ticks: list[ChecklistItem]
    trouble: list[ChecklistTrouble]
    text: str = Field(description="The checklist as text, for anyone who runs the other side; without the token.")


class PageOfSources(Page[Source]):
    """A page of sources."""


class PageOfTokens(Page[PushToken]):
    """A page of tokens."""


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
    """The user (by the user's id) or group that a request was about."""

    kind: str
    id: str
    name: str


class TraceUser(Model):
    """What a request led to for one user."""

    id: str
    name: str
    gained: list[str]
    lost: list[str]
    accounts: list[list[str]]


class TraceLine(Model):
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


class Trace(TraceLine):
    """One request with its body, secrets left out."""

    body: str | None


class PageOfTraces(Page[TraceLine]):
    """A page of traces."""

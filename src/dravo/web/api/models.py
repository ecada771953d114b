"""What the management API gives; the OpenAPI document, the console's types and the client's types follow from here."""

from __future__ import annotations

from typing import Any, Generic, Literal, TypeVar

from pydantic import Field

from dravo.web.api.base import Model

Item = TypeVar("Item")


class Page(Model, Generic[Item]):
    """One page of a list, how many there are in all, and the cursor of the page behind it."""

    items: list[Item]
    total: int
    next: str | None


class Named(Model):
    """Something by key and label."""

    key: str
    label: str


class PersonRef(Model):
    """A person, in short."""

    id: str
    display_name: str
    user_name: str


class GroupRef(Model):
    """A group, in short."""

    id: str
    name: str
    external_id: str | None = None
    gone: bool = False


class RoleRef(Model):
    """A role, in short."""

    key: str
    label: str
    rank: int


class Session(Model):
    """Who is signed in, and what they may do."""

    name: str
    kind: str
    csrf: str
    permissions: list[str]
    applications: list[str] | None = Field(description="Of an application owner, by key; null for all others: every one.")
    needs_second_factor: bool = Field(description="Whether a second factor has to be set up before anything else.")


class Stage(Model):
    """One stage of the band."""

    name: str
    count: int
    needs: int


class Overview(Model):
    """The whole band."""

    stages: list[Stage]
    active_people: int
    groups: int
    being_worked_out: int


class FlowNode(Model):
    """A place in the flow picture: a source, a group or another way, a role, an application; without `key` it bundles several."""

    id: str
    stage: Literal["source", "group", "role", "application"]
    kind: str
    key: str | None
    application: str | None
    label: str
    people: int


class FlowBand(Model):
    """So many people flow from one place to another."""

    from_id: str
    to_id: str
    people: int


class Flow(Model):
    """The flow picture as it was counted last; each role that somebody has is counted once."""

    at: str | None
    nodes: list[FlowNode]
    bands: list[FlowBand]


class SharedDomain(Model):
    """An email domain that several sources own."""

    domain: str
    sources: list[Named]


class Source(Model):
    """A source; `read_as` is the kind of reader where it is read, with how its last run ended."""

    key: str
    label: str
    domains: list[str] = Field(description="Email domains that the source owns, besides those in its import and sign-in settings.")
    channel: str
    sign_in_state: str | None
    signed_in_at: str | None
    certificate_ends_at: str | None = Field(description="When the last of its provider's certificates ends, if that is within 30 days.")
    sign_in_needs: str | None = Field(description="What needs a person about signing in by it, in a sentence.")
    read_as: str | None
    in_force: bool | None
    run_state: str | None
    run_ended_at: str | None
    conflicts: int
    precedence: int
    veto: bool
    updates: bool
    created_at: str
    people: int
    groups: int
    last_call_at: str | None
    last_activity_at: str | None = Field(description="The latest of its last call, import run and sign-in.")
    shared_domains: list[SharedDomain] = Field(description="Domains that other sources own too: users of these choose how to sign in.")
    token_ends_at: str | None = Field(description="When a token that it lately used ends, if that is within 30 days.")


class Token(Model):
    """A token, without its text."""

    id: str
    label: str
    prefix: str
    created_at: str
    expires_at: str | None
    last_used_at: str | None
    revoked_at: str | None


class PushToken(Token):
    """A token of a source: what it opens (users, groups, both), and whether it may write."""

    kinds: str
    access: str


class NewToken(PushToken):
    """A token at the one time that its text is shown."""

    token: str


class TokenOperator(Model):
    """The operator to whom a token belongs."""

    id: str
    name: str


class ApiToken(Token):
    """An API token, without its text."""

    operator: TokenOperator
    scope: str
    permissions: list[str] | None = Field(description="The permissions to which it is limited; null for all of its operator's.")


class NewApiToken(ApiToken):
    """An API token at the one time that its text is shown."""

    token: str


class SheetValue(Model):
    """A value to give to the other side."""

    name: str
    value: str
    note: str


class SheetTick(Model):
    """What real traffic has shown to work, and when."""

    what: str
    label: str
    first_at: str | None
    last_at: str | None


class SheetTrouble(Model):
    """A call that was turned away or lost its way."""

    at: str
    message: str


class ExchangeSheet(Model):
    """The exchange sheet of a push channel."""

    source: Named
    give: list[SheetValue]
    usable_tokens: int
    switch_on: list[str]
    ticks: list[SheetTick]
    trouble: list[SheetTrouble]
    text: str = Field(description="The sheet as text, for whoever runs the other side; without the token.")


class ApplicationLine(Model):
    """An application as in lists."""

    key: str
    label: str
    owner: str | None
    address: str | None
    hidden: bool
    tracked_only: bool
    switched_on: bool
    state: str
    people: int
    accounts: int
    waiting: int
    failed: int
    drifting: int
    rows_amiss: int
    waiting_for_seats: int
    short_plans: int
    answered_at: str | None
    secret_ends_at: str | None = Field(description="When the connection's secret ends, if that is within 30 days.")
    trouble: str | None
    mend: str | None
    created_at: str


class Role(RoleRef):
    """A role and how many have it."""

    people: int


class Work(Model):
    """How far work is: how many of how many people were looked at."""

    done: int
    total: int


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
    mend: str | None
    waits_for: str | None
    kind: str | None


class Delivery(DeliveryLine):
    """A delivery with its attempts, newest first."""

    tries: list[Attempt]


class AuditObject(Model):
    """What was changed."""

    kind: str
    id: str


class AuditEntry(Model):
    """Which operator changed what, when."""

    id: int
    at: str
    operator: str
    action: str
    object: AuditObject
    details: dict[str, Any]


class ActivityPerson(Model):
    """A person, as a line of the timeline names them."""

    id: str
    name: str


class ActivityLine(Model):
    """One thing that happened: a request, an attempt of a delivery, a reconciliation, or a change by an operator."""

    id: str
    kind: Literal["request", "delivery", "reconciliation", "change", "run"]
    at: str
    outcome: Literal["well", "trouble", "under way"]
    by: str = Field(description="Who: a source, Dravo itself, or an operator.")
    what: str
    detail: str
    source: Named | None
    application: Named | None
    person: ActivityPerson | None
    delivery: str | None = Field(None, description="The delivery that was attempted, by id.")
    object: AuditObject | None = Field(None, description="What an operator changed.")
    undoable: bool = Field(False, description="Whether it is a change that can be taken back from here.")


class AuditVerdict(Model):
    """Whether the chain of the audit log holds; else the first entry that does not fit."""

    holds: bool
    broken_at: int | None


class Operator(Model):
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


class SecondFactor(Model):
    """Whether one has a second factor, since when, and how many recovery codes are left."""

    on: bool
    since: str | None
    recovery_left: int
    required: bool


class NewSecondFactor(Model):
    """A secret for one's app, shown once; `address` is the same for apps that take it whole, `picture` the same to be read by a camera."""

    secret: str
    address: str
    picture: str


class OperatorLink(Model):
    """A source that lets an operator in, and by what its provider knows them."""

    id: str
    source: Named
    subject: str
    made_at: str
    last_used_at: str
    state: str


class LinkOffer(Named):
    """A source to which one could link oneself; `start` is where a browser with one's session begins, "" for programs."""

    start: str


class OperatorLinks(Model):
    """By which sources one comes in as an operator, by which others one could, and whether by these alone."""

    items: list[OperatorLink]
    offered: list[LinkOffer]
    only_by_source: bool


class Left(Model):
    """Where a browser goes to sign out at the provider too; empty where there is none."""

    go_to: str


class OperatorSession(Model):
    """A session of one's own; `this` is the one that asks."""

    created_at: str
    last_seen_at: str
    until_at: str
    this: bool
    source: Named | None


class OperatorSessions(Model):
    """Where one is signed in."""

    items: list[OperatorSession]


class MailSettings(Model):
    """By which server mail goes, and how it went last; the password is never shown."""

    host: str
    port: int
    security: str
    user: str
    sender: str
    has_password: bool
    waiting: int
    sent_at: str | None
    trouble: str
    trouble_at: str | None


class MailTested(MailSettings):
    """The same, after a letter was handed over."""

    sent_to: str


class RecoveryCodes(Model):
    """Codes for the day on which the app is lost, each good once; shown once."""

    recovery_codes: list[str]


class NewOperator(Operator):
    """An operator, with the password if one was made; the only time that it is shown."""

    password: str | None


class PageOfSources(Page[Source]):
    """A page of sources."""


class PageOfTokens(Page[PushToken]):
    """A page of tokens."""


class PageOfApiTokens(Page[ApiToken]):
    """A page of API tokens."""


class PageOfApplications(Page[ApplicationLine]):
    """A page of applications."""


class PageOfDeliveries(Page[DeliveryLine]):
    """A page of deliveries."""


class PageOfAuditEntries(Page[AuditEntry]):
    """A page of the audit log."""


class PageOfOperators(Page[Operator]):
    """A page of operators."""


class PageOfActivity(Page[ActivityLine]):
    """A page of the timeline."""

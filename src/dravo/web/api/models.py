"""What the management API takes and gives; the OpenAPI document, the console's types and the client's types follow from here."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field

Leaving = Literal["deactivate", "delete", "leave alone"]
Text = Annotated[str, Field(max_length=2_000)]


class Given(BaseModel):
    """What is sent to us: unknown fields are an error, so that a misspelt one is not lost."""

    model_config = ConfigDict(extra="forbid", populate_by_name=True)


# Asked for


class PageQuery(BaseModel):
    """Which page of a list."""

    after: str | None = Field(None, description="The cursor that the page before gave as 'next'.")
    count: int = Field(50, ge=1, le=500, description="How many at most.")


class SearchQuery(PageQuery):
    """Which page, of what matches some words."""

    q: str | None = Field(None, max_length=200, description="Words to look for.")


class PeopleQuery(SearchQuery):
    """Which people."""

    state: Literal["active", "inactive", "gone"] | None = None


class GroupsQuery(SearchQuery):
    """Which groups."""

    source: str | None = Field(None, description="Only this source's, by key.")


class AccessQuery(SearchQuery):
    """Which access."""

    application: str | None = None
    role: str | None = None
    person: str | None = Field(None, description="By id.")
    group: str | None = Field(None, description="By id: access in the roles that this group gives.")
    ended: bool = False


class AccountsQuery(SearchQuery):
    """Which accounts."""

    application: str | None = None
    person: str | None = Field(None, description="By id.")
    state: Literal["agreed", "due", "waiting", "failed", "held"] | None = None


class DeliveriesQuery(SearchQuery):
    """Which deliveries."""

    application: str | None = None
    person: str | None = Field(None, description="By id.")
    state: Literal["open", "waiting", "failed", "held", "done", "dropped"] | None = None


class AssignmentsQuery(PageQuery):
    """Which assignments."""

    application: str | None = None
    person: str | None = Field(None, description="By id.")
    group: str | None = Field(None, description="By id.")


class AuditQuery(PageQuery):
    """Which entries of the audit log."""

    kind: str | None = None
    object: str | None = None


class KeyPath(BaseModel):
    """One thing by its key."""

    key: str


class RolePath(KeyPath):
    """One role of an application."""

    role: str


class TokenPath(KeyPath):
    """One token of a source."""

    token_id: str


class IdPath(BaseModel):
    """One thing by its id."""

    id: str


class PersonPath(BaseModel):
    """One person, by id, user name, e-mail or external id."""

    person: str


class WhyPath(PersonPath):
    """One person and one application."""

    application: str


class SignInBody(Given):
    """Name and password of an operator."""

    name: Text
    password: Text


class SourceBody(Given):
    """A source to be added."""

    key: Text = Field(description="Stands in addresses and never changes.")
    label: Text


class LabelBody(Given):
    """A new label."""

    label: Text


class TokenBody(Given):
    """A token to be made."""

    label: Text
    expires_at: Text | None = None


class ApiTokenBody(TokenBody):
    """A token for a program."""

    scope: Literal["read", "write"] = "read"


class ApplicationBody(Given):
    """An application to be added."""

    key: Text
    label: Text
    owner: Text | None = None
    tracked_only: bool = Field(False, description="Provisioned by hand: access is tracked, nothing is delivered.")


class ApplicationChange(Given):
    """What to change of an application; what is left out stays."""

    label: Text | None = None
    owner: Text | None = None
    switched_on: bool | None = None
    create_accounts: bool | None = None
    update_accounts: bool | None = None
    adopt_by_user_name: bool | None = None
    on_losing_access: Leaving | None = None
    on_inactive: Leaving | None = None
    on_gone: Leaving | None = None
    at_a_time: int | None = None


class RemovalQuery(BaseModel):
    """The label, typed to confirm."""

    confirm: str | None = None


class RoleBody(Given):
    """A role to be added; a higher rank may do more."""

    key: Text
    label: Text
    rank: int = Field(1, ge=0, le=1000)


class RoleChange(Given):
    """What to change of a role."""

    label: Text | None = None
    rank: int | None = Field(None, ge=0, le=1000)


class ConnectionBody(Given):
    """Where an application's SCIM service is; without a token the present one is kept, if the host stays."""

    base_url: Text
    token: Annotated[str, Field(max_length=10_000)] | None = None


class AssignmentBody(Given):
    """An assignment to be made: a role of an application for a person or for a group of a source."""

    application: Text
    role: Text
    person: Text | None = Field(None, description="Id, user name, e-mail or external id.")
    group: Text | None = Field(None, description="Id, external id or name.")
    source: Text | None = Field(None, description="The group's source, by key.")
    from_: Text | None = Field(None, alias="from", description="An instant, such as 2031-04-02T09:15:00Z.")
    until: Text | None = Field(None, description="An instant; from then on it gives nothing.")
    note: Text | None = None


class AssignmentChange(Given):
    """From when until when an assignment counts, and its note; all three are replaced."""

    from_: Text | None = Field(None, alias="from")
    until: Text | None = None
    note: Text | None = None


class OperatorBody(Given):
    """An operator to be added; without a password one is made and shown once."""

    name: Text
    kind: Literal["chief", "administrator"]
    password: Text | None = None


# Given


class Problem(BaseModel):
    """What went wrong, and the mend."""

    code: str
    message: str
    mend: str = ""
    field: str | None = None


class ProblemAnswer(BaseModel):
    """An error."""

    error: Problem


class Named(BaseModel):
    """Something by key and label."""

    key: str
    label: str


class PersonRef(BaseModel):
    """A person, in short."""

    id: str
    display_name: str
    user_name: str


class GroupRef(BaseModel):
    """A group, in short."""

    id: str
    name: str
    external_id: str | None = None
    gone: bool = False


class RoleRef(BaseModel):
    """A role, in short."""

    key: str
    label: str
    rank: int


class Session(BaseModel):
    """Who is signed in, and what they may do."""

    name: str
    kind: str
    csrf: str
    permissions: list[str]


class Stage(BaseModel):
    """One stage of the band."""

    name: str
    count: int
    needs: int


class Overview(BaseModel):
    """The whole band."""

    stages: list[Stage]
    active_people: int
    groups: int
    being_worked_out: int


class Source(BaseModel):
    """A source."""

    key: str
    label: str
    channel: str
    created_at: str
    people: int
    groups: int
    last_call_at: str | None


class Token(BaseModel):
    """A token, without its text."""

    id: str
    label: str
    prefix: str
    created_at: str
    expires_at: str | None
    last_used_at: str | None
    revoked_at: str | None


class NewToken(Token):
    """A token at the one time that its text is shown."""

    token: str


class ApiToken(Token):
    """An API token, without its text."""

    scope: str


class NewApiToken(ApiToken):
    """An API token at the one time that its text is shown."""

    token: str


class SheetValue(BaseModel):
    """A value to give to the other side."""

    name: str
    value: str
    note: str


class SheetTick(BaseModel):
    """What real traffic has shown to work, and when."""

    what: str
    label: str
    first_at: str | None
    last_at: str | None


class SheetTrouble(BaseModel):
    """A call that was turned away or lost its way."""

    at: str
    message: str


class ExchangeSheet(BaseModel):
    """The exchange sheet of a push channel."""

    source: Named
    give: list[SheetValue]
    usable_tokens: int
    switch_on: list[str]
    ticks: list[SheetTick]
    trouble: list[SheetTrouble]


class PersonLine(PersonRef):
    """A person as in lists."""

    email: str | None
    state: str
    since: str
    modified_at: str


class PersonAttribute(BaseModel):
    """An attribute and which source gave it."""

    name: str
    value: str
    source: Named | None


class PersonRecord(BaseModel):
    """What one source last said of a person."""

    id: str
    source: Named
    channel: str
    external_id: str | None
    user_name: str | None
    active: bool
    created_at: str
    modified_at: str
    gone_at: str | None


class PersonGroup(BaseModel):
    """A membership, present or past."""

    group: GroupRef
    source: Named | None
    since: str
    until: str | None


class Reason(BaseModel):
    """Why: an assignment, by way of a group or direct."""

    assignment: str
    group: GroupRef | None
    source: Named | None
    through: list[str]
    since: str
    until: str | None
    by: str | None
    note: str | None


class OpenDelivery(BaseModel):
    """The delivery that is open for an account."""

    id: str
    state: str
    message: str | None
    mend: str | None
    next_attempt_at: str | None


class Account(BaseModel):
    """How a person stands in an application."""

    id: str
    person: PersonRef
    application: Named
    should_be: str
    roles: list[str]
    state: str
    due_version: int
    agreed_version: int
    due_since: str
    agreed_at: str | None
    remote_id: str | None
    origin: str | None
    delivery: OpenDelivery | None


class AccountDetail(Account):
    """An account with what is due and what was agreed, whole."""

    due: dict[str, Any]
    agreed: dict[str, Any] | None


class Access(BaseModel):
    """Who has which role where, since when and why."""

    id: str
    person: PersonRef
    application: Named
    role: RoleRef
    since: str
    until: str | None
    reasons: list[Reason]
    account: Account | None


class Person(PersonLine):
    """A person, whole."""

    attributes: list[PersonAttribute]
    records: list[PersonRecord]
    groups: list[PersonGroup]
    access: list[Access]
    ended: list[Access]
    accounts: list[Account]
    being_worked_out: bool


class Way(BaseModel):
    """What would give access: being in a group."""

    assignment: str
    group: GroupRef
    source: Named | None
    role: RoleRef


class Why(BaseModel):
    """What a person has in an application and why, or why not; in sentences too."""

    person: PersonRef
    application: Named
    has_access: bool
    sentences: list[str]
    access: list[Access]
    ended: list[Access]
    account: Account | None
    would_give: list[Way]


class Group(BaseModel):
    """A group."""

    id: str
    name: str
    external_id: str | None
    source: Named | None
    members: int
    assignments: int
    modified_at: str


class ApplicationLine(BaseModel):
    """An application as in lists."""

    key: str
    label: str
    owner: str | None
    tracked_only: bool
    switched_on: bool
    state: str
    people: int
    accounts: int
    waiting: int
    failed: int
    answered_at: str | None
    trouble: str | None
    mend: str | None
    created_at: str


class Role(RoleRef):
    """A role and how many have it."""

    people: int


class Settings(BaseModel):
    """What Dravo may do in an application."""

    switched_on: bool
    create_accounts: bool
    update_accounts: bool
    adopt_by_user_name: bool
    on_losing_access: str
    on_inactive: str
    on_gone: str
    at_a_time: int


class Capabilities(BaseModel):
    """What an application says that it can do."""

    patch: bool
    filter: bool
    bulk: bool
    max_results: int | None


class ConnectionState(BaseModel):
    """The connection to an application."""

    base_url: str | None
    has_secret: bool
    checked_at: str | None
    capabilities: Capabilities | None
    paused_at: str | None
    failures: int
    retry_at: str | None


class Application(ApplicationLine):
    """An application, whole."""

    roles: list[Role]
    settings: Settings
    connection: ConnectionState


class CheckStep(BaseModel):
    """One step of a connection check."""

    name: str
    outcome: str
    message: str
    mend: str


class Check(BaseModel):
    """A connection check."""

    ok: bool
    steps: list[CheckStep]
    capabilities: Capabilities | None


class Assignment(BaseModel):
    """An assignment, and how many people it reaches now."""

    model_config = ConfigDict(populate_by_name=True)

    id: str
    application: Named
    role: RoleRef
    person: PersonRef | None
    group: GroupRef | None
    source: Named | None
    reach: int
    from_: str | None = Field(alias="from")
    until: str | None
    note: str | None
    created_at: str
    created_by: str


class PreviewPerson(BaseModel):
    """Somebody whom a change touches, before and after."""

    person: PersonRef
    before: list[str]
    after: list[str]


class Preview(BaseModel):
    """What a change would do."""

    gained: int
    lost: int
    unchanged: int
    accounts: int
    people: list[PreviewPerson]


class Exchange(BaseModel):
    """One request of an attempt, and how it was answered; without bodies and secrets."""

    method: str
    path: str
    query: dict[str, str] | None
    status: int | None
    milliseconds: int
    said: str | None


class Attempt(BaseModel):
    """One attempt of a delivery."""

    version: int
    started_at: str
    ended_at: str
    outcome: str
    message: str | None
    exchanges: list[Exchange]


class DeliveryLine(BaseModel):
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


class Delivery(DeliveryLine):
    """A delivery with its attempts, newest first."""

    tries: list[Attempt]


class AuditObject(BaseModel):
    """What was changed."""

    kind: str
    id: str


class AuditEntry(BaseModel):
    """Which operator changed what, when."""

    id: int
    at: str
    operator: str
    action: str
    object: AuditObject
    details: dict[str, Any]


class AuditVerdict(BaseModel):
    """Whether the chain of the audit log holds; else the first entry that does not fit."""

    holds: bool
    broken_at: int | None


class Operator(BaseModel):
    """An operator."""

    id: str
    name: str
    kind: str
    created_at: str
    disabled_at: str | None


class NewOperator(Operator):
    """An operator, with the password if one was made; the only time that it is shown."""

    password: str | None


class PageOfSources(BaseModel):
    """A page of sources."""

    items: list[Source]
    total: int
    next: str | None


class PageOfTokens(BaseModel):
    """A page of tokens."""

    items: list[Token]
    total: int
    next: str | None


class PageOfApiTokens(BaseModel):
    """A page of API tokens."""

    items: list[ApiToken]
    total: int
    next: str | None


class PageOfPeople(BaseModel):
    """A page of people."""

    items: list[PersonLine]
    total: int
    next: str | None


class PageOfGroups(BaseModel):
    """A page of groups."""

    items: list[Group]
    total: int
    next: str | None


class PageOfAccess(BaseModel):
    """A page of access."""

    items: list[Access]
    total: int
    next: str | None


class PageOfAccounts(BaseModel):
    """A page of accounts."""

    items: list[Account]
    total: int
    next: str | None


class PageOfApplications(BaseModel):
    """A page of applications."""

    items: list[ApplicationLine]
    total: int
    next: str | None


class PageOfAssignments(BaseModel):
    """A page of assignments."""

    items: list[Assignment]
    total: int
    next: str | None


class PageOfDeliveries(BaseModel):
    """A page of deliveries."""

    items: list[DeliveryLine]
    total: int
    next: str | None


class PageOfAuditEntries(BaseModel):
    """A page of the audit log."""

    items: list[AuditEntry]
    total: int
    next: str | None


class PageOfOperators(BaseModel):
    """A page of operators."""

    items: list[Operator]
    total: int
    next: str | None

"""What the management API gives of deliveries, operators, and what all have in common.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import Any, TypedDict


class ActivityLine(TypedDict):
    """One thing that happened: a request, an attempt of a delivery, a reconciliation, or a change by an operator."""

    id: str
    kind: str
    at: str
    outcome: str
    by: str
    what: str
    detail: str
    source: Named | None
    application: Named | None
    person: ActivityPerson | None
    delivery: str | None
    object: AuditObject | None
    undoable: bool


class ActivityPerson(TypedDict):
    """A person, as a line of the timeline names them."""

    id: str
    name: str


class ApiToken(TypedDict):
    """An API token, without its text."""

    id: str
    label: str
    prefix: str
    created_at: str
    expires_at: str | None
    last_used_at: str | None
    revoked_at: str | None
    operator: TokenOperator
    scope: str
    permissions: list[str] | None


class ApplicationLine(TypedDict):
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
    secret_ends_at: str | None
    trouble: str | None
    mend: str | None
    created_at: str


class Attempt(TypedDict):
    """One attempt of a delivery."""

    version: int
    started_at: str
    ended_at: str
    outcome: str
    message: str | None
    exchanges: list[Exchange]


class AuditEntry(TypedDict):
    """Which operator changed what, when."""

    id: int
    at: str
    operator: str
    action: str
    object: AuditObject
    details: dict[str, Any]


class AuditObject(TypedDict):
    """What was changed."""

    kind: str
    id: str


class AuditVerdict(TypedDict):
    """Whether the chain of the audit log holds; else the first entry that does not fit."""

    holds: bool
    broken_at: int | None


class Delivery(TypedDict):
    """A delivery with its attempts, newest first."""

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
    tries: list[Attempt]


class DeliveryLine(TypedDict):
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


class Exchange(TypedDict):
    """One request of an attempt, and how it was answered; without bodies and secrets."""

    method: str
    path: str
    query: dict[str, str] | None
    status: int | None
    milliseconds: int
    said: str | None
    together: int | None


class ExchangeSheet(TypedDict):
    """The exchange sheet of a push channel."""

    source: Named
    give: list[SheetValue]
    usable_tokens: int
    switch_on: list[str]
    ticks: list[SheetTick]
    trouble: list[SheetTrouble]
    text: str


class Flow(TypedDict):
    """The flow picture as it was counted last; each role that somebody has is counted once."""

    at: str | None
    nodes: list[FlowNode]
    bands: list[FlowBand]


class FlowBand(TypedDict):
    """So many people flow from one place to another."""

    from_id: str
    to_id: str
    people: int


class FlowNode(TypedDict):
    """A place in the flow picture: a source, a group or another way, a role, an application; without `key` it bundles several."""

    id: str
    stage: str
    kind: str
    key: str | None
    application: str | None
    label: str
    people: int


class GroupRef(TypedDict):
    """A group, in short."""

    id: str
    name: str
    external_id: str | None
    gone: bool


class Left(TypedDict):
    """Where a browser goes to sign out at the provider too; empty where there is none."""

    go_to: str


class LinkOffer(TypedDict):
    """A source to which one could link oneself; `start` is where a browser with one's session begins, "" for programs."""

    key: str
    label: str
    start: str


class MailSettings(TypedDict):
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


class MailTested(TypedDict):
    """The same, after a letter was handed over."""

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
    sent_to: str


class Named(TypedDict):
    """Something by key and label."""

    key: str
    label: str


class NewApiToken(TypedDict):
    """An API token at the one time that its text is shown."""

    id: str
    label: str
    prefix: str
    created_at: str
    expires_at: str | None
    last_used_at: str | None
    revoked_at: str | None
    operator: TokenOperator
    scope: str
    permissions: list[str] | None
    token: str


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
    state: str


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


class Overview(TypedDict):
    """The whole band."""

    stages: list[Stage]
    active_people: int
    groups: int
    being_worked_out: int


class PageOfActivity(TypedDict):
    """A page of the timeline."""

    items: list[ActivityLine]
    total: int
    next: str | None


class PageOfApiTokens(TypedDict):
    """A page of API tokens."""

    items: list[ApiToken]
    total: int
    next: str | None


class PageOfApplications(TypedDict):
    """A page of applications."""

    items: list[ApplicationLine]
    total: int
    next: str | None


class PageOfAuditEntries(TypedDict):
    """A page of the audit log."""

    items: list[AuditEntry]
    total: int
    next: str | None


class PageOfDeliveries(TypedDict):
    """A page of deliveries."""

    items: list[DeliveryLine]
    total: int
    next: str | None


class PageOfOperators(TypedDict):
    """A page of operators."""

    items: list[Operator]
    total: int
    next: str | None


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


class PersonRef(TypedDict):
    """A person, in short."""

    id: str
    display_name: str
    user_name: str


class Problem(TypedDict):
    """What went wrong, and the mend."""

    code: str
    message: str
    mend: str
    field: str | None


class ProblemAnswer(TypedDict):
    """An error."""

    error: Problem


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


class RecoveryCodes(TypedDict):
    """Codes for the day on which the app is lost, each good once; shown once."""

    recovery_codes: list[str]


class Role(TypedDict):
    """A role and how many have it."""

    key: str
    label: str
    rank: int
    people: int


class RoleRef(TypedDict):
    """A role, in short."""

    key: str
    label: str
    rank: int


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


class SharedDomain(TypedDict):
    """An email domain that several sources own."""

    domain: str
    sources: list[Named]


class SheetTick(TypedDict):
    """What real traffic has shown to work, and when."""

    what: str
    label: str
    first_at: str | None
    last_at: str | None


class SheetTrouble(TypedDict):
    """A call that was turned away or lost its way."""

    at: str
    message: str


class SheetValue(TypedDict):
    """A value to give to the other side."""

    name: str
    value: str
    note: str


class Source(TypedDict):
    """A source; `read_as` is the kind of reader where it is read, with how its last run ended."""

    key: str
    label: str
    domains: list[str]
    channel: str
    sign_in_state: str | None
    signed_in_at: str | None
    certificate_ends_at: str | None
    sign_in_needs: str | None
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
    last_activity_at: str | None
    shared_domains: list[SharedDomain]
    token_ends_at: str | None


class Stage(TypedDict):
    """One stage of the band."""

    name: str
    count: int
    needs: int


class TokenOperator(TypedDict):
    """The operator to whom a token belongs."""

    id: str
    name: str


class Work(TypedDict):
    """How far work is: how many of how many people were looked at."""

    done: int
    total: int

"""What the management API gives, as types. Made from its OpenAPI document by tools/make_types.py; not edited by hand."""

from __future__ import annotations

from typing import Any, TypedDict


class Access(TypedDict):
    """Who has which role where, since when and why."""

    id: str
    person: PersonRef
    application: Named
    role: RoleRef
    since: str
    until: str | None
    reasons: list[Reason]
    account: Account | None


class Account(TypedDict):
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


class AccountDetail(TypedDict):
    """An account with what is due and what was agreed, whole."""

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
    due: dict[str, Any]
    agreed: dict[str, Any] | None


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
    scope: str


class Application(TypedDict):
    """An application, whole."""

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
    drifting: int
    answered_at: str | None
    trouble: str | None
    mend: str | None
    created_at: str
    roles: list[Role]
    policy: Policy
    settings: Settings
    connection: ConnectionState


class ApplicationLine(TypedDict):
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
    drifting: int
    answered_at: str | None
    trouble: str | None
    mend: str | None
    created_at: str


# Who gets a role, is let in, or is kept out; and how many people that reaches now.
Assignment = TypedDict("Assignment", {"id": "str", "application": "Named", "kind": "str", "excludes": "bool", "role": "RoleRef | None", "person": "PersonRef | None", "group": "GroupRef | None", "source": "Named | None", "rule": "str | None", "pattern": "str | None", "confirmed": "list[str]", "newcomers_since": "str | None", "groups": "list[PatternGroup] | None", "notes": "list[Note]", "reach": "int | None", "from": "str | None", "until": "str | None", "from_day": "str | None", "until_day": "str | None", "note": "str | None", "created_at": "str", "created_by": "str"})


class Attempt(TypedDict):
    """One attempt of a delivery."""

    version: int
    started_at: str
    ended_at: str
    outcome: str
    message: str | None
    exchanges: list[Exchange]


class AttributeRow(TypedDict):
    """An attribute of the account, and the expression that makes it; an empty one leaves it out."""

    attribute: str
    expression: str


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


class Bulk(TypedDict):
    """What came of many lines: each by itself, and what they would do together."""

    lines: list[BulkLine]
    preview: Preview | None
    done: int


class BulkLine(TypedDict):
    """One line of what was pasted."""

    number: int
    source: str
    group: str
    role: str
    state: str
    message: str


class Capabilities(TypedDict):
    """What an application says that it can do; `notes` say in sentences what it cannot, and what is done instead."""

    patch: bool
    filter: bool
    bulk: bool
    sort: bool
    etag: bool
    cursor: bool
    max_results: int | None
    groups: bool
    attributes: list[str] | None
    roles: str
    notes: list[str]


class ChangedAttribute(TypedDict):
    """An attribute of an account before and after."""

    attribute: str
    before: Any
    after: Any


class Check(TypedDict):
    """A connection check."""

    ok: bool
    steps: list[CheckStep]
    capabilities: Capabilities | None


class CheckStep(TypedDict):
    """One step of a connection check."""

    name: str
    outcome: str
    message: str
    mend: str


class ConnectionState(TypedDict):
    """The connection to an application."""

    base_url: str | None
    has_secret: bool
    auth: SignInWay
    secret_expires_at: str | None
    checked_at: str | None
    capabilities: Capabilities | None
    paused_at: str | None
    failures: int
    retry_at: str | None


class DeliveredGroup(TypedDict):
    """A group as it goes over: of a source ("group") or a role's people ("role"); `going`: it is to go there."""

    id: str
    kind: str
    of: str
    name: str
    going: bool
    state: str
    members: int
    members_there: int
    remote_id: str | None
    origin: str | None
    agreed_at: str | None
    next_attempt_at: str | None
    message: str | None
    mend: str | None
    exchanges: list[Exchange]


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


class DriftLine(TypedDict):
    """A difference: missing, unexpected, different, role or state; of whom, and in what (before: there; after: as it should be)."""

    id: str
    kind: str
    state: str
    name: str
    person: str | None
    account: str | None
    remote_id: str | None
    there: dict[str, Any]
    changes: list[ChangedAttribute]
    first_seen_at: str
    last_seen_at: str


class Exchange(TypedDict):
    """One request of an attempt, and how it was answered; without bodies and secrets."""

    method: str
    path: str
    query: dict[str, str] | None
    status: int | None
    milliseconds: int
    said: str | None


class ExchangeSheet(TypedDict):
    """The exchange sheet of a push channel."""

    source: Named
    give: list[SheetValue]
    usable_tokens: int
    switch_on: list[str]
    ticks: list[SheetTick]
    trouble: list[SheetTrouble]
    text: str


class Expected(TypedDict):
    """What somebody would have."""

    active: bool
    items: list[ExpectedRole]


class ExpectedRole(TypedDict):
    """A role that somebody would get, why, and what would become of the account."""

    application: Named
    role: RoleRef
    reasons: list[str]
    account: str | None


class Group(TypedDict):
    """A group."""

    id: str
    name: str
    external_id: str | None
    source: Named | None
    members: int
    assignments: int
    modified_at: str


class GroupOver(TypedDict):
    """A group that goes over, perhaps under another name."""

    group: str
    name: str | None


class GroupRef(TypedDict):
    """A group, in short."""

    id: str
    name: str
    external_id: str | None
    gone: bool


class GroupsOver(TypedDict):
    """Which groups go over."""

    which: str
    groups: list[GroupOver]


class GuardItem(TypedDict):
    """What is held for one application."""

    application: Named
    number: int
    since: str
    message: str
    people: list[HeldPerson]


class GuardListing(TypedDict):
    """What the guard holds."""

    items: list[GuardItem]


class HeldPerson(TypedDict):
    """Somebody whose removal is held, and what the account is to become."""

    person: PersonRef
    aim: str


class HouseSettings(TypedDict):
    """Every setting of the house."""

    items: list[Setting]


class Matrix(TypedDict):
    """A page of the matrix, with its columns."""

    items: list[MatrixPerson]
    total: int
    next: str | None
    applications: list[Named]
    whole: bool


class MatrixPerson(TypedDict):
    """A person with their roles, by application."""

    id: str
    display_name: str
    user_name: str
    email: str | None
    state: str
    since: str
    modified_at: str
    roles: dict[str, list[str]]


class Move(TypedDict):
    """Somebody who has other roles in an application at one instant than at an earlier one, and by what."""

    id: str
    person: PersonRef
    application: Named
    what: str
    before: list[str]
    after: list[str]
    at: str
    reasons: list[str]


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
    scope: str
    token: str


class NewOperator(TypedDict):
    """An operator, with the password if one was made; the only time that it is shown."""

    id: str
    name: str
    kind: str
    masked: bool
    applications: list[str]
    created_at: str
    disabled_at: str | None
    password: str | None


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


class Note(TypedDict):
    """What is amiss, and the mend."""

    what: str
    mend: str


class Number(TypedDict):
    """How many."""

    number: int


class OpenDelivery(TypedDict):
    """The delivery that is open for an account."""

    id: str
    state: str
    message: str | None
    mend: str | None
    next_attempt_at: str | None


class Operator(TypedDict):
    """An operator."""

    id: str
    name: str
    kind: str
    masked: bool
    applications: list[str]
    created_at: str
    disabled_at: str | None


class Overview(TypedDict):
    """The whole band."""

    stages: list[Stage]
    active_people: int
    groups: int
    being_worked_out: int


class PageOfAccess(TypedDict):
    """A page of access."""

    items: list[Access]
    total: int
    next: str | None


class PageOfAccounts(TypedDict):
    """A page of accounts."""

    items: list[Account]
    total: int
    next: str | None


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


class PageOfAssignments(TypedDict):
    """A page of assignments."""

    items: list[Assignment]
    total: int
    next: str | None


class PageOfAuditEntries(TypedDict):
    """A page of the audit log."""

    items: list[AuditEntry]
    total: int
    next: str | None


class PageOfDeliveredGroups(TypedDict):
    """A page of delivered groups."""

    items: list[DeliveredGroup]
    total: int
    next: str | None


class PageOfDeliveries(TypedDict):
    """A page of deliveries."""

    items: list[DeliveryLine]
    total: int
    next: str | None


class PageOfDrift(TypedDict):
    """A page of differences."""

    items: list[DriftLine]
    total: int
    next: str | None


class PageOfGroups(TypedDict):
    """A page of groups."""

    items: list[Group]
    total: int
    next: str | None


class PageOfMoves(TypedDict):
    """A page of changes by person; the total counts people."""

    items: list[Move]
    total: int
    next: str | None


class PageOfOperators(TypedDict):
    """A page of operators."""

    items: list[Operator]
    total: int
    next: str | None


class PageOfPeople(TypedDict):
    """A page of people."""

    items: list[PersonLine]
    total: int
    next: str | None


class PageOfRuns(TypedDict):
    """A page of runs."""

    items: list[Run]
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


class PageOfTraces(TypedDict):
    """A page of traces."""

    items: list[TraceLine]
    total: int
    next: str | None


class PatternGroup(TypedDict):
    """A group whose name fits a pattern, and what the pattern makes of it."""

    group: GroupRef
    outcome: str
    captured: str
    role: str | None


class PatternTried(TypedDict):
    """What a pattern makes of the groups of a source."""

    pattern: str
    reach: int
    groups: list[PatternGroup]
    notes: list[Note]


class Person(TypedDict):
    """A person, whole."""

    id: str
    display_name: str
    user_name: str
    email: str | None
    state: str
    since: str
    modified_at: str
    attributes: list[PersonAttribute]
    records: list[PersonRecord]
    groups: list[PersonGroup]
    access: list[Access]
    ended: list[Access]
    accounts: list[Account]
    being_worked_out: bool


class PersonAttribute(TypedDict):
    """An attribute and which source gave it."""

    name: str
    value: str
    source: Named | None


class PersonGroup(TypedDict):
    """A membership, present or past."""

    group: GroupRef
    source: Named | None
    since: str
    until: str | None


class PersonLine(TypedDict):
    """A person as in lists."""

    id: str
    display_name: str
    user_name: str
    email: str | None
    state: str
    since: str
    modified_at: str


class PersonRecord(TypedDict):
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


class PersonRef(TypedDict):
    """A person, in short."""

    id: str
    display_name: str
    user_name: str


class Policy(TypedDict):
    """How access is decided: who may come in, what if nothing gives a role, which of several roles, which assignments are heard."""

    open_to: str
    if_nothing: str
    default_role: str | None
    several: str
    first: str


class Preview(TypedDict):
    """What a change would do: how many people gain access, lose it, or have other roles."""

    application: Named
    gained: int
    lost: int
    changed: int
    unchanged: int
    accounts: int
    taken: int
    top_gained: int
    confirm: str
    people: list[PreviewPerson]


class PreviewPerson(TypedDict):
    """Somebody whom a change touches, before and after."""

    what: str
    person: PersonRef
    before: list[str]
    after: list[str]


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


class Reached(TypedDict):
    """Whom a rule reaches now."""

    rule: str
    reach: int
    people: list[PersonRef]


class Reason(TypedDict):
    """Why: an assignment of some kind; or that a role was the default, or was kept."""

    kind: str
    assignment: str | None
    rule: str | None
    group: GroupRef | None
    source: Named | None
    through: list[str]
    since: str
    until: str | None
    by: str | None
    note: str | None


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


class RolesAs(TypedDict):
    """How roles go over."""

    way: str
    attribute: str | None
    which: str
    shape: str
    value: str


class Run(TypedDict):
    """One reconciliation: how far it is, and how many differences of each kind it found."""

    id: str
    state: str
    asked_by: str
    asked_at: str
    started_at: str | None
    ended_at: str | None
    progress: int
    read: int
    counts: dict[str, int]
    message: str | None
    mend: str | None


class Seen(TypedDict):
    """What was seen in the preview."""

    gained: int
    lost: int
    changed: int


class Session(TypedDict):
    """Who is signed in, and what they may do."""

    name: str
    kind: str
    csrf: str
    permissions: list[str]
    applications: list[str] | None


class Setting(TypedDict):
    """A setting of the house."""

    name: str
    label: str
    kind: str
    value: int | str
    default: int | str
    least: int
    most: int


class Settings(TypedDict):
    """What Dravo may do in an application, and what goes over."""

    switched_on: bool
    create_accounts: bool
    update_accounts: bool
    adopt_by_user_name: bool
    adopt_groups: bool
    on_losing_access: str
    on_inactive: str
    on_gone: str
    at_a_time: int
    per_second: int
    attributes: list[AttributeRow]
    roles_as: RolesAs
    groups_over: GroupsOver
    reconcile_at: str
    reconcile_in_words: str
    reconcile_next_at: str | None
    reconcile_times: list[str]


class SettingsPreview(TypedDict):
    """What a change of settings would do: so many accounts of so many; the first of them by name. `whole`: all were looked at."""

    accounts: int
    changed: int
    whole: bool
    people: list[SettingsPreviewPerson]


class SettingsPreviewPerson(TypedDict):
    """What a change of settings would do to one account."""

    person: PersonRef
    before: str
    after: str
    changes: list[ChangedAttribute]


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


class SignInWay(TypedDict):
    """How Dravo signs in to an application; the secret itself is not shown."""

    kind: str
    user: str | None
    token_url: str | None
    client_id: str | None
    scope: str | None


class Source(TypedDict):
    """A source."""

    key: str
    label: str
    channel: str
    created_at: str
    people: int
    groups: int
    last_call_at: str | None


class SourceSchema(TypedDict):
    """An extension schema that was added to a source; `kind` is what it belongs to, User or Group."""

    urn: str
    kind: str
    name: str
    document: dict[str, Any]


class SourceSchemas(TypedDict):
    """The extension schemas of a source."""

    items: list[SourceSchema]


class Stage(TypedDict):
    """One stage of the band."""

    name: str
    count: int
    needs: int


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


class Tried(TypedDict):
    """An expression tried on a person: its result (null: missing), what it does in words, and the attributes that it reads."""

    result: Any
    words: str
    uses: list[str]
    person: PersonRef | None


class TroubleKind(TypedDict):
    """Open deliveries of one application that failed by one kind of trouble: how many, and one in its own words."""

    application: Named
    kind: str
    state: str
    number: int
    message: str
    mend: str


class TroubleKinds(TypedDict):
    """What open deliveries failed by."""

    items: list[TroubleKind]


class Way(TypedDict):
    """What would give access: being in a group, or meeting a rule."""

    assignment: str
    group: GroupRef | None
    source: Named | None
    rule: str | None
    role: RoleRef | None


class Why(TypedDict):
    """What a person has in an application and why, or why not; in sentences too."""

    person: PersonRef
    application: Named
    has_access: bool
    sentences: list[str]
    access: list[Access]
    ended: list[Access]
    account: Account | None
    would_give: list[Way]

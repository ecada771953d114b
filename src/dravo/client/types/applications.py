"""What the management API gives of applications.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, TypedDict

if TYPE_CHECKING:
    from dravo.client.types.house import Exchange, Named, PersonRef, Role


class Application(TypedDict):
    """An application, whole."""

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
    roles: list[Role]
    plans: list[Plan]
    policy: Policy
    settings: Settings
    connection: ConnectionState


class AttributeRow(TypedDict):
    """An attribute of the account, and the expression that makes it; an empty one leaves it out."""

    attribute: str
    expression: str


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


class GroupOver(TypedDict):
    """A group that goes over, perhaps under another name."""

    group: str
    name: str | None


class GroupsOver(TypedDict):
    """Which groups go over."""

    which: str
    groups: list[GroupOver]


class Number(TypedDict):
    """How many."""

    number: int


class PageOfDeliveredGroups(TypedDict):
    """A page of delivered groups."""

    items: list[DeliveredGroup]
    total: int
    next: str | None


class PageOfSeats(TypedDict):
    """A page of seats."""

    items: list[Seat]
    total: int
    next: str | None


class Plan(TypedDict):
    """A plan with its seats; `state` says whether there are free ones: "free", "short" or "full"."""

    key: str
    label: str
    rank: int
    seats: int | None
    taken: int
    waiting: int
    free: int | None
    state: str


class Policy(TypedDict):
    """How access is decided: who may come in, what if nothing gives a role, which of several roles, which assignments are heard."""

    open_to: str
    if_nothing: str
    default_role: str | None
    several: str
    first: str


class ProvisioningSummary(TypedDict):
    """How much provisioning is pending: tasks for accounts, and groups that are provisioned."""

    settled: bool
    recomputing: int
    waiting: int
    stopped: int
    failed: int
    held: int
    unresolved: int


class RolesAs(TypedDict):
    """How roles go over."""

    way: str
    attribute: str | None
    which: str
    shape: str
    value: str


class Seat(TypedDict):
    """A seat that somebody has since then, or for which they wait at that place in the line."""

    id: str
    person: PersonRef
    plan: Named
    asked_at: str
    since: str | None
    place: int | None


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
    plans_as: RolesAs
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


class SignInWay(TypedDict):
    """How Dravo signs in to an application; the secret itself is not shown."""

    kind: str
    user: str | None
    token_url: str | None
    client_id: str | None
    scope: str | None


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

"""What the management API gives of an application as a whole: its settings, its connection, what goes over to it."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from dravo.web.api.base import Model
from dravo.web.api.models import ApplicationLine, Exchange, Named, Page, PersonRef, Role


class AttributeRow(Model):
    """An attribute of the account, and the expression that makes it; an empty one leaves it out."""

    attribute: str
    expression: str


class RolesAs(Model):
    """How roles go over."""

    way: str
    attribute: str | None
    which: str
    shape: str
    value: str


class Plan(Named):
    """A plan with its seats; `state` says whether there are free ones: "free", "short" or "full"."""

    rank: int
    seats: int | None
    taken: int
    waiting: int
    free: int | None
    state: Literal["free", "short", "full"]


class Seat(Model):
    """A seat that somebody has since then, or for which they wait at that place in the line."""

    id: str
    person: PersonRef
    plan: Named
    asked_at: str
    since: str | None
    place: int | None


class PageOfSeats(Page[Seat]):
    """A page of seats."""


class GroupOver(Model):
    """A group that goes over, perhaps under another name."""

    group: str
    name: str | None = None


class GroupsOver(Model):
    """Which groups go over."""

    which: str
    groups: list[GroupOver]


class Settings(Model):
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


class Capabilities(Model):
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


class SignInWay(Model):
    """How Dravo signs in to an application; the secret itself is not shown."""

    kind: str
    user: str | None = None
    token_url: str | None = None
    client_id: str | None = None
    scope: str | None = None


class ConnectionState(Model):
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


class Policy(Model):
    """How access is decided: who may come in, what if nothing gives a role, which of several roles, which assignments are heard."""

    open_to: Literal["assigned", "everybody"]
    if_nothing: Literal["no access", "default role", "keep"]
    default_role: str | None
    several: Literal["all", "highest"]
    first: Literal["both", "direct", "rules"]


class Application(ApplicationLine):
    """An application, whole."""

    roles: list[Role]
    plans: list[Plan]
    policy: Policy
    settings: Settings
    connection: ConnectionState


class CheckStep(Model):
    """One step of a connection check."""

    name: str
    outcome: str
    message: str
    mend: str


class Check(Model):
    """A connection check."""

    ok: bool
    steps: list[CheckStep]
    capabilities: Capabilities | None


class ChangedAttribute(Model):
    """An attribute of an account before and after."""

    attribute: str
    before: Any
    after: Any


class SettingsPreviewPerson(Model):
    """What a change of settings would do to one account."""

    person: PersonRef
    before: str
    after: str
    changes: list[ChangedAttribute]


class SettingsPreview(Model):
    """What a change of settings would do: so many accounts of so many; the first of them by name. `whole`: all were looked at."""

    accounts: int
    changed: int
    whole: bool
    people: list[SettingsPreviewPerson]


class DeliveredGroup(Model):
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


class PageOfDeliveredGroups(Page[DeliveredGroup]):
    """A page of delivered groups."""


class TroubleKind(Model):
    """Open deliveries of one application that failed by one kind of trouble: how many, and one in its own words."""

    application: Named
    kind: str
    state: str
    number: int
    message: str
    mend: str


class TroubleKinds(Model):
    """What open deliveries failed by."""

    items: list[TroubleKind]


class ProvisioningSummary(Model):
    """How much provisioning is pending: tasks for accounts, and groups that are provisioned."""

    settled: bool = Field(description="Whether nothing is pending: no user is being recomputed, and no task is waiting that Dravo processes itself.")
    recomputing: int = Field(description="Users whose access is being recomputed.")
    waiting: int = Field(description="Tasks that Dravo processes by itself, with those that wait for a retry.")
    stopped: int = Field(description="Tasks that wait until their application is enabled, connected or resumed.")
    failed: int = Field(description="Tasks that the application refused.")
    held: int = Field(description="Tasks that are held until an operator approves them or changes a setting.")
    unresolved: int = Field(description="Tasks whose outcome Dravo could not learn; an operator resolves them.")


class Number(Model):
    """How many."""

    number: int


class Tried(Model):
    """An expression tried on a person: its result (null: missing), what it does in words, and the attributes that it reads."""

    result: Any
    words: str
    uses: list[str]
    person: PersonRef | None

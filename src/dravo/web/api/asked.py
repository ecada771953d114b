"""What the management API takes: queries, paths and bodies; the OpenAPI document follows from here."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import ConfigDict, Field

from dravo.web.api.base import Model

Leaving = Literal["deactivate", "delete", "leave alone"]
Text = Annotated[str, Field(max_length=2_000)]


class Given(Model):
    """What is sent to us: unknown fields are an error, so that a misspelt one is not lost."""

    model_config = ConfigDict(extra="forbid", populate_by_name=True)


class PageQuery(Model):
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
    mapped: Literal["yes", "no"] | None = Field(None, description="Only groups that an assignment names, or only those that none does.")


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

    direct: bool = Field(False, description="Only those to single people.")

    application: str | None = None
    person: str | None = Field(None, description="By id.")
    group: str | None = Field(None, description="By id.")


class AuditQuery(PageQuery):
    """Which entries of the audit log."""

    kind: str | None = None
    object: str | None = None


class ActivityQuery(PageQuery):
    """What of the timeline."""

    kind: Literal["request", "delivery", "reconciliation", "change", "run"] | None = None
    source: str | None = Field(None, description="Only what this source had to do with, by key.")
    application: str | None = Field(None, description="Only what this application had to do with, by key.")
    person: str | None = Field(None, description="Only what this person had to do with, by id.")
    trouble: bool = Field(False, description="Only what did not go well.")
    until: str | None = Field(None, description="Only what happened before this instant, or up to the end of this day.")


class EntryPath(Model):
    """One entry of the audit log."""

    id: int = Field(ge=0, le=2**62)


class KeyPath(Model):
    """One thing by its key."""

    key: str


class RolePath(KeyPath):
    """One role of an application."""

    role: str


class TokenPath(KeyPath):
    """One token of a source."""

    token_id: str


class IdPath(Model):
    """One thing by its id."""

    id: str


class WorkPath(Model):
    """The name under which work is waited for."""

    id: str = Field(max_length=64)


class PersonPath(Model):
    """One person, by id, user name, e-mail or external id."""

    person: str


class WhyPath(PersonPath):
    """One person and one application."""

    application: str


class SignInBody(Given):
    """Name and password of an operator."""

    name: Text
    password: Text
    code: str = Field("", max_length=60, description="Of the second factor, where there is one; or a recovery code.")


class SourceBody(Given):
    """A source to be added."""

    key: Text = Field(description="Stands in addresses and never changes.")
    label: Text


class SourceChangeBody(Given):
    """Changes of a source; fields that are left out stay as they are."""

    label: Text | None = None
    domains: list[Text] | None = Field(None, description="All email domains that the source owns, such as fernhollow.example.")


class TokenBody(Given):
    """A token to be made."""

    label: Text
    expires_at: Text | None = None


class PushTokenBody(TokenBody):
    """A push token to be made."""

    kinds: Literal["users", "groups", "both"] = "both"
    access: Literal["read", "write"] = "write"


class SchemaBody(Given):
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


class SettingPath(Model):
    """One setting by its name."""

    name: str


class CodeBody(Given):
    """A code of a second factor, or a recovery code."""

    code: str = Field(max_length=60)


class RenewCodesBody(Given):
    """A code of one's second factor, where one has it."""

    code: str = Field("", max_length=60)


class OnlyBySourceBody(Given):
    """Whether one comes in by a source alone."""

    only_by_source: bool


class SettingBody(Given):
    """A setting's value."""

    value: int | Annotated[str, Field(max_length=300)]


class ApiTokenBody(TokenBody):
    """A token for a program."""

    scope: Literal["read", "write"] = "read"
    permissions: list[Text] | None = Field(None, description="The permissions to which the token is limited; left out: all that you have.")


class TokensQuery(PageQuery):
    """Which API tokens to list."""

    whose: Literal["own", "all"] = Field("own", description="Your own, or those of all operators (needs operators.read).")


class ApplicationBody(Given):
    """An application to be added."""

    key: Text
    label: Text
    owner: Text | None = None
    tracked_only: bool = Field(False, description="Provisioned by hand: access is tracked, nothing is delivered.")


class AttributeRow(Given):
    """An attribute of accounts, and the expression that makes it; an empty one leaves it out."""

    attribute: Text
    expression: Text


class RolesAs(Given):
    """How roles go over."""

    way: Literal["roles", "entitlements", "groups", "attribute", "nothing"] = "roles"
    attribute: Text | None = None
    which: Literal["all", "highest"] = "all"
    shape: Literal["as it says", "objects", "texts"] = "as it says"
    value: Literal["key", "label"] = "key"


class GroupOver(Given):
    """A group that goes over, perhaps under another name."""

    group: Text
    name: Text | None = None


class GroupsOver(Given):
    """Which groups go over."""

    which: Literal["none", "those that give roles", "chosen"]
    groups: list[GroupOver] = Field(default_factory=list, max_length=1_000)


class SettingsBody(Given):
    """Settings of an application; what is left out stays."""

    switched_on: bool | None = None
    create_accounts: bool | None = None
    update_accounts: bool | None = None
    adopt_by_user_name: bool | None = None
    adopt_groups: bool | None = None
    on_losing_access: Leaving | None = None
    on_inactive: Leaving | None = None
    on_gone: Leaving | None = None
    at_a_time: int | None = None
    per_second: int | None = Field(None, description="Requests a second at the most; 0 for no limit.")
    attributes: list[AttributeRow] | None = Field(None, max_length=200)
    roles_as: RolesAs | None = None
    plans_as: RolesAs | None = Field(None, description="How the plan of which somebody has a seat goes over.")
    groups_over: GroupsOver | None = None
    reconcile_at: Text | None = Field(None, description="A cron expression; empty for never.")


class ApplicationChange(SettingsBody):
    """What to change of an application; what is left out stays."""

    label: Text | None = None
    owner: Text | None = None
    address: Text | None = Field(None, description="Where people open it; empty: none.")
    hidden: bool | None = Field(None, description="Not shown among people's own applications.")


class CheckQuery(Model):
    """Whether to try with a test person."""

    with_test_person: bool = False


class OfApplicationPath(KeyPath):
    """Something of an application, by its id."""

    id: str


class ExpressionBody(Given):
    """An expression to be tried on a person (by id, user name or e-mail), perhaps for an attribute of accounts."""

    expression: Annotated[str, Field(max_length=4_000)]
    person: Text | None = None
    attribute: Text | None = None
    source: Text | None = Field(None, description="Over what this source says of them, instead of what they are here.")


class DriftQuery(PageQuery):
    """Which differences; without a state those that are not ignored."""

    kind: (
        Literal["missing", "unexpected", "different", "role", "state", "group missing", "group name", "group members", "group unexpected"] | None
    ) = None
    state: Literal["open", "mending", "ignored"] | None = None


class DriftBody(Given):
    """Some differences, by id."""

    ids: list[Text] = Field(min_length=1, max_length=1_000)


class IgnoreBody(DriftBody):
    """Some differences to be ignored, or no longer."""

    ignored: bool = True


class LinkBody(Given):
    """Whose account it is: a person by id, user name or e-mail."""

    person: Text


class KindsQuery(Model):
    """Of which application; without one, of all."""

    application: str | None = None


class ProvisioningSummaryQuery(Model):
    """Of which application, and how long to wait."""

    application: str | None = Field(None, description="The key of an application; without it, all applications are counted.")
    wait: float = Field(0, ge=0, le=60, description="Answer only when nothing is pending, or after this many seconds (0 to 60).")


class AgainBody(Given):
    """Which deliveries to try again: of an application, and of one kind of trouble if that is said."""

    application: Text
    kind: Text | None = None


class FoundBody(Given):
    """What was found where it could not be known whether an account was made."""

    found: Literal["there", "not there"]
    remote_id: Text | None = None


class SignInWay(Given):
    """How Dravo signs in to an application."""

    kind: Literal["bearer", "basic", "client credentials"] = "bearer"
    user: Text | None = None
    token_url: Text | None = None
    client_id: Text | None = None
    scope: Text | None = None


class RemovalQuery(Model):
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
    token: Annotated[str, Field(max_length=10_000)] | None = Field(None, description="The token, the password or the client's secret.")
    auth: SignInWay | None = None
    expires_at: Text | None = None


class Seen(Given):
    """What was seen in the preview."""

    gained: int
    lost: int
    changed: int


class SureBody(Given):
    """What goes with a change that was looked at first."""

    confirm: Text | None = Field(None, description="The application's label, typed, where the change is grave.")
    expect: Seen | None = Field(None, description="What the preview said; if it would do other than that now, nothing is done.")


class SureQuery(Model):
    """What goes with a removal that was looked at first."""

    confirm: str | None = Field(None, max_length=2_000, description="The application's label, typed, where the change is grave.")
    gained: int | None = None
    lost: int | None = None
    changed: int | None = None


class AssignmentBody(SureBody):
    """An assignment to be made: for a person, a group of a source, everybody, a rule, or a pattern of a source's groups."""

    application: Text
    role: Text | None = Field(None, description="By key. Without one they are let in only; a pattern says the role itself.")
    plan: Text | None = Field(None, description="By key, where the application has plans with seats.")
    person: Text | None = Field(None, description="Id, user name, e-mail or external id.")
    group: Text | None = Field(None, description="Id, external id or name.")
    source: Text | None = Field(None, description="By key: the group's source, or for a rule the source that must report the attributes.")
    everybody: bool = False
    rule: Text | None = Field(None, description='A SCIM filter over the person, such as department eq "Herbarium".')
    pattern: Text | None = Field(None, description="A pattern of group names of the source; its captured part is the role's key.")
    excludes: bool = Field(False, description="Keep them out instead.")
    newcomers_only: bool = Field(False, description="Only people who come from now on.")
    future_users: bool = Field(
        False, description="Of a rule with a source: users who come to meet it later get even the highest role without confirmation."
    )
    confirmed: list[Text] = Field([], description="Groups, by id, that may give the highest role by a pattern.")
    from_: Text | None = Field(None, alias="from", description="An instant, such as 2031-04-02T09:15:00Z, or a day.")
    until: Text | None = Field(None, description="An instant; from then on it gives nothing. Or a day, which still counts whole.")
    note: Text | None = None


class AssignmentChange(SureBody):
    """From when until when an assignment counts, and its note; all three are replaced. What else is left out stays."""

    from_: Text | None = Field(None, alias="from")
    until: Text | None = None
    note: Text | None = None
    confirmed: list[Text] | None = Field(None, description="Of a pattern: groups, by id, that may give the highest role.")
    plan: Text | None = Field(None, description="By key; empty for none.")


class ConfirmUsersBody(SureBody):
    """Users who meet a rule and are to get its role."""

    users: list[Text] | None = Field(None, description="By id; left out: all who wait now.")


class MatrixQuery(SearchQuery):
    """What of the matrix."""

    application: str | None = Field(None, description="Only people with access to it, by key.")
    role: str | None = Field(None, description="With an application, only people in that role of it, by key.")
    only: Literal["direct only", "inactive but assigned", "highest role"] | None = None
    at: str | None = Field(None, description="A past instant, or a day, of which the end is meant.")


class MatrixGroupsQuery(SearchQuery):
    """Which groups against which applications."""

    source: str | None = Field(None, description="Only this source's, by key.")
    application: str | None = Field(None, description="Only this column, by key.")


class CompareQuery(Model):
    """Two people, each by id, user name, e-mail or external id."""

    one: Text
    two: Text


class ExportQuery(MatrixQuery):
    """What of the matrix, in which form."""

    form: Literal["csv", "json"] = "csv"


class MovesQuery(PageQuery):
    """Between which two instants."""

    since: str = Field(description="The earlier instant, or a day, of which the end is meant.")
    until: str = Field(description="The later instant, or a day, of which the end is meant.")
    application: str | None = Field(None, description="By key.")


class ExpectedBody(Given):
    """Somebody who does not exist yet."""

    source: Text = Field(description="Whose person it would be, by key.")
    attributes: dict[str, Any] = Field({}, description="A SCIM User, as the source would send it.")
    groups: list[Text] = Field([], max_length=500, description="Groups of that source, by name or id.")


class ConfirmBody(Given):
    """A grave act, confirmed."""

    confirm: Text | None = Field(None, description="The application's label, typed.")


class BulkBody(SureBody):
    """Many groups to be mapped."""

    text: str = Field(max_length=1_000_000, description="Lines of: source, group, role.")
    apply: bool = False


class PatternBody(Given):
    """A pattern to be tried."""

    source: Text
    pattern: Text
    confirmed: list[Text] = []


class RuleBody(Given):
    """A rule to be tried."""

    rule: str = Field(max_length=8_000)


class PolicyBody(SureBody):
    """How an application decides; what is left out stays."""

    open_to: Literal["assigned", "everybody"] | None = None
    if_nothing: Literal["no access", "default role", "keep"] | None = None
    default_role: Text | None = Field(None, description="By key.")
    several: Literal["all", "highest"] | None = None
    first: Literal["both", "direct", "rules"] | None = None


class OwnPasswordBody(Model):
    """One's own password, as it is and as it is to be."""

    present: Text
    password: Text
    revoke_tokens: bool = Field(False, description="Whether your API tokens are revoked too.")


class OperatorBody(Given):
    """An operator to be added; without a password one is made and shown once."""

    name: Text
    kind: Literal["chief", "administrator", "help desk", "auditor", "application owner"]
    applications: list[Text] = Field([], max_length=500, description="Of an application owner, by key.")
    masked: bool = Field(False, description="For help desk and auditors: people's attributes are not for them.")
    password: Text | None = None

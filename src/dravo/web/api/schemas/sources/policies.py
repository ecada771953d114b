"""Source policies: matching, scope, attributes and groups, and the status of each connection type."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field, SerializerFunctionWrapHandler, model_serializer

from dravo.web.api.schemas.base import Model, RequestModel, Text
from dravo.web.api.schemas.common import KeyPath, Page, PageQuery, UserRef


class AcceptedGroupsRequest(RequestModel):
    """Some groups: all, none, those with a name or an ID, or those that match a pattern."""

    which: Text = Field("all", description="Which groups: all, none, named or pattern.")
    names: list[str] = Field([], max_length=10_000, description="Names or IDs, with named.")
    pattern: str = Field("", max_length=1_000, description="Pattern in RE2 syntax, with pattern.")


class MappedAttributeRequest(RequestModel):
    """An attribute of users with the expression that fills it."""

    attribute: Text
    expression: Text


class SourcePolicyFields(RequestModel):
    """Fields of a source policy. Omitted fields keep their value."""

    match: Text | None = None
    domains: list[str] | None = Field(None, max_length=1_000)
    users: str | None = Field(
        None, max_length=10_000, description="SCIM filter of the accepted users; empty accepts all."
    )
    groups: AcceptedGroupsRequest | None = Field(None, description="Which groups of the source are accepted.")
    member_of: AcceptedGroupsRequest | None = Field(
        None, description="Groups of which a user must be a member; all accepts users without a group."
    )
    makes: bool | None = None
    pilot: str | None = Field(None, max_length=1_000)
    groups_from: list[str] | None = Field(
        None, max_length=1_000, description="Expressions that produce group names."
    )
    gives: list[str] | None = Field(None, max_length=1_000, description="Groups for all users of the source.")
    attributes: list[MappedAttributeRequest] | None = Field(
        None, max_length=1_000, description="The attribute mapping; it needs a row for userName."
    )

    @model_serializer(mode="wrap")
    def _given(self, write: SerializerFunctionWrapHandler) -> dict[str, Any]:
        """Leave out omitted fields."""
        return {name: value for name, value in write(self).items() if value is not None}


class PolicyPath(KeyPath):
    """One connection type of a source."""

    connection_type: str = Field(description="Connection type: inbound_scim, import or sign_in.")


class PolicyStatusRequest(RequestModel):
    """A new status of a connection type."""

    status: Literal["disabled", "pilot", "enabled"] = Field(
        description="Status: disabled, pilot (members of the pilot group only) or enabled."
    )
    enabled_from: str | None = Field(
        None, max_length=40, description="Time at which a disabled source is enabled; empty for none."
    )
    confirm: Text | None = Field(
        None, description="Typed label of the source; required for a sign-in that was not tested."
    )


class LeftOutQuery(PageQuery):
    """Which records to list."""

    reason: str | None = Field(
        None,
        max_length=16,
        description="Reason or kind: out_of_scope, not_a_member, not_in_pilot, disabled, unknown_user, "
        "refused, pending, change, deactivation or deletion.",
    )


class AcceptedGroups(Model):
    """The accepted groups: "all", "none", "named" or "pattern"."""

    which: str
    names: list[str]
    pattern: str


class MappedAttribute(Model):
    """An attribute with its expression."""

    attribute: str
    expression: str


class SourcePolicy(Model):
    """The source policy of a source."""

    match: str
    domains: list[str]
    users: str = Field(description="SCIM filter of the accepted users; empty accepts all.")
    groups: AcceptedGroups = Field(description="Which groups of the source are accepted.")
    member_of: AcceptedGroups = Field(description="Groups of which a user must be a member.")
    makes: bool
    pilot: str
    groups_from: list[str] = Field(description="Expressions that produce group names.")
    gives: list[str] = Field(description="Groups for all users of the source.")
    attributes: list[MappedAttribute]


class SourcePolicyDetail(Model):
    """The policy of a connection type of a source."""

    connection_type: str = Field(description="Connection type: inbound_scim, import or sign_in.")
    status: str = Field(description="Status: disabled, pilot, scheduled or enabled.")
    enabled_from: str | None
    reads: str = Field(description="What expressions use: entry or user.")
    policy: SourcePolicy
    owned_domains: list[str] = Field(description="All email domains that the source owns.")
    attributes: list[str] = Field(description="Names of attributes that the source has reported.")
    accepted: int = Field(description="Number of records that count for a user.")
    left_out: dict[str, int] = Field(description="Number of records that count for no user, by reason.")
    waiting: dict[str, int] = Field(description="Number of records with waiting changes, by kind.")
    pending: int = Field(description="Number of records to which the policy is still being applied.")


class SourcePolicies(Model):
    """The policies of a source."""

    items: list[SourcePolicyDetail]


class MatchingGroup(Model):
    """A group that a choice of groups names."""

    id: str = Field(description="ID of the group.")
    name: str


class GroupMatches(Model):
    """The groups of a source that a choice names now."""

    matching: int = Field(description="Number of groups that match.")
    total: int = Field(description="Number of groups of the source.")
    groups: list[MatchingGroup] = Field(description="The first 50 groups that match, by name.")
    unknown: list[str] = Field(description="Names and IDs that no group has yet.")


class RecordStanding(Model):
    """A record of inbound SCIM that counts for no user, or of which a change waits."""

    id: str = Field(description="ID of the record.")
    user_name: str
    name: str = Field(description="Display name of the user.")
    left_out: str | None = Field(description="Why it counts for no user.")
    waiting: str | None = Field(description="What waits: change, deactivation or deletion.")
    modified_at: str


class PageOfRecordStandings(Page[RecordStanding]):
    """A page of records that do not count."""


class BeforeAndAfter(Model):
    """An attribute before and after."""

    attribute: str
    before: Any
    after: Any


class PolicyPreviewUser(Model):
    """A user that another source policy would change."""

    name: str = Field(description="Name of the user in the source.")
    outcome: str = Field(description="What would happen to the user.")
    changes: list[BeforeAndAfter]
    message: str = Field(description="Why the user is refused, in a sentence; empty if not.")


class PolicyPreviewGroup(Model):
    """A group of the source, and whether it would be accepted."""

    id: str = Field(description="ID of the group.")
    name: str = Field(description="Name of the group.")
    accepted: bool


class MadeGroup(Model):
    """A group from user attributes, with its number of members."""

    name: str = Field(description="Name of the group.")
    users: int


class PolicyPreview(Model):
    """The preview of a source policy."""

    looked_at: int = Field(description="Number of evaluated users.")
    accepted: int
    changed: int
    leaves: int
    joins: int = Field(description="Number of users that would be created or linked.")
    refused: int
    outside: int = Field(description="Number of users that stay outside the scope.")
    waits: int = Field(description="Number of users with a change that would wait.")
    conflicts: int = Field(description="Number of open conflicts.")
    linked: int = Field(description="Number of open conflicts that the match rule would link.")
    items: list[PolicyPreviewUser]
    groups: list[PolicyPreviewGroup] = Field(
        description="Groups of the source, with whether the policy accepts each."
    )
    made_groups: list[MadeGroup]
    member_of: list[str] = Field(
        description="Names of the groups of which a user must be a member; empty without that condition."
    )


class LinkPath(KeyPath):
    """One link ahead of the first record."""

    link_id: str = Field(description="ID of the link.")


class LinkAheadRequest(RequestModel):
    """A link ahead of the first record."""

    connection_type: Literal["sign_in", "import"] = Field(
        "sign_in", description="Connection type: sign_in or import."
    )
    subject: Text = Field(description="Subject at the provider, or ID in the source of an import.")
    user: Text = Field(description="User to link: ID, user name, email or external ID.")


class LinkAhead(Model):
    """A link that waits for the first record."""

    id: str = Field(description="ID of the link.")
    connection_type: str = Field(description="Connection type: sign_in or import.")
    subject: str = Field(description="Subject at the provider, or ID in the source of an import.")
    user: UserRef | None = Field(description="The user that the record will be linked to.")
    created_at: str
    created_by: str | None = Field(description="Name of the operator, or null.")


class PageOfLinksAhead(Page[LinkAhead]):
    """A page of links ahead of the first record."""

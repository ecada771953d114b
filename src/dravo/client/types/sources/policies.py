"""Source policies: matching, scope, attributes and groups, and the status of each connection type.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, TypedDict

if TYPE_CHECKING:
    from dravo.client.types.common import UserRef


class AcceptedGroups(TypedDict):
    """The accepted groups: "all", "none", "named" or "pattern"."""

    which: str
    names: list[str]
    pattern: str


class BeforeAndAfter(TypedDict):
    """An attribute before and after."""

    attribute: str
    before: Any
    after: Any


class GroupMatches(TypedDict):
    """The groups of a source that a choice names now."""

    matching: int
    total: int
    groups: list[MatchingGroup]
    unknown: list[str]


class LinkAhead(TypedDict):
    """A link that waits for the first record."""

    id: str
    connection_type: str
    subject: str
    user: UserRef | None
    created_at: str
    created_by: str | None


class MadeGroup(TypedDict):
    """A group from user attributes, with its number of members."""

    name: str
    users: int


class MappedAttribute(TypedDict):
    """An attribute with its expression."""

    attribute: str
    expression: str


class MatchingGroup(TypedDict):
    """A group that a choice of groups names."""

    id: str
    name: str


class PageOfLinksAhead(TypedDict):
    """A page of links ahead of the first record."""

    items: list[LinkAhead]
    total: int
    next: str | None


class PageOfRecordStandings(TypedDict):
    """A page of records that do not count."""

    items: list[RecordStanding]
    total: int
    next: str | None


class PolicyPreview(TypedDict):
    """The preview of a source policy."""

    looked_at: int
    accepted: int
    changed: int
    leaves: int
    joins: int
    refused: int
    outside: int
    waits: int
    conflicts: int
    linked: int
    items: list[PolicyPreviewUser]
    groups: list[PolicyPreviewGroup]
    made_groups: list[MadeGroup]
    member_of: list[str]


class PolicyPreviewGroup(TypedDict):
    """A group of the source, and whether it would be accepted."""

    id: str
    name: str
    accepted: bool


class PolicyPreviewUser(TypedDict):
    """A user that another source policy would change."""

    name: str
    outcome: str
    changes: list[BeforeAndAfter]
    message: str


class RecordStanding(TypedDict):
    """A record of inbound SCIM that counts for no user, or of which a change waits."""

    id: str
    user_name: str
    name: str
    left_out: str | None
    waiting: str | None
    modified_at: str


class SourcePolicies(TypedDict):
    """The policies of a source."""

    items: list[SourcePolicyDetail]


class SourcePolicy(TypedDict):
    """The source policy of a source."""

    match: str
    domains: list[str]
    users: str
    groups: AcceptedGroups
    member_of: AcceptedGroups
    makes: bool
    pilot: str
    groups_from: list[str]
    gives: list[str]
    attributes: list[MappedAttribute]


class SourcePolicyDetail(TypedDict):
    """The policy of a connection type of a source."""

    connection_type: str
    status: str
    enabled_from: str | None
    reads: str
    policy: SourcePolicy
    owned_domains: list[str]
    attributes: list[str]
    accepted: int
    left_out: dict[str, int]
    waiting: dict[str, int]
    pending: int

"""What planning reads and returns: configuration, users and changes."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

from dravo.core.access import evaluation as access_rules
from dravo.core.access.license_plans import NO_SEATING, Plan, Seat, SeatChanges
from dravo.core.access.types import (
    AccessConfig,
    Assignment,
    Policy,
)
from dravo.core.identity.acceptance import InboundPolicy
from dravo.core.identity.marks import UserMark
from dravo.core.identity.membership_authority import PLAIN_AUTHORITY, MembershipAuthority
from dravo.core.identity.merging import MergedUser, merge
from dravo.core.identity.records import UserRecord
from dravo.core.instants import Instant
from dravo.core.provisioning.accounts import RoleLabel, Settings


@dataclass(frozen=True)
class Role(RoleLabel):
    """A role with its id and its application's."""

    id: str
    application_id: str


@dataclass(frozen=True)
class Application:
    """An application as far as planning needs it."""

    id: str
    key: str
    label: str
    settings: Settings
    tracked_only: bool = False


@dataclass(frozen=True)
class GroupLabel:
    """A group by name, for reasons that stay readable after it is deleted."""

    id: str
    name: str
    source_key: str | None
    source_label: str | None


@dataclass(frozen=True)
class ConfigSnapshot:
    """The configuration at one revision."""

    revision: int
    applications: Mapping[str, Application]
    roles: Mapping[str, Role]
    by_group: Mapping[str, tuple[Assignment, ...]]
    parents: Mapping[str, tuple[str, ...]]
    priority: Mapping[str, int]
    labels: Mapping[str, GroupLabel]
    # Provisioned groups by application, and whether roles are sent as groups.
    provisioned: Mapping[str, frozenset[str]] = field(default_factory=dict)
    # Assignments for everyone and by rule; access policies; keys of sources by ID.
    general: tuple[Assignment, ...] = ()
    policies: Mapping[str, Policy] = field(default_factory=dict)
    sources: Mapping[str, str] = field(default_factory=dict)
    # Sources with an assignment by pattern: any of their groups can start to assign a role through its name.
    patterned: frozenset[str] = frozenset()
    plans: Mapping[str, Plan] = field(default_factory=dict)
    # Sources whose inactive records deactivate the user, and sources that do not change users of other
    # sources.
    vetoing: frozenset[str] = frozenset()
    quiet: frozenset[str] = frozenset()
    # Retired sources: they report nothing any more.
    retired: frozenset[str] = frozenset()
    # Policies of inbound SCIM by source ID, as far as they are not plain.
    inbound: Mapping[str, InboundPolicy] = field(default_factory=dict)
    # Sources that reported users who were erased.
    erased: frozenset[str] = frozenset()
    # Who decides about the members of groups.
    authority: MembershipAuthority = PLAIN_AUTHORITY

    def merged(self, records: Iterable[UserRecord]) -> MergedUser:
        """Return the one user behind some records."""
        return merge(records, self.priority, self.vetoing, self.quiet)

    @cached_property
    def declared(self) -> AccessConfig:
        """The configuration from which access follows."""
        return AccessConfig(
            self.by_group, self.general, self.policies, {role.id: role.order for role in self.roles.values()}
        )

    @cached_property
    def highest(self) -> dict[str, str]:
        """For an application's id the id of its highest role."""
        # The highest priority comes last and wins.
        ordered = sorted(self.roles.values(), key=lambda role: role.order, reverse=True)
        return {role.application_id: role.id for role in ordered}

    @cached_property
    def plan_of(self) -> dict[str, str]:
        """The plans of assignments to others than single users, by the assignment's id."""
        every = (*self.general, *(each for given in self.by_group.values() for each in given))
        return {each.id: each.plan_id for each in every if each.plan_id is not None}

    @cached_property
    def rule_texts(self) -> dict[str, str]:
        """The conditions of rules in words, by the assignment's id."""
        return {
            each.id: (each.condition or each.roles_of).text  # type: ignore[union-attr]
            for each in self.general
            if each.condition is not None or each.roles_of is not None
        }

    @cached_property
    def asks_groups(self) -> bool:
        """Whether a condition needs the groups of a user."""
        return any(each.condition is not None and each.condition.asks_groups for each in self.general)

    @cached_property
    def asks_names(self) -> bool:
        """Whether a condition needs the names of groups."""
        return any(each.condition is not None and each.condition.asks_names for each in self.general)

    @cached_property
    def rule_sources(self) -> frozenset[str]:
        """The sources that rules name: only attributes of these sources matter for them."""
        return frozenset(each.source_id for each in self.general if each.source_id is not None)

    @cached_property
    def has_conditions(self) -> bool:
        """Whether any condition or expression is declared, so that attributes of users decide."""
        return any(each.condition is not None or each.roles_of is not None for each in self.general)

    def named_by_its_name(self, source_id: str | None) -> bool:
        """Whether the name of a source's group can give access."""
        return self.asks_names or source_id in self.patterned

    def concerns(self, group_id: str) -> bool:
        """Whether a group can give access: an assignment names it or a group around it, or a condition needs
        groups.
        """
        if self.asks_groups:
            return True
        around = access_rules.memberships((group_id,), self.parents)
        return any(
            membership.group_id in self.by_group
            or any(membership.group_id in groups for groups in self.provisioned.values())
            for membership in around
        )


@dataclass(frozen=True)
class HeldAccess:
    """Current access: its row, its role, and its stored reasons (each with start and end)."""

    id: str
    application_id: str
    role_id: str
    reasons: tuple[dict[str, Any], ...]


@dataclass(frozen=True)
class HeldAccount:
    """An account with its desired state and version."""

    id: str
    application_id: str
    desired: Mapping[str, Any]
    desired_version: int


@dataclass(frozen=True)
class UserSnapshot:
    """All that planning needs to know about one user.

    `revision` is None for a new user. `inactive` tells that the stored status is inactive or left.
    """

    user_id: str
    revision: int | None
    records: tuple[UserRecord, ...]
    groups: tuple[str, ...] = ()
    direct: tuple[Assignment, ...] = ()
    access: tuple[HeldAccess, ...] = ()
    accounts: tuple[HeldAccount, ...] = ()
    known_since: Instant | None = None
    # (application ID, role ID) of retained roles.
    kept: tuple[tuple[str, str], ...] = ()
    # Seats that the user has or waits for.
    seats: tuple[Seat, ...] = ()
    mark: UserMark | None = None
    inactive: bool = False

    @property
    def waits(self) -> bool:
        """Whether an operator has to decide first which user this is: all source records are undecided.

        Until then there is no access.
        """
        present = [record for record in self.records if not record.gone]
        return bool(present) and all(record.undecided for record in present)


@dataclass(frozen=True)
class AccessChange:
    """An access that opens (`id` None), closes (`closed`) or gets other reasons."""

    application_id: str
    role_id: str
    reasons: tuple[dict[str, Any], ...]
    id: str | None = None
    closed: bool = False


@dataclass(frozen=True)
class AccountChange:
    """An account with a changed desired state; `id` is None for a new account. `manual` if an operator brings
    it about.
    """

    application_id: str
    desired: Mapping[str, Any]
    desired_version: int
    id: str | None = None
    manual: bool = False


def _is_active(desired: Mapping[str, Any] | None) -> bool:
    return desired is not None and bool(desired.get("active"))


@dataclass(frozen=True)
class UserPlan:
    """The plan for one user; `kept` and `let_go` are (application ID, role ID) of newly and of no longer
    retained roles.
    """

    user: UserSnapshot
    merged: MergedUser
    access: tuple[AccessChange, ...] = ()
    accounts: tuple[AccountChange, ...] = ()
    next_change: Instant | None = None
    kept: tuple[tuple[str, str], ...] = ()
    let_go: tuple[tuple[str, str], ...] = ()
    seating: SeatChanges = NO_SEATING

    @property
    def ended_roles(self) -> int:
        """The number of roles that the user loses."""
        return sum(change.closed for change in self.access)

    @property
    def ended_accounts(self) -> int:
        """The number of accounts that are to be deactivated or deleted and were not before."""
        before = {each.application_id: each.desired for each in self.user.accounts}
        return sum(
            _is_active(before.get(each.application_id)) and not _is_active(each.desired)
            for each in self.accounts
        )

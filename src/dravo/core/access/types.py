"""What access is computed from, and what comes out."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, NamedTuple

from dravo.core.access.conditions import Condition
from dravo.core.access.role_expressions import RoleExpression
from dravo.core.instants import Instant

# Kinds of assignments. A reason can also be the fallback role, or a retained role.
DIRECT, GROUP, EVERYONE, RULE, PATTERN = "direct", "group", "everyone", "rule", "pattern"
EXPRESSION = "expression"
DEFAULT, KEPT = "fallback", "retained"

ASSIGNED, ALL_USERS = "assigned", "everyone"
NO_ACCESS, DEFAULT_ROLE, KEEP = "no_access", "fallback_role", "retain"
ALL, HIGHEST = "all", "highest"
BOTH, DIRECT_FIRST, RULES_FIRST = "both", "direct", "rules"


@dataclass(frozen=True, slots=True)
class Assignment:
    """An assignment: a user gets a role or is eligible only, or is excluded. The end is exclusive.

    Attributes:
        role_id: the role; None for eligibility only, or an exclusion.
        user_id, group_id, condition: for whom: one of them; everyone if all are None.
        by_pattern: whether the group comes from a name pattern.
        excludes: whether users are excluded.
        new_users_since: only for users who are known since then or later.
        source_id: for a condition, the source that must report the attributes; None for any.
        only: for a condition, the IDs of confirmed users; None for all who match. For an expression, the IDs
            of the users who may get the highest role.
        roles_of: an expression whose values are the roles.
    """

    id: str
    application_id: str
    role_id: str | None
    user_id: str | None = None
    group_id: str | None = None
    from_at: Instant | None = None
    until_at: Instant | None = None
    condition: Condition | None = None
    by_pattern: bool = False
    excludes: bool = False
    new_users_since: Instant | None = None
    plan_id: str | None = None
    source_id: str | None = None
    only: frozenset[str] | None = None
    roles_of: RoleExpression | None = None

    def counts(self, now: Instant) -> bool:
        """Whether the assignment is valid at an instant."""
        return (self.from_at is None or self.from_at <= now) and (
            self.until_at is None or now < self.until_at
        )

    @property
    def plain(self) -> bool:
        """Whether the assignment gives its role at any time to all its users."""
        return (
            not self.excludes
            and self.from_at is None
            and self.until_at is None
            and self.new_users_since is None
        )

    @property
    def kind(self) -> str:
        """The kind of users that it assigns."""
        if self.user_id is not None:
            return DIRECT
        if self.group_id is not None:
            return PATTERN if self.by_pattern else GROUP
        if self.roles_of is not None:
            return EXPRESSION
        return EVERYONE if self.condition is None else RULE


@dataclass(frozen=True, slots=True)
class Policy:
    """The access policy of an application.

    Attributes:
        eligibility: `ASSIGNED` or `ALL_USERS`.
        fallback: what eligible users without a role get: `NO_ACCESS`, `DEFAULT_ROLE` or `KEEP`.
        default_role_id: the role for `DEFAULT_ROLE`.
        several: `ALL` roles, or the `HIGHEST`.
        first: `BOTH` direct assignments and rules are used; or, where both give roles, `DIRECT_FIRST` or
            `RULES_FIRST`.
    """

    eligibility: str = ASSIGNED
    fallback: str = NO_ACCESS
    default_role_id: str | None = None
    several: str = ALL
    first: str = BOTH


PLAIN = Policy()


class Membership(NamedTuple):
    """A group that a user is in, and the groups between, nearest to the user first, where it is by
    nesting.
    """

    group_id: str
    through: tuple[str, ...] = ()


class Reason(NamedTuple):
    """A reason: the assignment (None for a fallback or retained role), its group, the nested groups between,
    and its kind.
    """

    assignment_id: str | None
    group_id: str | None = None
    through: tuple[str, ...] = ()
    kind: str = DIRECT


@dataclass(frozen=True)
class IndexedAccessConfig:
    """The configuration, indexed for computing many users: most applications have a plain policy, and most
    reasons are the same for all.

    Attributes:
        special: applications that need the whole decision table; in all others assignments just give their
            roles.
        by_group: by group ID, ((application ID, role ID), reason) of its assignments in the others.
        by_text: by (extension's URN or None, attribute) and a folded text, the rules that require this value.
        others: assignments for everyone, and rules that require no such value.
    """

    special: frozenset[str]
    by_group: Mapping[str, Sequence[tuple[tuple[str, str], Reason]]]
    by_text: Mapping[tuple[str | None, str], Mapping[str, Sequence[Assignment]]]
    others: Sequence[Assignment]


@dataclass(frozen=True)
class AccessConfig:
    """The configuration from which access follows.

    Attributes:
        by_group: by group ID, its assignments, those of name patterns included.
        general: assignments for everyone, and rules.
        policies: by application ID, its access policy; others have the plain policy.
        orders: by role ID, its place among the roles; the first is the highest role.
    """

    by_group: Mapping[str, Sequence[Assignment]] = field(default_factory=dict)
    general: Sequence[Assignment] = ()
    policies: Mapping[str, Policy] = field(default_factory=dict)
    orders: Mapping[str, tuple[int, str]] = field(default_factory=dict)

    @cached_property
    def prepared(self) -> IndexedAccessConfig:
        """The same, laid out for working out many users."""
        every = (*self.general, *(each for given in self.by_group.values() for each in given))
        special = frozenset({*self.policies, *(each.application_id for each in every if not each.plain)})
        by_group = {
            group_id: tuple(
                ((each.application_id, each.role_id), Reason(each.id, group_id, (), each.kind))
                for each in given
                if each.role_id is not None and each.application_id not in special
            )
            for group_id, given in self.by_group.items()
        }
        by_text: dict[tuple[str | None, str], dict[str, list[Assignment]]] = {}
        others = []
        for each in self.general:
            if each.condition is None or each.condition.needs is None or each.source_id is not None:
                others.append(each)
            else:
                urn, name, text = each.condition.needs
                by_text.setdefault((urn, name), {}).setdefault(text, []).append(each)
        return IndexedAccessConfig(special, by_group, by_text, others)


@dataclass(frozen=True, slots=True)
class UserFacts:
    """What is stored about one user, as far as access depends on it.

    Attributes:
        active: whether the user can have access at all.
        groups: all groups of the user.
        direct: the user's own assignments.
        seen: the user as conditions see it; None without conditions.
        by_source: the same by what one source reported, for the sources that rules name.
        user_id: the ID of the user.
        known_since: since when the user is known; None for a new user.
        kept: by application ID, the retained roles.
    """

    active: bool
    groups: Sequence[Membership] = ()
    direct: Sequence[Assignment] = ()
    seen: Mapping[str, Any] | None = None
    known_since: Instant | None = None
    kept: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    by_source: Mapping[str, Mapping[str, Any]] = field(default_factory=dict)
    user_id: str = ""


@dataclass(frozen=True, slots=True)
class Decision:
    """The decision for one application: the line of the table that decided, and the roles with their reasons.

    `heard` has all assignments for the user with their reasons, whether they give access or not.
    """

    by: str
    roles: Mapping[str, tuple[Reason, ...]]
    heard: Sequence[tuple[Assignment, Reason]] = ()


@dataclass(frozen=True, slots=True)
class Access:
    """The access of a user: reasons by (application ID, role ID), the deciding line for each application with
    the whole table, and the next instant of a change.
    """

    roles: Mapping[tuple[str, str], tuple[Reason, ...]]
    next_change: Instant | None = None
    decisions: Mapping[str, Decision] = field(default_factory=dict)

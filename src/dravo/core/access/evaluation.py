"""Computes access with its reasons from assignments and memberships; a pure function of stored inputs.

The decision order for one user in one application; the first line that applies decides
(docs/reference/access.md has the same table, line by line):

1. the user is inactive or has left: no access;
2. an exclusion is valid now: no access;
3. assignments outside their dates are left out;
4. the application is open to assigned users only, and no valid assignment is for the user: no access;
5. assignments give their roles; where direct assignments and rules differ, the policy says which are used;
6. several roles: all of them, or the highest;
7. no role, and the policy has a fallback role: that role;
8. no role, and the policy retains roles: the retained roles;
9. no access.

What depends on the past (retained roles, since when a user is known) is an input, never read from an earlier
result.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, NamedTuple

from dravo.core.access.conditions import Condition, text_of
from dravo.core.instants import Instant

# Kinds of assignments. A reason can also be the fallback role, or a retained role.
DIRECT, GROUP, EVERYONE, RULE, PATTERN = "direct", "group", "everyone", "rule", "pattern"
DEFAULT, KEPT = "fallback", "retained"

ASSIGNED, ALL_USERS = "assigned", "everyone"
NO_ACCESS, DEFAULT_ROLE, KEEP = "no_access", "fallback_role", "retain"
ALL, HIGHEST = "all", "highest"
BOTH, DIRECT_FIRST, RULES_FIRST = "both", "direct", "rules"

# What decided, by the lines of the table above.
INACTIVE, EXCLUDED, CLOSED, GIVEN, BY_DEFAULT, BY_KEEPING, NOTHING = (
    "inactive",
    "excluded",
    "closed",
    "given",
    "default",
    "kept",
    "nothing",
)


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
        only: for a condition, the IDs of confirmed users; None for all who match.
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


def memberships(direct: Iterable[str], parents: Mapping[str, Iterable[str]]) -> tuple[Membership, ...]:
    """Return every group that a user is in.

    Args:
        direct: ids of the groups that list the user.
        parents: for a group id the ids of the groups that list that group; circles do no harm.
    """
    found: dict[str, Membership] = {group_id: Membership(group_id) for group_id in direct}
    if not parents:
        return tuple(found.values())
    waiting = list(found.values())
    while waiting:
        inner = waiting.pop(0)
        for parent in parents.get(inner.group_id, ()):
            if parent not in found:
                # Each group is reached once, by its shortest path.
                found[parent] = Membership(parent, (*inner.through, inner.group_id))
                waiting.append(found[parent])
    return tuple(found.values())


def compute_access(facts: UserFacts, declared: AccessConfig, now: Instant) -> Access:
    """Return the access of one user at an instant.

    Args:
        facts: what is stored about the user.
        declared: the configuration.
        now: the instant.
    """
    if not facts.active:
        return Access({})
    prepared = declared.prepared
    # Because of direct assignments, the complete decision table may be needed for this user alone.
    own = frozenset(each.application_id for each in facts.direct if not each.plain)
    special = prepared.special | own if own else prepared.special
    general = list(_general(facts, prepared))
    roles = _roles_without_policy(facts, prepared, general, special, own)
    if not special:
        return Access(roles)
    decisions: dict[str, Decision] = {}
    changes: list[Instant] = []
    for application_id, heard in _applicable_assignments(facts, declared, general, special).items():
        policy = declared.policies.get(application_id, PLAIN)
        decision = decide(policy, heard, facts.kept.get(application_id, ()), declared.orders, now)
        decisions[application_id] = decision
        for role_id, reasons in decision.roles.items():
            roles[application_id, role_id] = reasons
        for assignment, _ in heard:
            changes.extend(
                at for at in (assignment.from_at, assignment.until_at) if at is not None and at > now
            )
    return Access(roles, min(changes, default=None), decisions)


def _roles_without_policy(
    facts: UserFacts,
    prepared: IndexedAccessConfig,
    general: Iterable[Assignment],
    special: frozenset[str],
    own: frozenset[str],
) -> dict[tuple[str, str], tuple[Reason, ...]]:
    """Return the access in applications where assignments just give their roles."""
    roles: dict[tuple[str, str], tuple[Reason, ...]] = {}

    def give(key: tuple[str, str], reason: Reason) -> None:
        before = roles.get(key)
        roles[key] = (reason,) if before is None else (*before, reason)

    for assignment in facts.direct:
        if assignment.role_id is not None and assignment.application_id not in special:
            give((assignment.application_id, assignment.role_id), Reason(assignment.id))
    for group_id, through in facts.groups:
        for key, reason in prepared.by_group.get(group_id, ()):
            if not own or key[0] not in own:
                give(key, reason._replace(through=through) if through else reason)
    for assignment in general:
        if assignment.role_id is not None and assignment.application_id not in special:
            give((assignment.application_id, assignment.role_id), Reason(assignment.id, kind=assignment.kind))
    return roles


def decide_about(facts: UserFacts, declared: AccessConfig, application_id: str, now: Instant) -> Decision:
    """Return the decision about a user in one application, whatever its policy."""
    if not facts.active:
        return Decision(INACTIVE, {})
    heard = _applicable_assignments(
        facts, declared, list(_general(facts, declared.prepared)), frozenset({application_id})
    )
    policy = declared.policies.get(application_id, PLAIN)
    return decide(
        policy, heard.get(application_id, ()), facts.kept.get(application_id, ()), declared.orders, now
    )


def _general(facts: UserFacts, prepared: IndexedAccessConfig) -> Iterator[Assignment]:
    """Yield the assignments for everyone, and those whose rule the user matches."""
    for each in prepared.others:
        if meets(facts, each) and is_confirmed(facts, each):
            yield each
    if facts.seen is None:
        return
    for (urn, name), by_text in prepared.by_text.items():
        text = text_of(facts.seen, urn, name)
        for each in by_text.get(text, ()) if text is not None else ():
            assert each.condition is not None
            if (each.condition.is_that or each.condition.holds(facts.seen)) and is_confirmed(facts, each):
                yield each


def meets(facts: UserFacts, assignment: Assignment) -> bool:
    """Whether a user matches the condition of an assignment, by the attributes of its source if it names
    one.
    """
    if assignment.condition is None:
        return True
    view = facts.seen if assignment.source_id is None else facts.by_source.get(assignment.source_id)
    return view is not None and assignment.condition.holds(view)


def is_confirmed(facts: UserFacts, assignment: Assignment) -> bool:
    """Whether an assignment is for a user without waiting for a confirmation."""
    return assignment.only is None or facts.user_id in assignment.only


def _applicable_assignments(
    facts: UserFacts, declared: AccessConfig, general: Iterable[Assignment], applications: frozenset[str]
) -> dict[str, list[tuple[Assignment, Reason]]]:
    """Return for each application to decide the assignments of a user, with their reasons."""
    heard: dict[str, list[tuple[Assignment, Reason]]] = {
        application_id: []
        for application_id, policy in declared.policies.items()
        if policy.eligibility == ALL_USERS and application_id in applications
    }
    for assignment in facts.direct:
        if assignment.application_id in applications:
            heard.setdefault(assignment.application_id, []).append((assignment, Reason(assignment.id)))
    for group_id, through in facts.groups:
        for assignment in declared.by_group.get(group_id, ()):
            if assignment.application_id in applications and _concerns(assignment, facts):
                reason = Reason(assignment.id, group_id, through, assignment.kind)
                heard.setdefault(assignment.application_id, []).append((assignment, reason))
    for assignment in general:
        if assignment.application_id in applications and _concerns(assignment, facts):
            heard.setdefault(assignment.application_id, []).append(
                (assignment, Reason(assignment.id, kind=assignment.kind))
            )
    return heard


def _concerns(assignment: Assignment, facts: UserFacts) -> bool:
    """Whether an assignment is not limited to new users, or the user is new."""
    since = assignment.new_users_since
    return since is None or facts.known_since is None or facts.known_since >= since


def decide(
    policy: Policy,
    heard: Sequence[tuple[Assignment, Reason]],
    kept: Sequence[str],
    orders: Mapping[str, tuple[int, str]],
    now: Instant,
) -> Decision:
    """Return the decision for an active user in one application, by lines 2 to 9 of the table.

    Args:
        policy: the policy of the application.
        heard: the assignments of the user, with their reasons; their dates are checked here.
        kept: IDs of the retained roles.
        orders: as in `AccessConfig`.
        now: the instant.
    """
    counting = [each for each in heard if each[0].counts(now)]
    if any(assignment.excludes for assignment, _ in counting):
        return Decision(EXCLUDED, {}, heard)
    if not counting and policy.eligibility == ASSIGNED:
        return Decision(CLOSED, {}, heard)
    giving = _first(policy.first, [each for each in counting if each[0].role_id is not None])
    roles: dict[str, tuple[Reason, ...]] = {}
    for assignment, reason in giving:
        assert assignment.role_id is not None
        roles[assignment.role_id] = (*roles.get(assignment.role_id, ()), reason)
    if roles:
        if policy.several == HIGHEST and len(roles) > 1:
            top = min(roles, key=lambda role_id: orders.get(role_id, (0, role_id)))
            roles = {top: roles[top]}
        return Decision(GIVEN, roles, heard)
    if policy.fallback == DEFAULT_ROLE and policy.default_role_id is not None:
        return Decision(BY_DEFAULT, {policy.default_role_id: (Reason(None, kind=DEFAULT),)}, heard)
    if policy.fallback == KEEP and kept:
        return Decision(BY_KEEPING, {role_id: (Reason(None, kind=KEPT),) for role_id in kept}, heard)
    return Decision(NOTHING, {}, heard)


def _first(first: str, giving: list[tuple[Assignment, Reason]]) -> list[tuple[Assignment, Reason]]:
    """Return the assignments that are used, where both direct assignments and rules give roles."""
    if first == BOTH:
        return giving
    chosen = [each for each in giving if (each[0].user_id is not None) == (first == DIRECT_FIRST)]
    return chosen or giving

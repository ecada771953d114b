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
from dataclasses import replace
from typing import Any

from dravo.core.access.conditions import text_of
from dravo.core.access.types import (
    ALL_USERS,
    ASSIGNED,
    BOTH,
    DEFAULT,
    DEFAULT_ROLE,
    DIRECT_FIRST,
    HIGHEST,
    KEEP,
    KEPT,
    PLAIN,
    Access,
    AccessConfig,
    Assignment,
    Decision,
    IndexedAccessConfig,
    Membership,
    Policy,
    Reason,
    UserFacts,
)
from dravo.core.instants import Instant

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
        if each.roles_of is not None:
            yield from produced(facts, each)
        elif meets(facts, each) and is_confirmed(facts, each):
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
    """Whether a user matches the condition of an assignment, by the attributes of its source if it names one;
    of an expression, whether the user would get the highest role.
    """
    view = _view(facts, assignment)
    if assignment.roles_of is not None:
        return view is not None and assignment.roles_of.top in assignment.roles_of.role_ids(view)
    if assignment.condition is None:
        return True
    return view is not None and assignment.condition.holds(view)


def _view(facts: UserFacts, assignment: Assignment) -> Mapping[str, Any] | None:
    return facts.seen if assignment.source_id is None else facts.by_source.get(assignment.source_id)


def produced(facts: UserFacts, assignment: Assignment) -> Iterator[Assignment]:
    """Yield an assignment for each role that its expression gives to a user; the highest role only to a
    confirmed user.
    """
    view = _view(facts, assignment)
    if view is None or assignment.roles_of is None:
        return
    for role_id in assignment.roles_of.role_ids(view):
        if role_id != assignment.roles_of.top or facts.user_id in (assignment.only or ()):
            yield replace(assignment, role_id=role_id)


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

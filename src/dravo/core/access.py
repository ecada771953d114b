"""Assignments and memberships become access, each with its reasons. A pure function of stored inputs and now.

The order of decision, first match wins (docs/reference/access.md has the same table):

1. the person is inactive or gone: nothing;
2. an assignment counts from its first instant until its last; outside them it gives nothing;
3. each assignment to the user, or to a group that they are in (directly or by nesting), gives its role;
4. nothing gives anything: no access.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from dravo.core.instants import Instant


@dataclass(frozen=True, slots=True)
class Assignment:
    """What an operator declared: a user or a group gets a role, perhaps from and until an instant (until is exclusive)."""

    id: str
    application_id: str
    role_id: str
    user_id: str | None = None
    group_id: str | None = None
    from_at: Instant | None = None
    until_at: Instant | None = None

    def counts(self, now: Instant) -> bool:
        """Whether it gives its role at an instant."""
        return (self.from_at is None or self.from_at <= now) and (self.until_at is None or now < self.until_at)


@dataclass(frozen=True, slots=True)
class Membership:
    """A group that a person is in, and the groups between, nearest to the person first, where it is by nesting."""

    group_id: str
    through: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Reason:
    """Why: the assignment, the group that it names (None for a direct one) and the groups between."""

    assignment_id: str
    group_id: str | None = None
    through: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Access:
    """What a person has: reasons by (application id, role id), and the next instant at which that changes by itself."""

    roles: Mapping[tuple[str, str], tuple[Reason, ...]]
    next_change: Instant | None = None


def memberships(direct: Iterable[str], parents: Mapping[str, Iterable[str]]) -> tuple[Membership, ...]:
    """Return every group that a person is in.

    Args:
        direct: ids of the groups that list the person.
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
                # Each group is reached once, by its shortest way.
                found[parent] = Membership(parent, (*inner.through, inner.group_id))
                waiting.append(found[parent])
    return tuple(found.values())


def work_out(
    active: bool,
    groups: Iterable[Membership],
    direct: Iterable[Assignment],
    by_group: Mapping[str, Iterable[Assignment]],
    now: Instant,
) -> Access:
    """Return what one person has at an instant.

    Args:
        active: whether the person may have anything at all.
        groups: every group that they are in.
        direct: assignments that name them.
        by_group: for a group id the assignments that name it.
        now: the instant that is asked about.
    """
    if not active:
        return Access({})
    roles: dict[tuple[str, str], tuple[Reason, ...]] = {}
    changes: list[Instant] = []

    def consider(assignment: Assignment, reason: Reason) -> None:
        changes.extend(at for at in (assignment.from_at, assignment.until_at) if at is not None and at > now)
        if assignment.counts(now):
            key = (assignment.application_id, assignment.role_id)
            roles[key] = (*roles.get(key, ()), reason)

    for assignment in direct:
        consider(assignment, Reason(assignment.id))
    for membership in groups:
        for assignment in by_group.get(membership.group_id, ()):
            consider(assignment, Reason(assignment.id, membership.group_id, membership.through))
    return Access(roles, min(changes, default=None))

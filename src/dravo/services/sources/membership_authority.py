"""Who decides about the members of the groups of a source: previewed before it is changed.

Where Dravo takes over, the users who are members then stay members, and operators add and remove users.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace

from sqlalchemy import Connection, Select

from dravo.core.errors import InvalidInput, NotFound
from dravo.core.identity.membership_authority import ALL, AUTHORITIES, DRAVO
from dravo.core.identity.records import LOCAL
from dravo.core.instants import Instant
from dravo.core.plan_types import ConfigSnapshot, UserSnapshot
from dravo.core.planning import with_groups
from dravo.services.changes import preview as changes_preview
from dravo.services.changes.preview import UNCONFIRMED, Confirmation, PlannedChange, Preview
from dravo.services.changes.recompute import USERS_PER_CHUNK, process_marks
from dravo.services.context import AppContext
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock, memberships, recompute_marks
from dravo.store import membership_authority as stored
from dravo.store.membership_authority import AuthorityOfGroup
from dravo.store.queries import groups as group_queries
from dravo.store.queries.groups import GroupDetail, OwnedGroup
from dravo.store.snapshots.config import raise_revision

# Up to this number, the users that a change touches are selected by their IDs.
NAMED_USERS = 500


@dataclass(frozen=True)
class AuthorityShift:
    """Groups whose authority changes, and what follows for their members.

    Attributes:
        groups: the IDs of the groups.
        joining, leaving: by user ID, the groups that the user joins and leaves.
        parents: the outer groups of nested groups after the change.
        taken_over: the groups whose members Dravo takes over.
        taken_over_nested: those of them whose nested groups have counted: their users are taken over, too.
        given_up: the groups in which the memberships that operators added end.
        nested: the nested groups that count differently after the change.
    """

    groups: tuple[str, ...]
    joining: dict[str, list[str]]
    leaving: dict[str, list[str]]
    parents: dict[str, tuple[str, ...]]
    taken_over: tuple[str, ...]
    taken_over_nested: tuple[str, ...]
    given_up: tuple[str, ...]
    nested: tuple[str, ...] = ()

    @property
    def touched(self) -> tuple[Select[str], ...]:
        """The selects of all users that the change can touch."""
        direct = [*self.joining, *self.leaving]
        if len(direct) <= NAMED_USERS and not self.nested:
            return (memberships.some_users(direct),)
        return tuple(memberships.users_within(each) for each in self.groups)

    def after(self, user: UserSnapshot) -> UserSnapshot:
        """Return the snapshot of one user after the change."""
        return with_groups(
            user, added=self.joining.get(user.user_id, ()), removed=self.leaving.get(user.user_id, ())
        )


def shift(
    connection: Connection, catalogue: ConfigSnapshot, groups: Sequence[tuple[AuthorityOfGroup, str, str]]
) -> AuthorityShift:
    """Return what follows from other authorities.

    Args:
        groups: each group with its authority before and after.
    """
    changing = {group.id: (group, before, after) for group, before, after in groups if before != after}
    ids = tuple(changing)
    counted: dict[str, dict[str, set[str]]] = {each: {} for each in ids}
    for member in stored.listed_members(connection, ids):
        counted[member.group_id].setdefault(member.user_id, set()).add(member.reported_by)
    joining: dict[str, list[str]] = {}
    leaving: dict[str, list[str]] = {}
    inner = stored.inner_groups(connection, ids)
    outer = {group_id for _, group_id in inner}
    taken_over: list[str] = []
    taken_over_nested: list[str] = []
    for group_id, (group, before, after) in changing.items():
        present = {user for user, by in counted[group_id].items() if _counts(before, by)}
        if after == DRAVO:
            nested = group_id in outer and _nests(before, group)
            (taken_over_nested if nested else taken_over).append(group_id)
            wanted = _members(connection, group_id) if nested else present
        else:
            wanted = {user for user, by in counted[group_id].items() if _counts(after, by)}
        for user in wanted - present:
            joining.setdefault(user, []).append(group_id)
        for user in present - wanted:
            leaving.setdefault(user, []).append(group_id)
    parents, shifted = _parents(catalogue, changing, inner)
    return AuthorityShift(
        groups=ids,
        joining=joining,
        leaving=leaving,
        parents=parents,
        taken_over=tuple(taken_over),
        taken_over_nested=tuple(taken_over_nested),
        given_up=tuple(group_id for group_id, (_, before, _) in changing.items() if before == DRAVO),
        nested=shifted,
    )


def _members(connection: Connection, group_id: str) -> set[str]:
    """Return the members of a group, also by nested groups."""
    return {*connection.execute(memberships.users_within(group_id, counting=True)).scalars()}


def _counts(authority: str, reported_by: set[str]) -> bool:
    if authority == ALL:
        return bool(reported_by - {DRAVO})
    return authority in reported_by


def _nests(authority: str, group: AuthorityOfGroup) -> bool:
    """Whether nested groups count in a group."""
    return authority in (ALL, group.connection_type)


def _parents(
    catalogue: ConfigSnapshot,
    changing: Mapping[str, tuple[AuthorityOfGroup, str, str]],
    inner_groups: Iterable[tuple[str, str]],
) -> tuple[dict[str, tuple[str, ...]], tuple[str, ...]]:
    parents = dict(catalogue.parents)
    nested: list[str] = []
    for inner, outer in inner_groups:
        group, before, after = changing[outer]
        if _nests(before, group) == _nests(after, group):
            continue
        nested.append(inner)
        others = tuple(each for each in parents.get(inner, ()) if each != outer)
        parents[inner] = (*others, outer) if _nests(after, group) else others
    return parents, tuple(nested)


def write(connection: Connection, change: AuthorityShift, now: Instant) -> None:
    """Write the members that Dravo takes over, and end those that operators added where Dravo no longer
    decides; before the authority itself is written.
    """
    memberships.end_added_users(connection, change.given_up, now)
    memberships.take_over_members(connection, change.taken_over, now)
    for group_id in change.taken_over_nested:
        # Dravo lists users only: those of nested groups become members themselves.
        memberships.add_users(connection, group_id, _members(connection, group_id), now)


def of_source(
    connection: Connection, catalogue: ConfigSnapshot, source_id: str, authority: str
) -> AuthorityShift:
    """Return what follows from another authority of a source, for its groups without their own."""
    before = catalogue.authority.by_source.get(source_id, ALL)
    groups = [each for each in stored.groups_of_source(connection, source_id) if each.own is None]
    return shift(connection, catalogue, [(each, before, authority) for each in groups])


def checked(authority: str) -> str:
    """Return an authority.

    Raises:
        InvalidInput: if there is none of this name.
    """
    if authority not in AUTHORITIES:
        raise InvalidInput(
            f"'{authority}' does not decide about members.",
            f"Use one of: {', '.join(AUTHORITIES)}.",
            "members_from",
        )
    return authority


def preview_group(ctx: AppContext, group_id: str, authority: str | None) -> Preview:
    """Return the effects of `change_group`; nothing is changed."""
    with ctx.database.reading() as connection:
        row, change, _ = _planned(ctx, connection, group_id, authority)
        return changes_preview.shown(connection, _change(ctx, connection, row, change, authority))


def change_group(
    ctx: AppContext,
    caller: Caller,
    group_id: str,
    authority: str | None,
    sure: Confirmation = UNCONFIRMED,
) -> GroupDetail:
    """Change who decides about the members of a group of a source.

    Args:
        authority: one of `AUTHORITIES`; None for that of the source.

    Raises:
        NotFound, InvalidInput; NeedsConfirmation, StalePreview.
    """
    now = clock.now()
    with ctx.database.reading() as connection:
        row, change, own = _planned(ctx, connection, group_id, authority)
        planned = _change(ctx, connection, row, change, authority)
        cleared = changes_preview.check(connection, planned, caller, sure)
    if own != authority:
        with ctx.database.writing() as connection:
            for each in planned.touched:
                recompute_marks.mark_selected(connection, each, now, cleared)
            write(connection, change, now)
            stored.set_of_group(connection, group_id, authority)
            raise_revision(connection)
            details = {"name": row.display_name, "before": own, "after": authority}
            record_change(
                connection,
                ctx.keys,
                caller,
                now,
                AuditEvent("changed membership authority", "group", group_id, details=details),
            )
        process_marks(ctx, USERS_PER_CHUNK)
    with ctx.database.reading() as connection:
        found = group_queries.group_detail(connection, group_id)
    if found is None:
        raise _no_group(group_id)
    return found


def _no_group(group_id: str) -> NotFound:
    return NotFound(f"There is no group with the ID '{group_id}'.", "Choose one from the list of groups.")


def _planned(
    ctx: AppContext, connection: Connection, group_id: str, authority: str | None
) -> tuple[OwnedGroup, AuthorityShift, str | None]:
    row = group_queries.owned_group(connection, group_id)
    if row is None or row.left_out:
        raise _no_group(group_id)
    if row.connection_type == LOCAL:
        raise InvalidInput(
            f"'{row.display_name}' is a local group.", "Members of local groups are managed in Dravo.", "id"
        )
    catalogue = ctx.catalogue.get(connection)
    own = catalogue.authority.by_group.get(group_id)
    before = catalogue.authority.of(row.source_id, group_id)
    of_the_source = catalogue.authority.by_source.get(row.source_id, ALL)
    after = of_the_source if authority is None else checked(authority)
    group = AuthorityOfGroup(row.id, row.connection_type, own)
    return row, shift(connection, catalogue, [(group, before, after)]), own


def _change(
    ctx: AppContext,
    connection: Connection,
    row: OwnedGroup,
    change: AuthorityShift,
    authority: str | None,
) -> PlannedChange:
    catalogue = ctx.catalogue.get(connection)
    by_group = {**catalogue.authority.by_group}
    by_group.pop(row.id, None)
    if authority is not None:
        by_group[row.id] = authority
    then = replace(
        catalogue, parents=change.parents, authority=replace(catalogue.authority, by_group=by_group)
    )
    return PlannedChange(None, change.touched, then, change.after, row.display_name)

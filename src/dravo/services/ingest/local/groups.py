"""Local groups, created by operators, and the members of groups of sources where Dravo decides about them.

Local groups have users and groups of any source as members, and give roles like other groups.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from sqlalchemy import Connection

from dravo.core.access.evaluation import memberships
from dravo.core.errors import AlreadyExists, InvalidInput, NotFound, StalePreview
from dravo.core.identity.membership_authority import DRAVO
from dravo.core.identity.names import fold
from dravo.core.identity.records import LOCAL
from dravo.core.plan_types import ConfigSnapshot, UserSnapshot
from dravo.core.planning import with_groups
from dravo.services.changes import preview
from dravo.services.changes.preview import UNCONFIRMED, Confirmation, PlannedChange, Preview
from dravo.services.changes.recompute import USERS_PER_CHUNK, process_marks
from dravo.services.context import AppContext
from dravo.services.ingest.intake import Intake
from dravo.services.ingest.local.source import local_source
from dravo.services.ingest.types import IngestChange, IngestOptions
from dravo.services.lookups import find_group, find_users
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock, groups, provisioned_groups, recompute_marks
from dravo.store import memberships as store_memberships
from dravo.store.queries import groups as group_queries
from dravo.store.queries import users as user_queries
from dravo.store.queries.groups import GroupLine, OwnedGroup
from dravo.store.snapshots.config import check_revision, raise_revision

MOST_NAMED, LONGEST_DESCRIPTION = 1_000, 500


@dataclass(frozen=True)
class Members:
    """Members to add and to remove: users by any name that `find_user` accepts, groups by ID."""

    add: tuple[str, ...] = ()
    remove: tuple[str, ...] = ()
    add_groups: tuple[str, ...] = ()
    remove_groups: tuple[str, ...] = ()


@dataclass(frozen=True)
class MemberChanges:
    """Member changes by ID, without members that stay."""

    add: tuple[str, ...]
    remove: tuple[str, ...]
    add_groups: tuple[str, ...]
    remove_groups: tuple[str, ...]


def add(ctx: AppContext, caller: Caller, name: str, description: str = "") -> GroupLine:
    """Create a local group without members.

    Args:
        description: what it is for.

    Raises:
        InvalidInput, AlreadyExists.
    """
    source = local_source(ctx)
    data = {"displayName": _checked(name)}
    kept = _checked_description(description)

    def writes(done: IngestChange) -> Callable[[Connection], None]:
        def write(connection: Connection) -> None:
            _check_free(connection, source, data["displayName"], done.id)
            groups.set_description(connection, done.id, kept)
            record_change(
                connection,
                ctx.keys,
                caller,
                clock.now(),
                AuditEvent("created group", "group", done.id, details={"name": data["displayName"]}),
            )

        return write

    taken = Intake(ctx.database, ctx.catalogue, LOCAL).create_group(
        source, data, [], IngestOptions(trace=writes)
    )
    return one(ctx, taken.id)


def change(
    ctx: AppContext, caller: Caller, group_id: str, name: str | None, description: str | None
) -> GroupLine:
    """Change the name or the description of a local group; None keeps a value, and its assignments stay.

    Raises:
        NotFound, InvalidInput, AlreadyExists.
    """
    with ctx.database.reading() as connection:
        row = _row(connection, group_id)
    wanted = row.display_name if name is None else _checked(name)
    kept = row.description if description is None else _checked_description(description)
    details = {
        field: [before, after]
        for field, before, after in (
            ("name", row.display_name, wanted),
            ("description", row.description, kept),
        )
        if before != after
    }

    def write(connection: Connection) -> None:
        _check_free(connection, row.source_id, wanted, group_id)
        groups.set_description(connection, group_id, kept)
        event = AuditEvent("changed group", "group", group_id, details={"group": wanted, **details})
        record_change(connection, ctx.keys, caller, clock.now(), event)

    if "name" in details:
        Intake(ctx.database, ctx.catalogue, LOCAL).rename_group(
            row.source_id, group_id, wanted, IngestOptions(trace=lambda _: write)
        )
    elif details:
        with ctx.database.writing() as connection:
            write(connection)
    return one(ctx, group_id)


def preview_members(ctx: AppContext, group_id: str, members: Members) -> Preview:
    """Return the effects of `change_members`; nothing is changed."""
    with ctx.database.reading() as connection:
        catalogue = ctx.catalogue.get(connection)
        row = _with_own_members(connection, catalogue, group_id, members)
        return preview.shown(
            connection, _planned(catalogue, row, _moves(connection, catalogue, row, members))
        )


def change_members(
    ctx: AppContext, caller: Caller, group_id: str, members: Members, sure: Confirmation = UNCONFIRMED
) -> GroupLine:
    """Add users and groups to a group whose members are managed in Dravo, and remove others.

    Raises:
        NotFound.
        InvalidInput: for an unknown member, a group that would contain itself, or a group whose members its
            source manages.
        StalePreview, NeedsConfirmation.
    """
    now = clock.now()
    with ctx.database.reading() as connection:
        catalogue = ctx.catalogue.get(connection)
        row = _with_own_members(connection, catalogue, group_id, members)
        moves = _moves(connection, catalogue, row, members)
        planned = _planned(catalogue, row, moves)
        cleared = preview.check(connection, planned, caller, sure)
        users = user_queries.users_by_id(connection, [*moves.add, *moves.remove][:MOST_NAMED])
    if not any((moves.add, moves.remove, moves.add_groups, moves.remove_groups)):
        return one(ctx, group_id)
    with ctx.database.writing() as connection:
        if row.connection_type != LOCAL:
            # The group itself stays as its source has it.
            check_revision(connection, catalogue.revision)
        elif not groups.write(connection, group_id, row.version, row.data, now):
            raise StalePreview("The group changed in the meantime.", "Preview again, then confirm.")
        for each in planned.touched:
            recompute_marks.mark_selected(connection, each, now, cleared)
        store_memberships.end_users(connection, group_id, moves.remove, now)
        store_memberships.end_members(connection, group_id, moves.remove_groups, now)
        store_memberships.add_users(connection, group_id, moves.add, now)
        store_memberships.add_members(connection, group_id, (), moves.add_groups, now)
        if moves.add_groups or moves.remove_groups:
            raise_revision(connection)
        details = {"name": row.display_name, "added": len(moves.add), "removed": len(moves.remove)}
        details |= {"added_groups": [*moves.add_groups], "removed_groups": [*moves.remove_groups]}
        personal = {
            what: [users[each].display_name for each in ids if each in users]
            for what, ids in (("added", moves.add), ("removed", moves.remove))
        }
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent("changed members", "group", group_id, details=details, personal=personal),
        )
    process_marks(ctx, USERS_PER_CHUNK)
    return one(ctx, group_id)


def preview_removing(ctx: AppContext, group_id: str) -> Preview:
    """Return the effects of `remove`; nothing is changed."""
    with ctx.database.reading() as connection:
        return preview.shown(connection, _gone(ctx, connection, _row(connection, group_id)))


def remove(ctx: AppContext, caller: Caller, group_id: str, sure: Confirmation = UNCONFIRMED) -> None:
    """Delete a local group; the access that it gives ends.

    Raises:
        NotFound; StalePreview, NeedsConfirmation.
    """
    now = clock.now()
    with ctx.database.reading() as connection:
        row = _row(connection, group_id)
        cleared = preview.check(connection, _gone(ctx, connection, row), caller, sure)
    with ctx.database.writing() as connection:
        if not groups.write(connection, group_id, row.version, row.data, now, gone=True):
            raise StalePreview("The group changed in the meantime.", "Preview again, then confirm.")
        recompute_marks.mark_selected(connection, store_memberships.users_within(group_id), now, cleared)
        groups.end_group(connection, group_id, now)
        raise_revision(connection)
        provisioned_groups.wake_group(connection, group_id, now)
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent("deleted group", "group", group_id, details={"name": row.display_name}),
        )
    process_marks(ctx, USERS_PER_CHUNK)


def _planned(catalogue: ConfigSnapshot, row: OwnedGroup, moves: MemberChanges) -> PlannedChange:
    """Return the change that other members would be."""
    parents = dict(catalogue.parents)
    for inner in moves.add_groups:
        parents[inner] = (*parents.get(inner, ()), row.id)
    for inner in moves.remove_groups:
        parents[inner] = tuple(each for each in parents.get(inner, ()) if each != row.id)
    coming, going = frozenset(moves.add), frozenset(moves.remove)
    users = store_memberships.some_users([*coming, *going])
    touched = (
        users,
        *(store_memberships.users_within(each) for each in (*moves.add_groups, *moves.remove_groups)),
    )

    def then(user: UserSnapshot) -> UserSnapshot:
        if user.user_id in coming:
            return with_groups(user, added=[row.id])
        return with_groups(user, removed=[row.id]) if user.user_id in going else user

    return PlannedChange(None, touched, replace(catalogue, parents=parents), then, row.display_name)


def _gone(ctx: AppContext, connection: Connection, row: OwnedGroup) -> PlannedChange:
    """Plan the deletion of a group."""
    catalogue = ctx.catalogue.get(connection)
    parents = {
        inner: tuple(each for each in outer if each != row.id)
        for inner, outer in catalogue.parents.items()
        if inner != row.id
    }
    then = replace(catalogue, parents=parents)
    return PlannedChange(
        None,
        (store_memberships.users_within(row.id),),
        then,
        lambda user: with_groups(user, removed=[row.id]),
        row.display_name,
    )


def _moves(
    connection: Connection, catalogue: ConfigSnapshot, row: OwnedGroup, members: Members
) -> MemberChanges:
    """Return the members to add and to remove, by ID.

    Raises:
        NotFound.
        InvalidInput: for a user who has left or is both added and removed, or a group that would contain
            itself.
    """
    listed = set(groups.listed_users(connection, row.id))
    inside = groups.listed_groups(connection, row.id)
    coming = {user.id: user for user in find_users(connection, members.add)}
    going = {user.id: user for user in find_users(connection, members.remove)}
    for user in coming.values():
        if user.id in going:
            raise InvalidInput(
                f"{user.display_name} cannot be added and removed in one request.",
                "List the user in `add` or in `remove`.",
                "remove",
            )
        if user.left_at is not None:
            raise InvalidInput(
                f"{user.display_name} has left.",
                "Remove the user from the list. Leavers cannot be group members.",
                "add",
            )
    around = {each.group_id for each in memberships((row.id,), catalogue.parents)}
    inner = dict.fromkeys(find_group(connection, each, None).id for each in members.add_groups)
    if around & inner.keys():
        raise InvalidInput(
            f"'{row.display_name}' is already a member of that group.",
            "Choose another group. A group cannot contain itself.",
            "add_groups",
        )
    return MemberChanges(
        tuple(each for each in coming if each not in listed),
        tuple(each for each in going if each in listed),
        tuple(each for each in inner if each not in inside),
        tuple(each for each in dict.fromkeys(members.remove_groups) if each in inside),
    )


def _with_own_members(
    connection: Connection, catalogue: ConfigSnapshot, group_id: str, members: Members
) -> OwnedGroup:
    """Return a group whose members are managed in Dravo.

    Raises:
        NotFound; InvalidInput.
    """
    row = group_queries.owned_group(connection, group_id)
    if row is None or catalogue.authority.of(row.source_id, group_id) != DRAVO:
        return _row(connection, group_id)
    if members.add_groups or members.remove_groups:
        raise InvalidInput(
            f"'{row.display_name}' belongs to the source {row.source_label}.",
            "Add users. Only local groups can have groups as members.",
            "add_groups",
        )
    return row


def _row(connection: Connection, group_id: str) -> OwnedGroup:
    """Return a local group's row.

    Raises:
        NotFound; InvalidInput if it is a source's.
    """
    row = group_queries.owned_group(connection, group_id)
    if row is None:
        raise NotFound(
            f"There is no group with the ID '{group_id}'.",
            "It may have been deleted. Choose one from the list of groups.",
        )
    if row.connection_type != LOCAL:
        raise InvalidInput(
            f"'{row.display_name}' belongs to the source {row.source_label}.",
            "Change it at the source, add it to a local group as a member, or let Dravo decide about its "
            "members.",
        )
    return row


def one(ctx: AppContext, group_id: str) -> GroupLine:
    """Return one group as lists show it."""
    with ctx.database.reading() as connection:
        found = group_queries.group(connection, group_id)
    if found is None:
        raise NotFound(f"There is no group with the ID '{group_id}'.")
    return found


def _checked(name: str) -> str:
    name = name.strip()
    if not name or len(name) > 200:
        raise InvalidInput(
            "A group name must have 1 to 200 characters.", "Enter a name of this length.", "name"
        )
    return name


def _checked_description(text: str) -> str:
    text = text.strip()
    if len(text) > LONGEST_DESCRIPTION:
        raise InvalidInput(
            f"The description has {len(text):,} characters.",
            f"Enter at most {LONGEST_DESCRIPTION:,} characters.",
            "description",
        )
    return text


def _check_free(connection: Connection, source_id: str, name: str, own_id: str) -> None:
    if group_queries.name_keys_in_use(connection, source_id, [fold(name)], own_id):
        raise AlreadyExists(
            f"A local group '{name}' exists already.",
            "Choose another name, or add users to the existing group.",
            "name",
        )

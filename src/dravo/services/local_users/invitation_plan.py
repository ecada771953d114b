"""What an invitation of several users would do: users, rejected lines, and the roles after acceptance."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

from sqlalchemy import Connection

from dravo.core.access.types import Assignment
from dravo.core.days import day_of
from dravo.core.errors import InvalidInput, StalePreview
from dravo.core.identity import invitations as core
from dravo.core.identity.invitations import (
    InvitationDefaults,
    InvitationLine,
    KnownNames,
    PlannedInvitation,
    RejectedLine,
)
from dravo.core.identity.names import fold, user_name_key
from dravo.core.identity.records import LOCAL, UserRecord
from dravo.core.instants import Instant
from dravo.core.plan_types import ConfigSnapshot, Role, UserSnapshot
from dravo.core.planning import plan_user
from dravo.protocols.directory.csv_table import CsvSettings, read_table
from dravo.protocols.directory.reader import BadLine, DirectoryTrouble
from dravo.services import settings
from dravo.services.changes.effects import count
from dravo.services.changes.removal_limits import NeedsConfirmation
from dravo.services.context import AppContext
from dravo.services.ingest.local import users as local_users
from dravo.services.ingest.local.source import LAST
from dravo.services.security.permissions import Caller
from dravo.store import clock
from dravo.store.local import invitations as stored
from dravo.store.queries import groups as group_queries
from dravo.store.sources import sources as source_rows

MOST = 1_000
# The ID of a user who is not created yet.
NEW = "new"
NO_DEFAULTS = InvitationDefaults()
LARGEST_FILE = 4 * 1024 * 1024


@dataclass(frozen=True)
class InvitationRequest:
    """A request to invite users.

    Attributes:
        users: the users of a list, each with values by column of the file.
        csv: a CSV file (RFC 4180) in place of a list; empty for none.
        defaults: groups, role and last day of users whose line does not say otherwise.
        with_passwords: create one-time passwords in place of sending emails.
        expect: the number of users in the preview, or None.
        confirm: the text that was typed to confirm a highest role.
    """

    users: Sequence[Mapping[str, str]] = ()
    csv: bytes = field(default=b"", repr=False)
    defaults: InvitationDefaults = NO_DEFAULTS
    with_passwords: bool = False
    expect: int | None = None
    confirm: str | None = None


@dataclass(frozen=True)
class InvitationItem:
    """A user to invite, with the roles after acceptance as (application label, role label)."""

    invitation: PlannedInvitation
    roles: list[tuple[str, str]]
    highest: bool


@dataclass(frozen=True)
class PlannedInvitations:
    """The users to invite, the rejected lines, and what they were planned with."""

    items: list[InvitationItem]
    rejected: list[RejectedLine]
    zone: str
    catalogue: ConfigSnapshot = field(repr=False)

    def role_of(self, item: PlannedInvitation) -> Role | None:
        """Return the role that an invitation names, or None."""
        if not item.role:
            return None
        return next(
            role
            for role in self.catalogue.roles.values()
            if role.key == item.role
            and self.catalogue.applications[role.application_id].key == item.application
        )


@dataclass(frozen=True)
class PreviewedInvitation:
    """A user to invite, as the API shows it."""

    line: int
    email: str
    user_name: str
    groups: list[str]
    roles: list[str]
    until: str | None
    highest: bool


@dataclass(frozen=True)
class InvitationPreview:
    """What an invitation would do; `confirm` says why it needs a confirmation, `type_to_confirm` by what."""

    items: list[PreviewedInvitation]
    rejected: list[RejectedLine]
    confirm: str
    type_to_confirm: str


def preview(ctx: AppContext, caller: Caller, request: InvitationRequest) -> InvitationPreview:
    """Return the users that would be invited, with their roles, and the rejected lines; nothing is changed.

    Raises:
        InvalidInput: for a file that cannot be read; NotPermitted.
    """
    with ctx.database.reading() as connection:
        found = planned(ctx, connection, caller, request)
        serious = _serious(connection, found)
    return InvitationPreview(
        items=[
            PreviewedInvitation(
                line=each.invitation.line,
                email=each.invitation.email,
                user_name=each.invitation.fields["user_name"],
                groups=[name for _, name in each.invitation.groups],
                roles=[f"{application}: {role}" for application, role in each.roles],
                until=each.invitation.until or None,
                highest=each.highest,
            )
            for each in found.items
        ],
        rejected=found.rejected,
        confirm=serious,
        type_to_confirm=_typed(found),
    )


def planned(
    ctx: AppContext, connection: Connection, caller: Caller, request: InvitationRequest
) -> PlannedInvitations:
    """Plan an invitation.

    Raises:
        InvalidInput: for a file that cannot be read, or too many lines; NotPermitted.
    """
    local_users.check_allowed(connection)
    lines, rejected = _lines(request)
    catalogue = ctx.catalogue.get(connection)
    zone = settings.time_zone(connection)
    known = _known(connection, catalogue, lines, zone)
    plan = core.plan_invitations(lines, known, request.defaults, needs_email=not request.with_passwords)
    if any(each.role for each in plan.items):
        caller.require("assignments.change")
    if any(each.groups for each in plan.items):
        caller.require("groups.change")
    now = clock.now()
    if NEW not in catalogue.priority:
        catalogue = replace(catalogue, priority={**catalogue.priority, NEW: LAST})
    found = PlannedInvitations([], [*rejected, *plan.rejected], zone, catalogue)
    own = source_rows.first_of_type(connection, LOCAL) or NEW
    for each in plan.items:
        try:
            found.items.append(_with_roles(found, each, own, now))
        except InvalidInput as wrong:
            found.rejected.append(RejectedLine(each.line, each.email, wrong.message, wrong.hint))
    found.rejected.sort(key=lambda each: each.line)
    return found


def check(connection: Connection, found: PlannedInvitations, request: InvitationRequest) -> None:
    """Check that an invitation is what was previewed, and that a highest role is confirmed.

    Raises:
        InvalidInput: if no user can be invited; StalePreview, NeedsConfirmation.
    """
    if request.expect is not None and request.expect != len(found.items):
        raise StalePreview(
            f"The preview is out of date. The result is now: {len(found.items)} users.",
            "Preview again, then confirm.",
        )
    if not found.items:
        first = found.rejected[0] if found.rejected else None
        message = f"Line {first.line}: {first.message}" if first else "The list of users is empty."
        raise InvalidInput(message, first.hint if first else "Name at least one user.", "users")
    serious = _serious(connection, found)
    if serious and request.confirm != _typed(found):
        raise NeedsConfirmation(serious, f"Type '{_typed(found)}' to confirm.", "confirm")


def _typed(found: PlannedInvitations) -> str:
    if len(found.items) != 1:
        return f"{len(found.items)} users"
    return str(found.items[0].invitation.fields["user_name"])


def _serious(connection: Connection, found: PlannedInvitations) -> str:
    number = sum(each.highest for each in found.items)
    if not number or number < settings.read(connection)["highest_role_confirmation"]:
        return ""
    return f"{count(number, 'user would get', 'users would get')} a highest role."


def _lines(request: InvitationRequest) -> tuple[list[InvitationLine], list[RejectedLine]]:
    """Return the lines of a list or a file, and the lines that cannot be read."""
    needs_email = not request.with_passwords
    if request.csv and request.users:
        raise InvalidInput("The request has a list and a file.", "Send `users` or `csv`.", "csv")
    if not request.csv:
        lines = [
            core.read_line(number, each, needs_email=needs_email)
            for number, each in enumerate(request.users, 1)
        ]
        return _limited(lines), []
    if len(request.csv) > LARGEST_FILE:
        raise InvalidInput("The file is too large.", f"Send at most {LARGEST_FILE // 1_048_576} MB.", "csv")
    try:
        table = read_table(request.csv, "invitations", CsvSettings.model_validate({}))
        read = list(table.lines)
    except DirectoryTrouble as wrong:
        raise InvalidInput(wrong.message, wrong.hint, "csv") from None
    if unknown := core.unknown_columns(table.columns):
        name, hint = unknown[0]
        raise InvalidInput(f"The column '{name}' is unknown.", hint, "csv")
    lines = [
        core.read_line(number, {name: cells[0] for name, cells in row.items()}, needs_email=needs_email)
        for number, row in read
        if not isinstance(row, BadLine)
    ]
    bad = [
        RejectedLine(number, "", row.message, row.hint) for number, row in read if isinstance(row, BadLine)
    ]
    return _limited(lines), bad


def _limited(lines: list[InvitationLine]) -> list[InvitationLine]:
    if len(lines) > MOST:
        raise InvalidInput(
            f"The list has {len(lines):,} users.", f"Invite at most {MOST:,} users at a time.", "users"
        )
    return lines


def _known(
    connection: Connection, catalogue: ConfigSnapshot, lines: Sequence[InvitationLine], zone: str
) -> KnownNames:
    wanted = [each.values.get("email", "") for each in lines]
    names = [each.values.get("user_name") or each.values.get("email", "") for each in lines]
    user_names, emails = stored.names_in_use(
        connection, {user_name_key(each) for each in names}, {fold(each) for each in wanted}
    )
    groups = {}
    for group in group_queries.local_groups(connection):
        groups[group[0]] = groups[fold(group[1])] = group
    roles: dict[str, set[str]] = {each.key: set() for each in catalogue.applications.values()}
    for role in catalogue.roles.values():
        roles[catalogue.applications[role.application_id].key].add(role.key)
    return KnownNames(
        user_names=user_names,
        emails=emails,
        groups=groups,
        roles={key: frozenset(keys) for key, keys in roles.items()},
        today=day_of(clock.now(), zone),
    )


def _with_roles(
    found: PlannedInvitations, item: PlannedInvitation, source_id: str, now: Instant
) -> InvitationItem:
    """Return a user to invite with the roles that the user gets as soon as the user is active."""
    role, catalogue = found.role_of(item), found.catalogue
    direct = () if role is None else (Assignment(NEW, role.application_id, role.id, NEW),)
    data = local_users.read({**item.fields, "active": True})
    record = UserRecord(NEW, source_id, LOCAL, data, NEW)
    groups = tuple(each for each, _ in item.groups)
    outcome = plan_user(UserSnapshot(NEW, None, (record,), groups, direct), catalogue, now)
    given = [each for each in outcome.access if not each.closed]
    return InvitationItem(
        invitation=item,
        roles=sorted(
            (catalogue.applications[each.application_id].label, catalogue.roles[each.role_id].label)
            for each in given
        ),
        highest=any(catalogue.highest.get(each.application_id) == each.role_id for each in given),
    )

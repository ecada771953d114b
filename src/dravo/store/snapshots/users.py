"""Reads users for planning: records, groups, direct assignments, access and accounts."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, and_, bindparam, exists, or_, select, union_all

from dravo.core.access.license_plans import Seat
from dravo.core.access.types import Assignment
from dravo.core.identity.marks import UserMark
from dravo.core.identity.records import UserRecord
from dravo.core.instants import Instant
from dravo.core.plan_types import HeldAccess, HeldAccount, UserSnapshot
from dravo.store import records
from dravo.store import tables as t
from dravo.store.membership_authority import record_counts, user_counts
from dravo.store.prepared_statements import PreparedStatement
from dravo.store.snapshots.config import assignment_of

CHUNK = 500

_IDS: Any = bindparam("ids", expanding=True)
_USERS = select(
    t.user.c.id,
    t.user.c.revision,
    t.user.c.created_at,
    t.user.c.active,
    t.user.c.mark,
    t.user.c.mark_from_at,
).where(t.user.c.id.in_(_IDS))
_RECORDS = select(
    t.record.c.id,
    t.record.c.source_id,
    t.record.c.connection_type,
    records.IN_USE,
    t.record.c.user_id,
    records.GONE,
    t.record.c.undecided,
).where(t.record.c.user_id.in_(_IDS))
_GROUPS = union_all(
    select(t.record.c.user_id, t.membership.c.group_id, t.membership.c.id.label("place"))
    .join(t.membership, t.membership.c.record_id == t.record.c.id)
    .join(t.group, t.group.c.id == t.membership.c.group_id)
    .where(
        t.record.c.user_id.in_(_IDS),
        t.membership.c.until_at.is_(None),
        t.membership.c.record_id.is_not(None),
        t.record.c.left_out.is_(None),
        t.group.c.left_out.is_(None),
        record_counts(),
    ),
    select(t.membership.c.user_id, t.membership.c.group_id, t.membership.c.id.label("place"))
    .join(t.group, t.group.c.id == t.membership.c.group_id)
    .where(
        t.membership.c.user_id.in_(_IDS),
        t.membership.c.until_at.is_(None),
        t.membership.c.user_id.is_not(None),
        t.group.c.left_out.is_(None),
        user_counts(),
    ),
).order_by("place")
_DIRECT = select(t.assignment).where(t.assignment.c.user_id.in_(_IDS), t.assignment.c.removed_at.is_(None))
_ACCESS = select(
    t.access.c.user_id, t.access.c.id, t.access.c.application_id, t.access.c.role_id, t.access.c.reasons
).where(t.access.c.user_id.in_(_IDS), t.access.c.until_at.is_(None))
_KEPT = select(t.retained_role.c.user_id, t.retained_role.c.application_id, t.retained_role.c.role_id).where(
    t.retained_role.c.user_id.in_(_IDS), t.retained_role.c.until_at.is_(None)
)
_SEATS = select(
    t.seat.c.user_id, t.seat.c.id, t.seat.c.application_id, t.seat.c.plan_id, t.seat.c.from_at
).where(t.seat.c.user_id.in_(_IDS), t.seat.c.until_at.is_(None))
_ACCOUNTS = select(
    t.account.c.user_id,
    t.account.c.id,
    t.account.c.application_id,
    t.account.c.desired,
    t.account.c.desired_version,
).where(t.account.c.user_id.in_(_IDS))


_OTHER = t.record.alias("other")
_RECORD_WITH_TIES = PreparedStatement(
    select(
        t.record.c.id,
        t.record.c.user_id,
        t.record.c.data,
        t.record.c.version,
        t.record.c.created_at,
        t.record.c.modified_at,
        t.record.c.undecided,
        t.user.c.revision,
        t.user.c.created_at.label("known_since"),
        or_(
            exists().where(
                t.membership.c.record_id == t.record.c.id,
                t.membership.c.until_at.is_(None),
                t.membership.c.record_id.is_not(None),
            ),
            exists().where(
                t.membership.c.user_id == t.record.c.user_id,
                t.membership.c.until_at.is_(None),
                t.membership.c.user_id.is_not(None),
            ),
            exists().where(t.access.c.user_id == t.record.c.user_id, t.access.c.until_at.is_(None)),
            exists().where(t.account.c.user_id == t.record.c.user_id),
            exists().where(t.assignment.c.user_id == t.record.c.user_id, t.assignment.c.removed_at.is_(None)),
            exists().where(
                t.retained_role.c.user_id == t.record.c.user_id, t.retained_role.c.until_at.is_(None)
            ),
            exists().where(_OTHER.c.user_id == t.record.c.user_id, _OTHER.c.id != t.record.c.id),
            t.user.c.mark.is_not(None),
        ).label("tied"),
        and_(t.record.c.in_use.is_(None), t.record.c.left_out.is_(None), t.record.c.waiting.is_(None)).label(
            "as_sent"
        ),
    )
    .join(t.user, t.user.c.id == t.record.c.user_id)
    .where(
        t.record.c.id == bindparam("id"),
        t.record.c.source_id == bindparam("source"),
        t.record.c.connection_type == bindparam("connection_type"),
        t.record.c.deleted_at.is_(None),
    )
)


@dataclass(frozen=True)
class RecordWithTies:
    """A record of a source with columns of its user, in the order of the select.

    Attributes:
        tied: whether the user has groups, access, accounts, assignments, other records or a mark.
        as_sent: whether the record counts as the source sent it.
    """

    id: str
    user_id: str
    data: dict[str, Any]
    version: int
    created_at: Instant
    modified_at: Instant
    undecided: bool
    revision: int
    known_since: Instant
    tied: bool
    as_sent: bool


@dataclass(frozen=True)
class RecordAndUser:
    """A record of a source and its user."""

    record: RecordWithTies
    user: UserSnapshot


def of_record(
    connection: Connection, source_id: str, connection_type: str, record_id: str
) -> RecordAndUser | None:
    """Return one record of a source and its user; None without such a record.

    A user without groups and access costs one query.
    """
    row = _record(connection, source_id, connection_type, record_id)
    if row is None:
        return None
    if row.tied or not row.as_sent:
        return RecordAndUser(row, users(connection, [row.user_id])[row.user_id])
    return RecordAndUser(row, _alone(row, source_id, connection_type))


def at_a_glance(
    connection: Connection, source_id: str, connection_type: str, record_id: str
) -> RecordAndUser | None:
    """Return one record and its user by a single query, without a transaction.

    None if that is not enough: there is no such record, or its user has groups, access or other records.
    """
    row = _record(connection, source_id, connection_type, record_id)
    if row is None or row.tied or not row.as_sent:
        return None
    return RecordAndUser(row, _alone(row, source_id, connection_type))


def _record(
    connection: Connection, source_id: str, connection_type: str, record_id: str
) -> RecordWithTies | None:
    row = _RECORD_WITH_TIES.first(
        connection, {"id": record_id, "source": source_id, "connection_type": connection_type}
    )
    return None if row is None else RecordWithTies(*row)


def _alone(row: RecordWithTies, source_id: str, connection_type: str) -> UserSnapshot:
    record = UserRecord(row.id, source_id, connection_type, row.data, row.user_id, undecided=row.undecided)
    return UserSnapshot(row.user_id, row.revision, (record,), known_since=row.known_since)


def users(connection: Connection, user_ids: Iterable[str]) -> dict[str, UserSnapshot]:
    """Return users by ID; unknown IDs are left out."""
    wanted = list(dict.fromkeys(user_ids))
    found: dict[str, UserSnapshot] = {}
    for start in range(0, len(wanted), CHUNK):
        found.update(_chunk(connection, wanted[start : start + CHUNK]))
    return found


def _chunk(connection: Connection, ids: Sequence[str]) -> dict[str, UserSnapshot]:
    given = {"ids": ids}
    reported: defaultdict[str, list[UserRecord]] = defaultdict(list)
    for row in connection.execute(_RECORDS, given):
        reported[row[4]].append(UserRecord(row[0], row[1], row[2], row[3], row[4], bool(row[5]), row[6]))
    within: defaultdict[str, list[str]] = defaultdict(list)
    for user_id, group_id, _ in connection.execute(_GROUPS, given):
        within[user_id].append(group_id)
    direct: defaultdict[str, list[Assignment]] = defaultdict(list)
    for row in connection.execute(_DIRECT, given):
        direct[row.user_id].append(assignment_of(row))
    access: defaultdict[str, list[HeldAccess]] = defaultdict(list)
    for user_id, access_id, application_id, role_id, reasons in connection.execute(_ACCESS, given):
        access[user_id].append(HeldAccess(access_id, application_id, role_id, tuple(reasons)))
    accounts: defaultdict[str, list[HeldAccount]] = defaultdict(list)
    for user_id, account_id, application_id, due, desired_version in connection.execute(_ACCOUNTS, given):
        accounts[user_id].append(HeldAccount(account_id, application_id, due, desired_version))
    kept: defaultdict[str, list[tuple[str, str]]] = defaultdict(list)
    for user_id, application_id, role_id in connection.execute(_KEPT, given):
        kept[user_id].append((application_id, role_id))
    seats: defaultdict[str, list[Seat]] = defaultdict(list)
    for user_id, seat_id, application_id, plan_id, since in connection.execute(_SEATS, given):
        seats[user_id].append(Seat(seat_id, application_id, plan_id, since is not None))
    return {
        user_id: UserSnapshot(
            user_id,
            revision,
            tuple(reported[user_id]),
            tuple(dict.fromkeys(within[user_id])),
            tuple(direct[user_id]),
            tuple(access[user_id]),
            tuple(accounts[user_id]),
            known_since,
            tuple(kept[user_id]),
            tuple(seats[user_id]),
            UserMark(mark, mark_from_at) if mark else None,
            not active,
        )
        for user_id, revision, known_since, active, mark, mark_from_at in connection.execute(_USERS, given)
    }


def users_of_records(connection: Connection, record_ids: Iterable[str]) -> dict[str, str]:
    """Return user IDs by record ID, for records that count for a user."""
    wanted = list(record_ids)
    found: dict[str, str] = {}
    statement = select(t.record.c.id, t.record.c.user_id).where(
        t.record.c.id.in_(_IDS), t.record.c.user_id.is_not(None), t.record.c.left_out.is_(None)
    )
    for start in range(0, len(wanted), CHUNK):
        rows: Any = connection.execute(statement, {"ids": wanted[start : start + CHUNK]})
        found.update({row.id: row.user_id for row in rows})
    return found

"""Records of inbound SCIM with their standing, and marks for those to which the policy is applied again."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, Select, bindparam, delete, func, literal, or_, select, update

from dravo.core.identity.acceptance import Standing
from dravo.core.identity.records import INBOUND_SCIM
from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.groups import CHUNK
from dravo.store.pagination import Page, PageRequest, page
from dravo.store.prepared_statements import PreparedStatement
from dravo.store.sqlite import insert_unless_there

# Where every group of a source is looked at again after its policy changed.
CHECK = "check"
_M = t.membership.c


@dataclass(frozen=True)
class ReceivedRecord:
    """A record of inbound SCIM with its standing, in the order of the select."""

    id: str
    source_id: str
    user_id: str | None
    data: dict[str, Any]
    version: int
    created_at: Instant
    modified_at: Instant
    deleted_at: Instant | None
    undecided: bool
    in_use: dict[str, Any] | None
    left_out: str | None
    waiting: str | None

    @property
    def user(self) -> dict[str, Any]:
        """The user in use."""
        return self.data if self.in_use is None else self.in_use

    @property
    def counts(self) -> bool:
        """Whether the record counts for its user."""
        deleted = self.deleted_at is not None and self.waiting is None
        return self.user_id is not None and self.left_out is None and not deleted


_RECORD: tuple[Any, ...] = (
    t.record.c.id,
    t.record.c.source_id,
    t.record.c.user_id,
    t.record.c.data,
    t.record.c.version,
    t.record.c.created_at,
    t.record.c.modified_at,
    t.record.c.deleted_at,
    t.record.c.undecided,
    t.record.c.in_use,
    t.record.c.left_out,
    t.record.c.waiting,
)


def record(connection: Connection, source_id: str, record_id: str) -> ReceivedRecord | None:
    """Return a record that the source has, or None."""
    r = t.record.c
    where = (
        r.id == record_id,
        r.source_id == source_id,
        r.connection_type == INBOUND_SCIM,
        r.deleted_at.is_(None),
    )
    row = connection.execute(select(*_RECORD).where(*where)).first()
    return None if row is None else ReceivedRecord(*row)


def records(connection: Connection, record_ids: Sequence[str]) -> list[ReceivedRecord]:
    """Return some records, deleted ones too, by ID."""
    found: list[ReceivedRecord] = []
    for start in range(0, len(record_ids), CHUNK):
        some = t.record.c.id.in_(record_ids[start : start + CHUNK])
        found += [ReceivedRecord(*row) for row in connection.execute(select(*_RECORD).where(some))]
    return sorted(found, key=lambda each: each.id)


def page_of_records(connection: Connection, source_id: str, after: str, most: int) -> list[ReceivedRecord]:
    """Return the next records of a source by ID; deleted ones only while their deletion waits."""
    r = t.record.c
    where = (
        r.source_id == source_id,
        r.connection_type == INBOUND_SCIM,
        or_(r.deleted_at.is_(None), r.waiting.is_not(None)),
        r.id > after,
    )
    rows = connection.execute(select(*_RECORD).where(*where).order_by(r.id).limit(most))
    return [ReceivedRecord(*row) for row in rows]


_WRITE_STANDING = PreparedStatement(
    update(t.record)
    .where(
        t.record.c.id == bindparam("record"),
        t.record.c.version == bindparam("seen"),
        t.record.c.left_out.is_not_distinct_from(bindparam("seen_out")),
        t.record.c.user_id.is_not_distinct_from(bindparam("seen_user")),
    )
    .values(
        in_use=bindparam("used", type_=t.record.c.in_use.type),
        left_out=bindparam("out"),
        waiting=bindparam("waits"),
        user_id=bindparam("linked"),
        undecided=bindparam("open"),
    )
)


def write_standing(
    connection: Connection,
    seen: ReceivedRecord,
    new: Standing,
    user_id: str | None,
    *,
    undecided: bool,
) -> bool:
    """Write how a record counts; False if it changed since it was read."""
    values = {
        "record": seen.id,
        "seen": seen.version,
        "seen_out": seen.left_out,
        "seen_user": seen.user_id,
        "used": new.in_use,
        "out": new.left_out,
        "waits": new.waiting,
        "linked": user_id,
        "open": undecided,
    }
    return _WRITE_STANDING.change(connection, values) == 1


def store(
    connection: Connection,
    seen: ReceivedRecord,
    columns: Mapping[str, Any],
    data: Mapping[str, Any],
    now: Instant,
) -> bool:
    """Write what the source sent, while the user in use stays; False if the record changed since it was read.

    Args:
        columns: how the record is found, and its standing.
    """
    r = t.record.c
    values = {**columns, "data": data, "version": seen.version + 1, "modified_at": now}
    where = (r.id == seen.id, r.version == seen.version, r.deleted_at.is_(None))
    return connection.execute(update(t.record).where(*where).values(**values)).rowcount == 1


def mark(connection: Connection, source_id: str, record_ids: Collection[str], now: Instant) -> None:
    """Mark records, to which the policy is applied again."""
    if record_ids:
        rows = [{"record_id": each, "source_id": source_id, "since": now} for each in record_ids]
        connection.execute(insert_unless_there(t.pending_policy).on_conflict_do_nothing(), rows)


def mark_selected(connection: Connection, source_id: str, chosen: Select[Any], now: Instant) -> None:
    """Mark the records that a select of IDs yields."""
    statement = insert_unless_there(t.pending_policy).from_select(
        ["record_id", "source_id", "since"], chosen.add_columns(literal(source_id), literal(now))
    )
    connection.execute(statement.on_conflict_do_nothing())


def mark_source(connection: Connection, source_id: str, now: Instant) -> None:
    """Mark all records and groups of a source, because its policy changed."""
    r, g = t.record.c, t.group.c
    mine = select(r.id).where(
        r.source_id == source_id,
        r.connection_type == INBOUND_SCIM,
        or_(r.deleted_at.is_(None), r.waiting.is_not(None)),
    )
    mark_selected(connection, source_id, mine, now)
    where = (g.source_id == source_id, g.connection_type == INBOUND_SCIM, g.deleted_at.is_(None))
    connection.execute(update(t.group).where(*where, g.waiting.is_(None)).values(waiting=CHECK))


def marked(connection: Connection, most: int, source_id: str | None = None) -> list[tuple[str, str]]:
    """Return (record ID, source ID) of marked records, at most a number of one source."""
    p = t.pending_policy.c
    if source_id is None:
        source_id = connection.execute(select(p.source_id).limit(1)).scalar()
        if source_id is None:
            return []
    rows = connection.execute(
        select(p.record_id, p.source_id).where(p.source_id == source_id).order_by(p.record_id).limit(most)
    )
    return [(row.record_id, row.source_id) for row in rows]


def how_many_marked(connection: Connection, source_id: str) -> int:
    """Return the number of marked records of a source."""
    p = t.pending_policy.c
    statement = select(func.count()).select_from(t.pending_policy).where(p.source_id == source_id)
    return int(connection.execute(statement).scalar_one())


def remove_marks(connection: Connection, record_ids: Sequence[str]) -> None:
    """Remove the marks of records."""
    p = t.pending_policy.c
    for start in range(0, len(record_ids), CHUNK):
        connection.execute(delete(t.pending_policy).where(p.record_id.in_(record_ids[start : start + CHUNK])))


def records_within(group_ids: Collection[str]) -> Select[str]:
    """Return the select of records in some groups, directly or through nested groups."""
    within = select(t.group.c.id).where(t.group.c.id.in_(group_ids)).cte("within", recursive=True)
    inner = select(_M.inner_group_id).where(
        _M.group_id == within.c.id, _M.inner_group_id.is_not(None), _M.until_at.is_(None)
    )
    within = within.union(inner)
    return (
        select(_M.record_id)
        .where(_M.group_id.in_(select(within.c.id)), _M.record_id.is_not(None), _M.until_at.is_(None))
        .distinct()
    )


@dataclass(frozen=True)
class StandingNumbers:
    """How many records of a source count, are left out, by reason, and wait, by kind."""

    accepted: int
    left_out: dict[str, int]
    waiting: dict[str, int]


def page_of_standings(
    connection: Connection, source_id: str, page_request: PageRequest, only: str | None
) -> Page[ReceivedRecord]:
    """Return a page of records that count for no user or of which something waits, newest first.

    Args:
        only: a reason or kind; None for all.
    """
    r = t.record.c
    kept = or_(r.left_out.is_not(None), r.waiting.is_not(None))
    if only is not None:
        kept = or_(r.left_out == only, r.waiting == only)
    where = (r.source_id == source_id, r.connection_type == INBOUND_SCIM, kept)
    present = or_(r.deleted_at.is_(None), r.waiting.is_not(None))
    return page(
        connection,
        select(*_RECORD).where(*where, present),
        [r.id.desc()],
        page_request,
        lambda row: ReceivedRecord(*row[: len(_RECORD)]),
    )


def how_many(connection: Connection, source_id: str, connection_type: str) -> int:
    """Return the number of records of one connection type that a source has."""
    r = t.record.c
    where = (r.source_id == source_id, r.connection_type == connection_type, r.deleted_at.is_(None))
    return int(connection.execute(select(func.count()).select_from(t.record).where(*where)).scalar_one())


def uses_inbound(connection: Connection, source_id: str) -> bool:
    """Return whether a source uses inbound SCIM: it has a token or a record, or no other connection."""
    k, r = t.source_token.c, t.record.c
    used = (
        select(k.id).where(k.source_id == source_id),
        select(r.id).where(r.source_id == source_id, r.connection_type == INBOUND_SCIM),
    )
    if any(connection.execute(each.limit(1)).first() is not None for each in used):
        return True
    others = (
        select(t.source_import.c.source_id).where(t.source_import.c.source_id == source_id),
        select(t.source_sign_in.c.source_id).where(t.source_sign_in.c.source_id == source_id),
    )
    return all(connection.execute(each).first() is None for each in others)


def numbers(connection: Connection, source_id: str) -> StandingNumbers:
    """Return how many records of a source count, are left out and wait."""
    r = t.record.c
    mine = (r.source_id == source_id, r.connection_type == INBOUND_SCIM)
    present = (*mine, r.deleted_at.is_(None))
    total = connection.execute(select(func.count()).select_from(t.record).where(*present)).scalar_one()
    out = connection.execute(
        select(r.left_out, func.count()).where(*present, r.left_out.is_not(None)).group_by(r.left_out)
    )
    left_out = {row[0]: int(row[1]) for row in out}
    waits = connection.execute(
        select(r.waiting, func.count()).where(*mine, r.waiting.is_not(None)).group_by(r.waiting)
    )
    return StandingNumbers(
        int(total) - sum(left_out.values()), left_out, {row[0]: int(row[1]) for row in waits}
    )

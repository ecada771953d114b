"""Erases the personal values of a user, and stores keyed digests of identifiers, by which the records of the
user are ignored.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import ColumnElement, Connection, Text, and_, cast, delete, func, insert, or_, select, update

from dravo.core.identity.acceptance import ERASED, PENDING
from dravo.core.identity.records import INBOUND_SCIM
from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.notifications.messages import SENT, SUMMARY
from dravo.store.pagination import Page, PageRequest, page, shown_as
from dravo.store.received import records as received

NAME = "Erased user"


@dataclass(frozen=True)
class ErasedRecord:
    """A record of a user before it is erased."""

    id: str
    source_id: str
    connection_type: str
    native_id: str | None
    user_name_key: str
    external_id: str | None


def records_of(connection: Connection, user_id: str) -> list[ErasedRecord]:
    """Return all records of a user, deleted ones too."""
    r = t.record.c
    columns = (r.id, r.source_id, r.connection_type, r.native_id, r.user_name_key, r.external_id)
    rows = connection.execute(select(*columns).where(r.user_id == user_id))
    return [ErasedRecord(*row) for row in rows]


@dataclass(frozen=True)
class WhatIsLeft:
    """What keeps a user from being erased: open tasks, and active accounts in applications."""

    open_tasks: int
    accounts: int


def what_is_left(connection: Connection, user_id: str) -> WhatIsLeft:
    """Return what is still going on about a user."""
    d, a = t.task.c, t.account.c
    tasks = select(func.count()).select_from(t.task).where(d.user_id == user_id, d.closed_at.is_(None))
    accounts = (
        select(func.count()).select_from(t.account).where(a.user_id == user_id, a.remote_id.is_not(None))
    )
    return WhatIsLeft(
        int(connection.execute(tasks).scalar_one()), int(connection.execute(accounts).scalar_one())
    )


def erase(connection: Connection, user: Any, records: Sequence[ErasedRecord], now: Instant) -> dict[str, int]:
    """Erase what is stored about a user; return how many rows of each kind were erased.

    The row of the user stays without values, so that access history and reviews stay complete.

    Args:
        user: the row of the user.
        records: the records of the user.
    """
    ids = [each.id for each in records]
    _delete_messages(connection, user)
    counts = {
        "records": len(ids),
        "memberships": _delete_memberships(connection, user.id, ids),
        "accounts": _delete_accounts(connection, user.id),
        "traces": _delete_traces(connection, user, records),
        "audit_entries": _blank_audit(connection, user),
    }
    for table in (t.record_unique, t.pending_policy):
        connection.execute(delete(table).where(table.c.record_id.in_(ids)))
    _delete_conflicts(connection, user.id, records)
    connection.execute(delete(t.run_entry).where(t.run_entry.c.user_id == user.id))
    connection.execute(delete(t.access_request).where(t.access_request.c.user_id == user.id))
    for table in (t.user_session, t.local_password, t.invitation):
        connection.execute(delete(table).where(table.c.user_id == user.id))
    for table in (t.second_factor, t.recovery_code, t.passkey, t.sign_in_step):
        connection.execute(delete(table).where(table.c.owner_id == user.id))
    connection.execute(delete(t.pending_recompute).where(t.pending_recompute.c.user_id == user.id))
    connection.execute(delete(t.record).where(t.record.c.id.in_(ids)))
    _end_what_is_given(connection, user.id, now)
    _blank_user(connection, user, now)
    return counts


def _delete_memberships(connection: Connection, user_id: str, record_ids: Collection[str]) -> int:
    m = t.membership.c
    mine = or_(m.record_id.in_(record_ids), m.user_id == user_id)
    return connection.execute(delete(t.membership).where(mine)).rowcount


def _delete_accounts(connection: Connection, user_id: str) -> int:
    tasks = select(t.task.c.id).where(t.task.c.user_id == user_id)
    accounts = select(t.account.c.id).where(t.account.c.user_id == user_id)
    connection.execute(delete(t.task_attempt).where(t.task_attempt.c.task_id.in_(tasks)))
    connection.execute(delete(t.task).where(t.task.c.user_id == user_id))
    connection.execute(delete(t.drift).where(t.drift.c.account_id.in_(accounts)))
    connection.execute(delete(t.provisioned_member).where(t.provisioned_member.c.account_id.in_(accounts)))
    return connection.execute(delete(t.account).where(t.account.c.user_id == user_id)).rowcount


def _delete_messages(connection: Connection, user: Any) -> None:
    """Delete the emails to the user, and the events that name the user, with the messages about them.

    Summaries can name the user too; their texts are deleted.
    """
    q, s, e, m = t.access_request.c, t.sign_in_trace.c, t.notification_event.c, t.message.c
    about = select(q.id).where(q.user_id == user.id).union(select(s.id).where(_is_trace_of(user)))
    events = select(e.id).where(e.subject_id.in_(about))
    theirs = [m.event_id.in_(events)]
    if user.email:
        theirs.append(func.lower(m.recipient) == user.email.lower())
    connection.execute(delete(t.message).where(or_(*theirs)))
    connection.execute(delete(t.notification_event).where(e.id.in_(events)))
    connection.execute(update(t.message).where(m.kind == SUMMARY, m.status == SENT).values(content=None))


def _is_trace_of(user: Any) -> ColumnElement[bool]:
    """Return the condition for traces of sign-ins by the user, by ID or by name."""
    s = t.sign_in_trace.c
    names = [each for each in (user.user_name, user.display_name, user.email) if each]
    return or_(s.user_id == user.id, and_(s.user_id.is_(None), s.name.in_(names)))


def _delete_traces(connection: Connection, user: Any, records: Sequence[ErasedRecord]) -> int:
    """Delete the traces of requests and sign-ins that name the user, by ID or by user name."""
    r = t.trace.c
    ids = [user.id, *(each.id for each in records)]
    named = [func.instr(r.path, each) > 0 for each in ids]
    named += [func.instr(cast(r.effects, Text), each) > 0 for each in ids]
    named += [func.instr(func.lower(r.body), f'"{user.user_name_key}"') > 0]
    number = connection.execute(delete(t.trace).where(or_(*named))).rowcount
    number += connection.execute(delete(t.sign_in_trace).where(_is_trace_of(user))).rowcount
    keys = [each for each in (user.user_name_key, user.email_key) if each]
    connection.execute(delete(t.test_sign_in).where(t.test_sign_in.c.user_key.in_(keys)))
    return number


def _blank_audit(connection: Connection, user: Any) -> int:
    """Remove values about a user from the audit log; they are outside its chain, so it stays verifiable."""
    a = t.audit.c
    text = cast(a.personal, Text)
    given = select(t.assignment.c.id).where(t.assignment.c.user_id == user.id)
    # Not by the displayed name, which another user can have too.
    named = [func.instr(text, each) > 0 for each in (user.id, f'"{user.user_name}"')]
    mine = or_(a.object_id == user.id, a.object_id.in_(given), *named)
    statement = update(t.audit).where(a.personal.is_not(None), mine)
    return connection.execute(statement.values(personal=None)).rowcount


def _delete_conflicts(connection: Connection, user_id: str, records: Sequence[ErasedRecord]) -> None:
    c = t.conflict.c
    native = [each.native_id or each.id for each in records]
    mine = or_(c.user_id == user_id, c.native_id.in_(native))
    connection.execute(delete(t.conflict).where(c.subject == "user", mine))


def _end_what_is_given(connection: Connection, user_id: str, now: Instant) -> None:
    a = t.assignment.c
    connection.execute(
        update(t.assignment)
        .where(a.user_id == user_id)
        .values(removed_at=func.coalesce(a.removed_at, now), note=None)
    )
    for table in (t.access, t.seat, t.retained_role):
        c = table.c
        connection.execute(
            update(table).where(c.user_id == user_id, c.until_at.is_(None)).values(until_at=now)
        )


def _blank_user(connection: Connection, user: Any, now: Instant) -> None:
    u = t.user.c
    name = f"erased-{user.id[-12:]}"
    values: dict[str, Any] = {
        "user_name": name,
        "user_name_key": name,
        "display_name": NAME,
        "display_name_key": NAME.lower(),
        "email": None,
        "email_key": None,
        "attributes": {},
        "value_sources": {},
        "active": False,
        "left_at": func.coalesce(u.left_at, now),
        "next_change_at": None,
        "revision": u.revision + 1,
        "modified_at": now,
        "invited_at": None,
        "mark": None,
        "mark_from_at": None,
        "mark_note": None,
        "marked_by": None,
        "marked_at": None,
    }
    connection.execute(update(t.user).where(u.id == user.id).values(**values))


# Digests of identifiers


@dataclass(frozen=True)
class Erasure:
    """A user who was erased: when, the operator, and whether records of the user are still ignored."""

    id: str
    user_id: str
    erased_at: Instant
    erased_by: str
    accepted_at: Instant | None
    accepted_by: str | None


def insert_erasure(
    connection: Connection, values: Mapping[str, Any], digests: Collection[tuple[str, str]]
) -> None:
    """Insert an erasure with the digests of identifiers, as (source ID, digest)."""
    connection.execute(insert(t.erased_user).values(**values))
    rows = [
        {"erased_user_id": values["id"], "source_id": source_id, "digest": digest}
        for source_id, digest in sorted(set(digests))
    ]
    if rows:
        connection.execute(insert(t.erased_identifier), rows)


def list_erasures(connection: Connection, page_request: PageRequest) -> Page[Erasure]:
    """Return a page of erasures, newest first."""
    statement = select(t.erased_user)
    return page(
        connection, statement, [t.erased_user.c.id.desc()], page_request, shown_as(Erasure, lambda row: row)
    )


def get(connection: Connection, erasure_id: str) -> Erasure | None:
    """Return an erasure, or None."""
    row = connection.execute(select(t.erased_user).where(t.erased_user.c.id == erasure_id)).first()
    return None if row is None else Erasure(*row)


def accept(connection: Connection, erasure_id: str, by: str, now: Instant) -> None:
    """Ignore the records of an erased user no longer; those sent meanwhile are looked at again."""
    i, r = t.erased_identifier.c, t.record.c
    sources = list(
        connection.execute(select(i.source_id).where(i.erased_user_id == erasure_id).distinct()).scalars()
    )
    connection.execute(delete(t.erased_identifier).where(i.erased_user_id == erasure_id))
    values = {"accepted_at": now, "accepted_by": by}
    connection.execute(update(t.erased_user).where(t.erased_user.c.id == erasure_id).values(**values))
    for source_id in sources:
        where = (
            r.source_id == source_id,
            r.connection_type == INBOUND_SCIM,
            r.left_out == ERASED,
            r.deleted_at.is_(None),
        )
        received.mark_selected(connection, source_id, select(r.id).where(*where), now)
        connection.execute(update(t.record).where(*where).values(left_out=PENDING))


def which_are_erased(connection: Connection, source_id: str, digests: Collection[str]) -> set[str]:
    """Return those of some digests that belong to erased users of a source."""
    i = t.erased_identifier.c
    where = (i.source_id == source_id, i.digest.in_(list(digests)))
    return set(connection.execute(select(i.digest).where(*where)).scalars())

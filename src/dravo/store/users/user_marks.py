"""Marks of operators on users: stored with the user, written, removed and listed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy import Connection, select, update

from dravo.core.identity.marks import UserMark
from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.pagination import Page, PageRequest, page
from dravo.store.queries.references import UserRef, user_ref
from dravo.store.queries.search import user_has


@dataclass(frozen=True)
class MarkedUser:
    """A user with a mark.

    Attributes:
        status: "inactive" or "left".
        from_at: the time from which the mark applies.
        by, at: who marked the user, and when.
    """

    user: UserRef
    status: str
    from_at: Instant
    note: str | None
    by: str
    at: Instant


def set_marks(
    connection: Connection,
    user_ids: Sequence[str],
    mark: UserMark,
    note: str | None,
    by: str,
    now: Instant,
) -> None:
    """Mark some users; an earlier mark is replaced."""
    values = {
        "mark": mark.status,
        "mark_from_at": mark.from_at,
        "mark_note": note,
        "marked_by": by,
        "marked_at": now,
    }
    _write(connection, user_ids, values)


def remove_marks(connection: Connection, user_ids: Sequence[str]) -> None:
    """Remove the marks of some users."""
    names = ("mark", "mark_from_at", "mark_note", "marked_by", "marked_at")
    _write(connection, user_ids, dict.fromkeys(names))


def _write(connection: Connection, user_ids: Sequence[str], values: dict[str, str | None]) -> None:
    # The revision tells plans that were made before.
    u = t.user.c
    connection.execute(
        update(t.user).where(u.id.in_(list(user_ids))).values(**values, revision=u.revision + 1)
    )


def marked_users(
    connection: Connection, page_request: PageRequest, words: str | None, *, emails: bool = True
) -> Page[MarkedUser]:
    """Return a page of users with a mark, by name; `words` as in the list of users."""
    u = t.user.c
    statement = select(
        u.id, u.display_name, u.user_name, u.mark, u.mark_from_at, u.mark_note, u.marked_by, u.marked_at
    ).where(u.mark.is_not(None))
    if words:
        statement = statement.where(user_has(words, emails=emails))
    return page(
        connection,
        statement,
        [u.display_name_key, u.id],
        page_request,
        lambda row: MarkedUser(
            user_ref(row), row.mark, row.mark_from_at, row.mark_note, row.marked_by, row.marked_at
        ),
    )

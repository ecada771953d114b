"""Rows of access reviews."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import (
    ColumnElement,
    Connection,
    CursorResult,
    Select,
    bindparam,
    case,
    exists,
    func,
    insert,
    select,
    update,
)

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.pagination import Item, Page, PageRequest, page, shown_as
from dravo.store.queries import search as text_search

OPEN, CONFIRMED, REMOVED = "open", "confirmed", "removed"


@dataclass(frozen=True)
class StoredReview:
    """A row of the table of reviews, in the order of its columns; `narrowed` is the scope of the review."""

    id: str
    label: str
    note: str | None
    narrowed: dict[str, str]
    created_at: Instant
    created_by: str
    until_at: Instant
    until_day: str | None
    closed_at: Instant | None
    closed_by: str | None


@dataclass(frozen=True)
class ReviewProgress:
    """The progress of a review in one application, in the order of the select."""

    review_id: str
    application_key: str
    application_label: str
    owner: str | None
    rows: int
    confirmed: int
    removed: int


@dataclass(frozen=True)
class ListedReviewRow:
    """A row of a review with its names, in the order of the select."""

    id: str
    user_id: str
    application_id: str
    role_id: str
    since: Instant
    reasons: list[str]
    decision: str | None
    decided_at: Instant | None
    decided_by: str | None
    note: str | None
    outcome: str | None
    display_name: str
    user_name: str
    active: bool
    left_at: Instant | None
    application_key: str
    application_label: str
    role_key: str
    role_label: str
    rank: int


def _seen_by(applications: Collection[str] | None) -> list[ColumnElement[bool]]:
    """Return the condition that a review has rows of some applications; None: of any."""
    if applications is None:
        return []
    w, p = t.review_row.c, t.application.c
    return [exists().where(w.review_id == t.review.c.id, w.application_id == p.id, p.key.in_(applications))]


def insert_review(
    connection: Connection, review: Mapping[str, Any], rows: Sequence[Mapping[str, Any]]
) -> None:
    """Insert a review with its rows."""
    connection.execute(insert(t.review).values(**review))
    connection.execute(insert(t.review_row), [dict(each) for each in rows])


def close_review(connection: Connection, review_id: str, now: Instant, by: str) -> None:
    """End a review."""
    connection.execute(update(t.review).where(t.review.c.id == review_id).values(closed_at=now, closed_by=by))


def has_expired(connection: Connection, now: Instant) -> bool:
    """Return whether the last day of an open review is over."""
    v = t.review.c
    due = select(v.id).where(v.closed_at.is_(None), v.until_at <= now).limit(1)
    return connection.execute(due).first() is not None


def close_expired(connection: Connection, now: Instant, by: str) -> None:
    """End the reviews whose last day is over, as of its end."""
    v = t.review.c
    due = (v.closed_at.is_(None), v.until_at <= now)
    connection.execute(update(t.review).where(*due).values(closed_at=v.until_at, closed_by=by))


def undecided_expired(connection: Connection, now: Instant) -> list[tuple[str, str]]:
    """Return (review ID, application ID) of undecided rows in reviews whose last day is over."""
    v, x = t.review.c, t.review_row.c
    statement = (
        select(v.id, x.application_id)
        .join(t.review_row, x.review_id == v.id)
        .where(v.closed_at.is_(None), v.until_at <= now, x.decision.is_(None))
        .distinct()
    )
    return [(review_id, application_id) for review_id, application_id in connection.execute(statement)]


@dataclass(frozen=True)
class ReviewPart:
    """The part of a review in one application, with the number of its undecided rows."""

    label: str
    application_label: str
    open: int


def part_of(connection: Connection, review_id: str, application_id: str) -> ReviewPart:
    """Return the part of a review in an application."""
    v, x, p = t.review.c, t.review_row.c, t.application.c
    undecided = (
        select(func.count())
        .where(x.review_id == review_id, x.application_id == application_id, x.decision.is_(None))
        .scalar_subquery()
    )
    label = select(p.label).where(p.id == application_id).scalar_subquery()
    statement = select(v.label, label, undecided).where(v.id == review_id)
    return ReviewPart(*connection.execute(statement).one())


def get(
    connection: Connection, review_id: str, applications: Collection[str] | None = None
) -> StoredReview | None:
    """Return a review, or None; with `applications` only if it has rows of these."""
    statement = select(t.review).where(t.review.c.id == review_id, *_seen_by(applications))
    row = connection.execute(statement).first()
    return None if row is None else StoredReview(*row)


def list_reviews(
    connection: Connection, page_request: PageRequest, applications: Collection[str] | None
) -> Page[StoredReview]:
    """Return a page of reviews, newest first; with `applications` only those that have rows of these."""
    statement = select(t.review).where(*_seen_by(applications))
    return page(
        connection, statement, [t.review.c.id.desc()], page_request, shown_as(StoredReview, lambda row: row)
    )


def progress(
    connection: Connection, review_ids: Sequence[str], applications: Collection[str] | None
) -> list[ReviewProgress]:
    """Return the progress of reviews by application; with `applications` only of these."""
    w, p = t.review_row.c, t.application.c
    statement = (
        select(
            w.review_id,
            p.key,
            p.label,
            t.operator.c.name,
            func.count(),
            func.sum(case((w.decision == CONFIRMED, 1), else_=0)),
            func.sum(case((w.decision == REMOVED, 1), else_=0)),
        )
        .join(t.review_row, w.application_id == p.id)
        .outerjoin(t.operator, t.operator.c.id == p.owner_id)
        .where(w.review_id.in_(review_ids))
        .group_by(w.review_id, p.key, p.label, t.operator.c.name)
        .order_by(p.label)
    )
    if applications is not None:
        statement = statement.where(p.key.in_(applications))
    return [ReviewProgress(*row) for row in connection.execute(statement)]


def _rows_statement(review_id: str) -> Select[Any]:
    w, u, p, r = t.review_row.c, t.user.c, t.application.c, t.role.c
    return (
        select(
            w.id,
            w.user_id,
            w.application_id,
            w.role_id,
            w.since,
            w.reasons,
            w.decision,
            w.decided_at,
            w.decided_by,
            w.note,
            w.outcome,
            u.display_name,
            u.user_name,
            u.active,
            u.left_at,
            p.key.label("application_key"),
            p.label.label("application_label"),
            r.key.label("role_key"),
            r.label.label("role_label"),
            r.rank,
        )
        .join(t.user, u.id == w.user_id)
        .join(t.application, p.id == w.application_id)
        .join(t.role, r.id == w.role_id)
        .where(w.review_id == review_id)
    )


@dataclass(frozen=True)
class ReviewRowFilter:
    """Which rows of a review to list.

    Attributes:
        application: the key of an application.
        decision: `OPEN`, or a decision.
        words: text in the name of the user.
    """

    application: str | None = None
    decision: str | None = None
    words: str | None = None


def list_rows(
    connection: Connection,
    review_id: str,
    page_request: PageRequest,
    only: ReviewRowFilter,
    show: Callable[[ListedReviewRow], Item],
) -> Page[Item]:
    """Return a page of a review's rows by application and name."""
    w, u, p = t.review_row.c, t.user.c, t.application.c
    statement = _rows_statement(review_id)
    if only.application:
        statement = statement.where(p.key == only.application)
    if only.decision:
        statement = statement.where(
            w.decision.is_(None) if only.decision == OPEN else w.decision == only.decision
        )
    if only.words:
        statement = statement.where(text_search.name_has(only.words))
    keys = [p.label, u.display_name_key, w.id]
    return page(connection, statement, keys, page_request, shown_as(ListedReviewRow, show))


def every_row(connection: Connection, review_id: str, at_once: int) -> CursorResult[Any]:
    """Return a cursor over all rows of a review by application and name.

    Args:
        at_once: how many rows to fetch at once.
    """
    statement = _rows_statement(review_id).order_by(
        t.application.c.label, t.user.c.display_name_key, t.review_row.c.id
    )
    return connection.execute(statement.execution_options(yield_per=at_once))


def rows_of_cursor(cursor: CursorResult[Any]) -> Iterator[ListedReviewRow]:
    """Return the rows of `every_row`."""
    return (ListedReviewRow(*tuple(row)) for row in cursor)


def some_rows(
    connection: Connection, review_id: str, application_id: str, row_ids: Sequence[str]
) -> list[ListedReviewRow]:
    """Return rows of a review that are of one application."""
    w = t.review_row.c
    statement = _rows_statement(review_id).where(w.id.in_(row_ids), w.application_id == application_id)
    return [ListedReviewRow(*row) for row in connection.execute(statement)]


def decide_rows(
    connection: Connection, outcomes: Mapping[str, str | None], decided: Mapping[str, Any]
) -> None:
    """Write the decision about rows.

    Args:
        outcomes: what came of it, by ID of the row.
        decided: the columns of the decision.
    """
    statement = (
        update(t.review_row)
        .where(t.review_row.c.id == bindparam("row"))
        .values(**decided, outcome=bindparam("came_of_it"))
    )
    connection.execute(statement, [{"row": row, "came_of_it": each} for row, each in outcomes.items()])


@dataclass(frozen=True)
class AccessReasons:
    """The stored reasons of a user's role."""

    user_id: str
    role_id: str
    reasons: list[dict[str, Any]]


def reasons_of_access(
    connection: Connection, application_id: str, user_ids: Collection[str]
) -> list[AccessReasons]:
    """Return the roles of some users in an application with their reasons."""
    x = t.access.c
    statement = select(x.user_id, x.role_id, x.reasons).where(
        x.application_id == application_id, x.user_id.in_(user_ids), x.until_at.is_(None)
    )
    return [AccessReasons(*row) for row in connection.execute(statement)]

"""Recomputes marked users in chunks, and users whose dates have come.

A change that affects many users commits with marks on them. A marked user is not provisioned before being
recomputed.
"""

from __future__ import annotations

import time
from collections.abc import Iterable, Sequence

import structlog
from sqlalchemy import Connection
from sqlalchemy.exc import IntegrityError

from dravo.core.errors import DravoError, StalePreview
from dravo.core.instants import Instant
from dravo.core.plan_types import UserPlan, UserSnapshot
from dravo.core.planning import plan_user
from dravo.services.context import AppContext
from dravo.services.heartbeats import USER, Heartbeats
from dravo.store import clock, recompute_marks
from dravo.store.plan_writer import UserRewrite, apply_outcomes, remove_marks
from dravo.store.queries import runs as run_queries
from dravo.store.queries import users as user_queries
from dravo.store.queries.users import MergedValues
from dravo.store.recompute_marks import RecomputeMark
from dravo.store.snapshots import users as user_snapshots

USERS_PER_CHUNK = 250
# Seconds for which a user is set aside after an error.
SET_ASIDE_SECONDS = 60.0

log = structlog.get_logger("worker")


class SetAside:
    """Users who could not be recomputed because of an error in Dravo: the others continue, and these are
    retried later.
    """

    def __init__(self, heartbeats: Heartbeats) -> None:
        self._heartbeats = heartbeats
        self._until: dict[str, float] = {}

    def users(self) -> list[str]:
        """Return those that are not to be tried now."""
        present = time.monotonic()
        self._until = {user_id: until for user_id, until in self._until.items() if until > present}
        return list(self._until)

    def add(self, user_id: str, wrong: Exception) -> None:
        """Leave a user out for a time, and log it."""
        self._until[user_id] = time.monotonic() + SET_ASIDE_SECONDS
        self._heartbeats.count(USER)
        log.error("access of a user could not be computed", user=user_id, exc_info=wrong)


def process_marks(ctx: AppContext, most: int | None = None, aside: SetAside | None = None) -> int:
    """Recompute marked users until none is left, or up to a number.

    Args:
        ctx: the data folder.
        most: the largest number of users.
        aside: collects users who cannot be recomputed; without it, the error is raised.

    Returns:
        The number of recomputed users.
    """
    done = 0
    while most is None or done < most:
        count = _chunk(ctx) if aside is None else _some(ctx, aside)
        if count == 0:
            return done
        done += count
    return done


def recompute_user(ctx: AppContext, user_id: str) -> None:
    """Recompute one marked user at once, because a caller waits for the result."""
    while _chunk(ctx, user_id):
        pass


def _some(ctx: AppContext, aside: SetAside) -> int:
    """Work out a chunk; where that breaks off, each user of it alone."""
    left_out = aside.users()
    try:
        return _chunk(ctx, left_out=left_out)
    except DravoError:
        raise
    except Exception:  # noqa: BLE001 (whose mistake it is shows below, and is logged there)
        with ctx.database.reading() as connection:
            users = recompute_marks.marked(connection, USERS_PER_CHUNK, left_out)
    for row in users:
        try:
            _chunk(ctx, row.user_id)
        except DravoError:
            raise
        except Exception as wrong:  # noqa: BLE001 (it is logged)
            aside.add(row.user_id, wrong)
    return len(users)


def _chunk(ctx: AppContext, user_id: str | None = None, left_out: Sequence[str] = ()) -> int:
    now = clock.now()
    with ctx.database.reading() as connection:
        rows = recompute_marks.marked(connection, USERS_PER_CHUNK, left_out, user_id)
        if not rows:
            return 0
        marks = [(row.user_id, row.since) for row in rows]
        cleared = {
            (row.user_id, row.confirmed_for): row.released_by
            for row in rows
            if row.confirmed_for is not None and row.released_by is not None
        }
        catalogue = ctx.catalogue.get(connection)
        users = user_snapshots.users(connection, [user_id for user_id, _ in marks])
        kept = _as_kept(connection, users.values())
    outcomes = [plan_user(user, catalogue, now) for user in users.values()]
    # With several records, a changed priority can select another record's values. The status of a user can
    # change with one record too, such as that of a user who has not signed in for long.
    other = [
        each
        for each in outcomes
        if each.merged.active == each.user.inactive
        or (each.user.user_id in kept and kept[each.user.user_id] != _as_merged(each))
    ]
    others = {each.user.user_id for each in other}
    same = [each for each in outcomes if each.user.user_id not in others]
    by_run = _by_run(rows, outcomes)
    try:
        with ctx.database.writing() as connection:
            apply_outcomes(
                connection, same, now, rewrite=UserRewrite.NOTHING, seen=catalogue.revision, cleared=cleared
            )
            if other:
                apply_outcomes(
                    connection,
                    other,
                    now,
                    rewrite=UserRewrite.NAMES,
                    seen=catalogue.revision,
                    cleared=cleared,
                )
            for run_id, caused in by_run.items():
                run_queries.add_ended(connection, run_id, caused)
            remove_marks(connection, marks)
    except (StalePreview, IntegrityError):
        # Another process changed the data first. The marks remain, so these users are planned again.
        return 1
    return len(marks)


def _by_run(rows: Iterable[RecomputeMark], outcomes: Iterable[UserPlan]) -> dict[str, list[UserPlan]]:
    """Return by import run the plans of users that it marked."""
    run_of = {row.user_id: row.run_id for row in rows if row.run_id is not None}
    found: dict[str, list[UserPlan]] = {}
    for each in outcomes:
        if each.user.user_id in run_of:
            found.setdefault(run_of[each.user.user_id], []).append(each)
    return found


def _as_kept(connection: Connection, users: Iterable[UserSnapshot]) -> dict[str, MergedValues]:
    """Return the stored values of users that recomputing can change: those with several records, a mark or a
    deleted record, and those who are inactive, because a mark may have ended or a record returned.
    """
    ids = [
        user.user_id
        for user in users
        if len(user.records) > 1
        or user.mark is not None
        or user.inactive
        or any(record.gone for record in user.records)
    ]
    return user_queries.merged_values(connection, ids)


def _as_merged(outcome: UserPlan) -> MergedValues:
    merged = outcome.merged
    return MergedValues(dict(merged.attributes), dict(merged.value_sources), merged.active, merged.gone)


def mark_due_changes(ctx: AppContext, now: Instant) -> bool:
    """Mark users for whom an assignment starts or ends by its date.

    Returns:
        Whether there are any.
    """
    with ctx.database.reading() as connection:
        if not recompute_marks.is_due(connection, now):
            return False
    with ctx.database.writing() as connection:
        recompute_marks.mark_due(connection, now)
    return True

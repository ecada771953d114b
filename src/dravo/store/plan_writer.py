"""Writes plans: users, access, accounts and their tasks, after checking that the plan's revisions are
current.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from enum import Enum
from typing import Any

from sqlalchemy import Connection, bindparam, insert, update

from dravo.core.access.types import DIRECT
from dravo.core.errors import StalePreview
from dravo.core.identity.merging import MergedUser
from dravo.core.identity.names import fold
from dravo.core.identity.records import searchable
from dravo.core.instants import Instant
from dravo.core.plan_types import AccountChange, UserPlan
from dravo.core.provisioning.accounts import AS_IT_IS, describe
from dravo.core.provisioning.manual import action_of
from dravo.core.provisioning.removal_limit import takes_away
from dravo.store import tables as t
from dravo.store.ids import new_id
from dravo.store.plan_statements import (
    CHANGE_ACCOUNT,
    CLOSE_ACCESS,
    LET_GO,
    MAKE_ACCOUNT,
    MAKE_ONE_USER,
    MAKE_TASK,
    OPEN_ACCESS,
    OPEN_TASKS,
    QUICKLY,
    RAISE,
    REMOVE_MARK,
    RENAME,
    REWRITE,
    WAKE_TASK,
    WRITE_REASONS,
)
from dravo.store.provisioning import managers
from dravo.store.task_status import DROPPED, MANUAL, WAITING


class UserRewrite(Enum):
    """Which columns of users themselves a plan may change."""

    NOTHING = 1
    ATTRIBUTES = 2
    NAMES = 3


# In place of an application ID: removals in all applications.
EVERY_APPLICATION = "*"

# Confirmed removals by (user ID, application ID or `EVERY_APPLICATION`), with the name of the operator.
ConfirmedRemovals = Mapping[tuple[str, str], str]


def apply_outcomes(
    connection: Connection,
    outcomes: Sequence[UserPlan],
    now: Instant,
    *,
    rewrite: UserRewrite,
    seen: int,
    cleared: ConfirmedRemovals | None = None,
) -> None:
    """Write the plans of users.

    Args:
        connection: the writer's connection.
        outcomes: one plan for each user.
        now: the time of the change.
        rewrite: what may have changed of the users: nothing, attributes, or also names.
        seen: the revision of the configuration of the plan.
        cleared: removals that need not wait for the removal limit.

    Raises:
        StalePreview: if a user or the configuration changed since it was read.
    """
    made = [_user_row(outcome, now) for outcome in outcomes if outcome.user.revision is None]
    if len(made) == 1:
        MAKE_ONE_USER.change(connection, made[0])
    elif made:
        MAKE_ONE_USER.change_many(connection, made)
    known = [outcome for outcome in outcomes if outcome.user.revision is not None]
    if known:
        _update_users(connection, known, now, rewrite=rewrite, seen=seen)
    _write_access(connection, outcomes, now)
    _write_kept(connection, outcomes, now)
    _write_seats(connection, outcomes, now)
    if rewrite is UserRewrite.NAMES:
        # Another record, or another name of one, can make a user the manager of others.
        named = [each.user.user_id for each in outcomes if each.user.accounts]
        if named:
            managers.mark(connection, named, now)
    changes = [(outcome.user.user_id, change) for outcome in outcomes for change in outcome.accounts]
    if changes:
        _write_accounts(connection, changes, now, cleared or {})


def _user_values(user: MergedUser, now: Instant) -> dict[str, Any]:
    found = searchable(user.attributes)
    return {
        "user_name": found.user_name,
        "user_name_key": found.user_name_key,
        "display_name": found.display_name,
        "display_name_key": fold(found.display_name),
        "email": found.email,
        "email_key": fold(found.email) if found.email else None,
        "attributes": user.attributes,
        "value_sources": user.value_sources,
        "active": user.active,
        "modified_at": now,
    }


def _user_row(outcome: UserPlan, now: Instant) -> dict[str, Any]:
    return {
        "id": outcome.user.user_id,
        "revision": 1,
        "created_at": now,
        "inactive_since": None if outcome.merged.active else now,
        "left_at": now if outcome.merged.gone else None,
        "next_change_at": outcome.next_change,
        **_user_values(outcome.merged, now),
    }


def _update_users(
    connection: Connection, outcomes: Sequence[UserPlan], now: Instant, *, rewrite: UserRewrite, seen: int
) -> None:
    rows = []
    for outcome in outcomes:
        row = {
            "user": outcome.user.user_id,
            "seen": outcome.user.revision,
            "declared": seen,
            "next": outcome.next_change,
        }
        if rewrite is not UserRewrite.NOTHING:
            row |= _user_values(outcome.merged, now)
            row["inactive"] = None if outcome.merged.active else now
            row["gone"] = now if outcome.merged.gone else None
        rows.append(row)
    statement = {UserRewrite.NOTHING: RAISE, UserRewrite.ATTRIBUTES: REWRITE, UserRewrite.NAMES: RENAME}[
        rewrite
    ]
    done = (
        QUICKLY[id(statement)].change(connection, rows[0])
        if len(rows) == 1
        else connection.execute(statement, rows).rowcount
    )
    if done != len(rows):
        raise StalePreview("A user changed in the meantime.", "Try again.")


def _write_access(connection: Connection, outcomes: Iterable[UserPlan], now: Instant) -> None:
    opened, closed, changed = [], [], []
    for outcome in outcomes:
        for change in outcome.access:
            why = list(change.reasons)
            if change.id is None:
                opened.append(
                    {
                        "id": new_id(),
                        "user_id": outcome.user.user_id,
                        "application_id": change.application_id,
                        "role_id": change.role_id,
                        "reasons": why,
                        "direct_only": _direct_only(why),
                        "from_at": now,
                        "until_at": None,
                    }
                )
            elif change.closed:
                closed.append({"access": change.id, "why": why, "until": now})
            else:
                changed.append({"access": change.id, "why": why, "direct": _direct_only(why)})
    for statement, rows in ((CLOSE_ACCESS, closed), (WRITE_REASONS, changed), (OPEN_ACCESS, opened)):
        if rows:
            connection.execute(statement, rows)


def _direct_only(reasons: Iterable[Mapping[str, Any]]) -> bool:
    return all(reason["kind"] == DIRECT for reason in reasons if reason["until"] is None)


def _write_kept(connection: Connection, outcomes: Iterable[UserPlan], now: Instant) -> None:
    """Write newly and no longer retained roles."""
    made = [
        {
            "id": new_id(),
            "user_id": outcome.user.user_id,
            "application_id": application_id,
            "role_id": role_id,
            "from_at": now,
        }
        for outcome in outcomes
        for application_id, role_id in outcome.kept
    ]
    ended = [
        {"whose": outcome.user.user_id, "what": role_id, "until": now}
        for outcome in outcomes
        for _, role_id in outcome.let_go
    ]
    if ended:
        connection.execute(LET_GO, ended)
    if made:
        connection.execute(insert(t.retained_role), made)


def _write_seats(connection: Connection, outcomes: Iterable[UserPlan], now: Instant) -> None:
    """Write new places on waiting lists, and the end of seats and places."""
    ends = [{"ended": seat_id, "until": now} for outcome in outcomes for seat_id in outcome.seating.ends]
    asks = [
        {
            "id": new_id(),
            "user_id": outcome.user.user_id,
            "application_id": application_id,
            "plan_id": plan_id,
            "requested_at": now,
        }
        for outcome in outcomes
        for application_id, plan_id in outcome.seating.asks
    ]
    if ends:
        connection.execute(
            update(t.seat).where(t.seat.c.id == bindparam("ended")).values(until_at=bindparam("until")), ends
        )
    if asks:
        connection.execute(insert(t.seat), asks)


def _write_accounts(
    connection: Connection,
    changes: Sequence[tuple[str, AccountChange]],
    now: Instant,
    cleared: ConfirmedRemovals,
) -> None:
    made, changed, ids = [], [], []
    for user_id, change in changes:
        account_id = change.id or new_id()
        ids.append(account_id)
        if change.id is None:
            made.append(
                {
                    "id": account_id,
                    "user_id": user_id,
                    "application_id": change.application_id,
                    "desired": change.desired,
                    "desired_version": change.desired_version,
                    "pending_since": now,
                    "applied_version": 0,
                }
            )
        else:
            changed.append(
                {
                    "account": account_id,
                    "status": change.desired,
                    "version": change.desired_version,
                    "since": now,
                }
            )
    if made:
        connection.execute(MAKE_ACCOUNT, made)
    if changed:
        connection.execute(CHANGE_ACCOUNT, changed)
    _queue(
        connection,
        [(account_id, *change) for account_id, change in zip(ids, changes, strict=True)],
        now,
        cleared,
    )


def _queue(
    connection: Connection,
    changes: Sequence[tuple[str, str, AccountChange]],
    now: Instant,
    cleared: ConfirmedRemovals,
) -> None:
    """Have each account delivered: wake the task that is open for it, or open one; level-triggered, never
    two.
    """
    open_now: dict[str, str] = {}
    had: dict[str, Any] = {}
    known = [account_id for account_id, _, change in changes if change.id is not None]
    for start in range(0, len(known), 500):
        for account_id, task_id, last in connection.execute(OPEN_TASKS, {"ids": known[start : start + 500]}):
            had[account_id] = last
            if task_id is not None:
                open_now[account_id] = task_id
    woken, made, left, settled = [], [], [], []
    for account_id, user_id, change in changes:
        removes = takes_away(had.get(account_id), change.desired)
        by = (
            (cleared.get((user_id, change.application_id)) or cleared.get((user_id, EVERY_APPLICATION)))
            if removes
            else None
        )
        if change.desired["want"] == AS_IT_IS:
            left.append(account_id)
        elif change.manual and action_of(had.get(account_id), change.desired) is None:
            settled.append(account_id)
        elif account_id in open_now:
            woken.append(
                {
                    "task": open_now[account_id],
                    "new_status": MANUAL if change.manual else WAITING,
                    "to": change.desired_version,
                    "aimed": describe(change.desired),
                    "next": now,
                    "taking": removes,
                    "let_at": now if by else None,
                    "let_by": by,
                }
            )
        else:
            made.append(
                {
                    "id": new_id(),
                    "account_id": account_id,
                    "application_id": change.application_id,
                    "user_id": user_id,
                    "status": MANUAL if change.manual else WAITING,
                    "version": change.desired_version,
                    "desired_state": describe(change.desired),
                    "attempts": 0,
                    "created_at": now,
                    "next_attempt_at": now,
                    "removes": removes,
                    "released_at": now if by else None,
                    "released_by": by,
                }
            )
    if woken:
        connection.execute(WAKE_TASK, woken)
    if made:
        connection.execute(MAKE_TASK, made)
    if left:
        _leave_alone(connection, left, now, "The settings of the application leave the account unchanged.")
    if settled:
        _leave_alone(connection, settled, now, "The account already is as it should be.")


def _leave_alone(connection: Connection, account_ids: Sequence[str], now: Instant, message: str) -> None:
    """Leave these accounts as they are: they count as in sync, and their open tasks are dropped."""
    for start in range(0, len(account_ids), 500):
        some = account_ids[start : start + 500]
        connection.execute(
            update(t.account)
            .where(t.account.c.id.in_(some))
            .values(applied_version=t.account.c.desired_version)
        )
        connection.execute(
            update(t.task)
            .where(t.task.c.account_id.in_(some), t.task.c.closed_at.is_(None))
            .values(
                status=DROPPED,
                closed_at=now,
                message=message,
            )
        )


def remove_marks(connection: Connection, seen: Iterable[tuple[str, str]]) -> None:
    """Remove the marks of recomputed users, unless they were set again meanwhile."""
    rows = [{"user": user_id, "seen": since} for user_id, since in seen]
    if rows:
        connection.execute(REMOVE_MARK, rows)

"""Prepared statements that write plans."""

from __future__ import annotations

from typing import Any

from sqlalchemy import and_, bindparam, case, delete, func, insert, select, update

from dravo.store import tables as t
from dravo.store.database import CATALOGUE
from dravo.store.prepared_statements import PreparedStatement

# The current revision of the configuration, checked in the same statement that writes.
_DECLARED = select(t.revision.c.value).where(t.revision.c.name == CATALOGUE).scalar_subquery()


RAISE = (
    update(t.user)
    .where(
        t.user.c.id == bindparam("user"),
        t.user.c.revision == bindparam("seen"),
        bindparam("declared") == _DECLARED,
    )
    .values(revision=t.user.c.revision + 1, next_change_at=bindparam("next"))
)


_NAMES = ("user_name", "user_name_key", "display_name", "display_name_key", "email", "email_key")


_CONTENT = ("attributes", "value_sources", "active", "modified_at")


def _rewriting(*columns: str) -> Any:
    """Return the update of a user's columns; other columns and their indexes are not touched."""
    return (
        update(t.user)
        .where(
            t.user.c.id == bindparam("user"),
            t.user.c.revision == bindparam("seen"),
            bindparam("declared") == _DECLARED,
        )
        .values(
            revision=t.user.c.revision + 1,
            next_change_at=bindparam("next"),
            # The first time stays, and is cleared when the user is back.
            inactive_since=case(
                (
                    bindparam("inactive").is_not(None),
                    func.coalesce(t.user.c.inactive_since, bindparam("inactive")),
                ),
                else_=None,
            ),
            left_at=case(
                (bindparam("gone").is_not(None), func.coalesce(t.user.c.left_at, bindparam("gone"))),
                else_=None,
            ),
            **{name: bindparam(name, type_=t.user.c[name].type) for name in columns},
        )
    )


REWRITE = _rewriting(*_CONTENT)


RENAME = _rewriting(*_NAMES, *_CONTENT)


QUICKLY = {id(statement): PreparedStatement(statement) for statement in (RAISE, REWRITE, RENAME)}


REMOVE_MARK = delete(t.pending_recompute).where(
    t.pending_recompute.c.user_id == bindparam("user"), t.pending_recompute.c.since == bindparam("seen")
)


_MAKE_USER = insert(t.user)


MAKE_ONE_USER = PreparedStatement(_MAKE_USER)


OPEN_ACCESS = insert(t.access)


WRITE_REASONS = (
    update(t.access)
    .where(t.access.c.id == bindparam("access"))
    .values(reasons=bindparam("why", type_=t.access.c.reasons.type), direct_only=bindparam("direct"))
)


CLOSE_ACCESS = (
    update(t.access)
    .where(t.access.c.id == bindparam("access"))
    .values(reasons=bindparam("why", type_=t.access.c.reasons.type), until_at=bindparam("until"))
)


LET_GO = (
    update(t.retained_role)
    .where(
        t.retained_role.c.user_id == bindparam("whose"),
        t.retained_role.c.role_id == bindparam("what"),
        t.retained_role.c.until_at.is_(None),
    )
    .values(until_at=bindparam("until"))
)


MAKE_ACCOUNT = insert(t.account)


CHANGE_ACCOUNT = (
    update(t.account)
    .where(t.account.c.id == bindparam("account"))
    .values(
        desired=bindparam("status", type_=t.account.c.desired.type),
        desired_version=bindparam("version"),
        pending_since=bindparam("since"),
    )
)


OPEN_TASKS = (
    select(t.account.c.id, t.task.c.id, t.account.c.last_applied)
    .outerjoin(t.task, and_(t.task.c.account_id == t.account.c.id, t.task.c.closed_at.is_(None)))
    .where(t.account.c.id.in_(bindparam("ids", expanding=True)))
)


MAKE_TASK = insert(t.task)


WAKE_TASK = (
    update(t.task)
    .where(t.task.c.id == bindparam("task"))
    .values(
        status=bindparam("new_status"),
        version=bindparam("to"),
        desired_state=bindparam("aimed"),
        next_attempt_at=bindparam("next"),
        message=None,
        hint=None,
        removes=bindparam("taking"),
        released_at=bindparam("let_at"),
        released_by=bindparam("let_by"),
        # The new version is checked against the removal limit again.
        held_at=None,
        kind=None,
    )
)

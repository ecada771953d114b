"""Reads accounts with their status and open task as the API shows them."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from typing import Any

from sqlalchemy import ColumnElement, Connection, Select, and_, func, or_, select

from dravo.core.instants import Instant
from dravo.core.provisioning.accounts import ABSENT, AS_IT_IS, role_keys
from dravo.store import tables as t
from dravo.store.pagination import Page, PageRequest, page
from dravo.store.queries.references import KeyAndLabel, UserRef, user_ref
from dravo.store.queries.search import name_has


def account_status(row: Any) -> str:
    """Return the status of an account: "in_sync", or that of its open task."""
    if row.applied_version >= row.desired_version:
        return "unmanaged" if row.desired["want"] == AS_IT_IS else "in_sync"
    return row.task_status or "pending"


@dataclass(frozen=True)
class OpenTask:
    """The open task of an account; `status` is "waiting", "failed" or "held"."""

    id: str
    status: str
    message: str | None
    hint: str | None
    next_attempt_at: Instant | None


@dataclass(frozen=True)
class AccountLine:
    """The account of a user in an application.

    Attributes:
        should_be: "active", "inactive", "absent" or "unmanaged".
        status: "in_sync", "pending", "unmanaged", or that of the open task.
    """

    id: str
    user: UserRef
    application: KeyAndLabel
    should_be: str
    roles: list[str]
    status: str
    desired_version: int
    applied_version: int
    pending_since: Instant
    applied_at: Instant | None
    remote_id: str | None
    origin: str | None
    task: OpenTask | None


@dataclass(frozen=True)
class AccountDetail(AccountLine):
    """An account with its desired and applied state."""

    desired: dict[str, Any]
    applied: dict[str, Any] | None


def account_line(row: Any) -> AccountLine:
    """Return an account as lists show it."""
    due = row.desired
    shown = row.applied if due["want"] == AS_IT_IS and row.applied else due
    return AccountLine(
        id=row.account_id,
        user=user_ref(row, "user_id"),
        application=KeyAndLabel(row.application_key, row.application_label),
        should_be="absent"
        if due["want"] == ABSENT
        else "unmanaged"
        if due["want"] == AS_IT_IS
        else "active"
        if due["active"]
        else "inactive",
        roles=role_keys(shown) if shown else [],
        status=account_status(row),
        desired_version=row.desired_version,
        applied_version=row.applied_version,
        pending_since=row.pending_since,
        applied_at=row.applied_at,
        remote_id=row.remote_id,
        origin=row.origin,
        task=OpenTask(row.task_id, row.task_status, row.message, row.hint, row.next_attempt_at)
        if row.task_id
        else None,
    )


def _statement() -> Select[Any]:
    """Return the select of accounts with user, application and open task."""
    a, u, p, d = t.account.c, t.user.c, t.application.c, t.task.c
    return (
        select(
            a.id.label("account_id"),
            a.desired,
            a.desired_version,
            a.pending_since,
            a.applied,
            a.applied_version,
            a.applied_at,
            a.remote_id,
            a.origin,
            u.id.label("user_id"),
            u.display_name,
            u.user_name,
            p.key.label("application_key"),
            p.label.label("application_label"),
            d.id.label("task_id"),
            d.status.label("task_status"),
            d.message,
            d.hint,
            d.next_attempt_at,
        )
        .join(t.user, u.id == a.user_id)
        .join(t.application, p.id == a.application_id)
        .outerjoin(t.task, and_(d.account_id == a.id, d.closed_at.is_(None)))
    )


def accounts(
    connection: Connection,
    page_request: PageRequest,
    application_key: str | None,
    user_id: str | None,
    status: str | None,
    words: str | None,
) -> Page[AccountLine]:
    """Return a page of accounts by the user's name."""
    a, u = t.account.c, t.user.c
    statement = _statement()
    if application_key:
        statement = statement.where(t.application.c.key == application_key)
    if user_id:
        statement = statement.where(a.user_id == user_id)
    if words:
        statement = statement.where(or_(name_has(words), a.remote_id == words))
    if status:
        statement = statement.where(*_of_status(status))
    return page(connection, statement, [u.display_name_key, a.id], page_request, account_line)


def _of_status(status: str) -> list[ColumnElement[bool]]:
    """Return the conditions for accounts that `account_status` shows with a status."""
    a, d = t.account.c, t.task.c
    want = func.json_extract(a.desired, "$.want")
    in_sync = a.applied_version >= a.desired_version
    conditions = {
        "in_sync": [in_sync, want != AS_IT_IS],
        "unmanaged": [in_sync, want == AS_IT_IS],
        "pending": [~in_sync, d.id.is_(None)],
    }
    return conditions.get(status, [~in_sync, d.status == status])


def accounts_of_users(connection: Connection, user_ids: Collection[str]) -> list[AccountLine]:
    """Return the accounts of some users."""
    statement = _statement().where(t.account.c.user_id.in_(user_ids))
    return [account_line(row) for row in connection.execute(statement)]


def account(connection: Connection, account_id: str) -> AccountDetail | None:
    """Return one account, or None."""
    row = connection.execute(_statement().where(t.account.c.id == account_id)).first()
    if row is None:
        return None
    return AccountDetail(**vars(account_line(row)), desired=row.desired, applied=row.applied)

"""The accounts of an application beside the desired ones, as of the last reconciliation."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import (
    Connection,
    and_,
    case,
    exists,
    func,
    literal,
    null,
    or_,
    select,
    type_coerce,
    union_all,
)

from dravo.core.provisioning.accounts import PRESENT
from dravo.core.provisioning.drift import MISSING, UNEXPECTED
from dravo.store import tables as t
from dravo.store.pagination import Item, Page, PageRequest, page

SAME, DIFFERENT, ABSENT, PENDING, FOREIGN, IGNORED = (
    "same",
    "different",
    "missing",
    "pending",
    "unexpected",
    "ignored",
)


@dataclass(frozen=True)
class ComparedRow:
    """An account of either side, in the order of the select.

    Attributes:
        id: the ID of the account here; of an account without a user, the ID of the difference.
        status: one of the constants of this module.
        desired, applied: the state to reach and the applied one; None without a user.
        there: an account without a user as the application lists it.
    """

    id: str
    status: str
    name: str
    user_id: str | None
    user_name: str | None
    remote_id: str | None
    desired: dict[str, Any] | None
    applied: dict[str, Any] | None
    there: dict[str, Any] | None


@dataclass(frozen=True)
class AccountDifference:
    """A difference of an account: its kind, and for each attribute the values before and after a repair."""

    kind: str
    changes: list[dict[str, Any]]


def list_accounts(
    connection: Connection,
    application_id: str,
    page_request: PageRequest,
    status: str | None,
    words: str | None,
    show: Callable[[ComparedRow], Item],
) -> Page[Item]:
    """Return a page of the accounts of an application on both sides, by name."""
    a, d, u = t.account.c, t.drift.c, t.user.c

    def has(*where: Any) -> Any:
        return exists().where(d.account_id == a.id, d.status != IGNORED, *where)

    ours_status = case(
        (has(d.kind == MISSING), literal(ABSENT)),
        (has(), literal(DIFFERENT)),
        (a.applied_version < a.desired_version, literal(PENDING)),
        else_=literal(SAME),
    )
    present = and_(
        func.json_extract(a.desired, "$.want") == PRESENT, func.json_extract(a.desired, "$.active") == 1
    )
    ours = (
        select(
            a.id,
            ours_status.label("status"),
            u.display_name.label("name"),
            u.display_name_key.label("name_key"),
            u.id.label("user_id"),
            u.user_name,
            a.remote_id,
            a.desired,
            a.applied,
            type_coerce(null(), d.there.type).label("there"),
        )
        .join(t.user, u.id == a.user_id)
        .where(a.application_id == application_id, or_(a.remote_id.is_not(None), present))
    )
    theirs = select(
        d.id,
        case((d.status == IGNORED, literal(IGNORED)), else_=literal(FOREIGN)).label("status"),
        d.name,
        func.lower(d.name).label("name_key"),
        null().label("user_id"),
        null().label("user_name"),
        d.remote_id,
        null().label("desired"),
        null().label("applied"),
        d.there,
    ).where(d.application_id == application_id, d.kind == UNEXPECTED)
    both = union_all(ours, theirs).subquery()
    c = both.c
    statement = select(
        c.id, c.status, c.name, c.user_id, c.user_name, c.remote_id, c.desired, c.applied, c.there, c.name_key
    )
    if status:
        statement = statement.where(c.status == status)
    if words:
        statement = statement.where(
            or_(c.name_key.contains(words.lower(), autoescape=True), c.remote_id == words)
        )
    return page(
        connection, statement, [c.name_key, c.id], page_request, lambda row: show(ComparedRow(*row[:9]))
    )


def differences(connection: Connection, account_ids: Sequence[str]) -> dict[str, list[AccountDifference]]:
    """Return the open differences of accounts, by account."""
    d = t.drift.c
    statement = select(d.account_id, d.kind, d.differences).where(
        d.account_id.in_(account_ids), d.status != IGNORED
    )
    found: dict[str, list[AccountDifference]] = {}
    for account_id, kind, changes in connection.execute(statement.order_by(d.kind)):
        found.setdefault(str(account_id), []).append(AccountDifference(kind, changes or []))
    return found

"""Differences that reconciliations found: list, repair and ignore."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection

from dravo.core.errors import InvalidInput, NotFound
from dravo.core.provisioning.drift import (
    GROUP_KINDS,
    GROUP_MEMBERS,
    GROUP_MISSING,
    GROUP_UNEXPECTED,
    MISSING,
    UNEXPECTED,
)
from dravo.services.context import AppContext
from dravo.services.lookups import application_by_key
from dravo.services.provisioning import groups as group_provisioning
from dravo.services.results import ChangedAttribute, Number
from dravo.services.security import masking
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock
from dravo.store.pagination import Page, PageRequest
from dravo.store.provisioning import drift as stored
from dravo.store.provisioning import tasks as task_rows
from dravo.store.provisioning.drift import DriftFilter, ListedDrift, StoredDrift
from dravo.store.provisioning.tasks import reopen
from dravo.store.task_status import DONE

OPEN, REPAIRING, IGNORED = "open", "repairing", "ignored"


@dataclass
class DriftLine:
    """A difference between an application and its desired state."""

    id: str
    kind: str
    status: str
    name: str
    user: str | None
    account: str | None
    remote_id: str | None
    there: dict[str, Any]
    changes: list[ChangedAttribute]
    first_seen_at: str
    last_seen_at: str
    message: str | None
    hint: str | None


@dataclass
class RepairLine:
    """What a repair does to one account or group."""

    id: str
    kind: str
    name: str
    effect: str


@dataclass
class RepairPreview:
    """The result of a repair."""

    number: int
    items: list[RepairLine]


def drift(
    ctx: AppContext, key: str, page_request: PageRequest, kind: str | None = None, status: str | None = None
) -> Page[DriftLine]:
    """Return a page of an application's drift by name; without a status, open and repairing differences."""
    only = DriftFilter(without=IGNORED, kind=kind, status=status)
    with ctx.database.reading() as connection:
        application = application_by_key(connection, key)
        return stored.list_drift(connection, application.id, page_request, only, GROUP_KINDS, _drift_line)


def _drift_line(row: ListedDrift) -> DriftLine:
    settled, at = row.applied_version == row.desired_version, row.applied_at
    if row.kind in GROUP_KINDS:
        settled, at = row.group_status == DONE, row.group_applied_at
    repaired = row.status == REPAIRING and settled and (at or "") > row.last_seen_at
    return DriftLine(
        id=row.id,
        kind=row.kind,
        status="repaired" if repaired else row.status,
        name=row.name,
        user=row.user_id,
        account=row.account_id,
        remote_id=row.remote_id,
        there=row.there or {},
        changes=[ChangedAttribute(**each) for each in row.differences or ()],
        first_seen_at=row.first_seen_at,
        last_seen_at=row.last_seen_at,
        message=masking.text(row.message),
        hint=row.hint,
    )


def preview_repair(ctx: AppContext, key: str, ids: Sequence[str]) -> RepairPreview:
    """Return what a repair would do to each account and group; nothing is changed.

    Raises:
        InvalidInput: for a difference that a repair cannot remove; NotFound.
    """
    with ctx.database.reading() as connection:
        application = application_by_key(connection, key)
        rows = rows_of(connection, application.id, ids)
    for row in rows:
        _check_repairable(row)
    items = [
        RepairLine(id=row.id, kind=row.kind, name=row.name, effect=_effect(row))
        for row in sorted(rows, key=lambda row: str(row.name))
    ]
    return RepairPreview(number=len(items), items=items)


def _effect(row: StoredDrift) -> str:
    """Return what a repair of one difference sends, in a sentence."""
    if row.kind == MISSING:
        return "Dravo creates the account again, or adopts a matching one."
    if row.kind == GROUP_MISSING:
        return "Dravo creates the group again with its members."
    if row.kind == GROUP_MEMBERS:
        return "Dravo adds the missing members and removes the others."
    changes = [
        f"{each['attribute']}: {in_words(each['before'])} becomes {in_words(each['after'])}"
        for each in row.differences or ()
    ]
    return f"{'; '.join(changes)}." if changes else "Dravo reads the account and sends what differs."


def in_words(value: Any) -> str:
    """Return a value in words: of a list its elements, of an element its label or value."""
    if value in (None, "", []):
        return "empty"
    if isinstance(value, list):
        return ", ".join(in_words(each) for each in value)
    if isinstance(value, dict):
        return in_words(value.get("display") or value.get("value") or value.get("formatted") or str(value))
    return "yes" if value is True else "no" if value is False else f"'{value}'"


def _check_repairable(row: StoredDrift) -> None:
    if row.kind == UNEXPECTED:
        raise InvalidInput(
            f"The account '{row.name}' has no user in Dravo.",
            "Link the account to a user, create a user for it, or ignore it.",
            "ids",
        )
    if row.kind == GROUP_UNEXPECTED:
        raise InvalidInput(
            f"Dravo did not create the group '{row.name}'.",
            "Delete the group in the application, or ignore it.",
            "ids",
        )


def repair(ctx: AppContext, caller: Caller, key: str, ids: Sequence[str]) -> Number:
    """Repair accounts and groups: read each in the application, and send what differs.

    Raises:
        InvalidInput: for an account or group that Dravo does not manage; those are linked or ignored.
    """
    return _act(ctx, caller, key, ids, "repaired drift", REPAIRING)


def ignore(ctx: AppContext, caller: Caller, key: str, ids: Sequence[str], *, ignored: bool = True) -> Number:
    """Ignore differences, which leave the list, or stop ignoring them."""
    return _act(
        ctx,
        caller,
        key,
        ids,
        "ignored drift" if ignored else "stopped ignoring drift",
        IGNORED if ignored else OPEN,
    )


def _act(ctx: AppContext, caller: Caller, key: str, ids: Sequence[str], action: str, status: str) -> Number:
    now = clock.now()
    with ctx.database.writing() as connection:
        application = application_by_key(connection, key)
        rows = rows_of(connection, application.id, ids)
        for row in rows:
            if status == REPAIRING:
                _check_repairable(row)
                if row.kind in GROUP_KINDS:
                    group_provisioning.read_again(connection, row.about, now)
                else:
                    reopen(connection, row.account_id or "", now)
                    _note_empty(connection, row)
            stored.update_drift(connection, row.id, status=status)
        details = {"application": key, "number": len(rows), "names": [row.name for row in rows[:20]]}
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent(action, "application", application.id, details=details),
        )
    return Number(len(rows))


def _note_empty(connection: Connection, row: StoredDrift) -> None:
    """Note the values that a repair empties in an account, because its user does not have them."""
    names = {
        each["attribute"].rpartition(":")[0] or each["attribute"]
        for each in row.differences or ()
        if each["after"] is None
    }
    if names and row.account_id is not None:
        before = task_rows.account_by_id(connection, row.account_id).to_empty
        task_rows.update_account(connection, row.account_id, to_empty=sorted({*names, *(before or ())}))


def rows_of(connection: Connection, application_id: str, ids: Sequence[str]) -> list[StoredDrift]:
    """Return differences of an application by ID.

    Raises:
        NotFound: if none of them exists any more.
    """
    rows = stored.some(connection, application_id, list(ids)[:1_000])
    if not rows:
        raise NotFound("These differences no longer exist.", "Reconcile again.")
    return rows

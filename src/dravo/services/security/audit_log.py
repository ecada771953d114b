"""The audit log: which operator changed what, when.

Entries are only appended. Each entry carries an HMAC over the entry before.

Personal values are outside the chain, which covers a keyed digest of them. A user can be erased, and the
chain can still be verified.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import orjson
from sqlalchemy import Connection

from dravo.core.instants import Instant
from dravo.services.context import AppContext
from dravo.services.security.permissions import Caller
from dravo.services.security.secrets import Keys
from dravo.store import clock
from dravo.store.operators import audit_log as audit_rows
from dravo.store.operators.audit_log import AuditEntry
from dravo.store.pagination import Page, PageRequest


@dataclass
class AuditObject:
    """The changed object."""

    kind: str
    id: str


@dataclass
class AuditLine:
    """An entry of the audit log."""

    id: int
    at: str
    operator: str
    action: str
    object: AuditObject
    details: dict[str, Any]


@dataclass(frozen=True)
class AuditEvent:
    """One change for the audit log.

    Attributes:
        action: what was done, in a few plain words ("created assignment").
        object_kind, object_id: the kind and the ID of what was changed.
        details: names and settings, before and after; never a secret.
        personal: values about a user. They stay outside the chain, so that a user can be erased.
    """

    action: str
    object_kind: str
    object_id: str
    details: dict[str, Any] | None = None
    personal: dict[str, Any] | None = None


def record_now(ctx: AppContext, connection: Connection, caller: Caller, event: AuditEvent) -> None:
    """Write an audit entry about a change that is made now, as `record_change`."""
    record_change(connection, ctx.keys, caller, clock.now(), event)


def record_change(
    connection: Connection, keys: Keys, caller: Caller, now: Instant, event: AuditEvent
) -> None:
    """Write an audit entry, within the transaction of the change itself.

    Args:
        connection: the writer's connection.
        keys: the keys of the data folder; the entry is sealed with them.
        caller: who made the change.
        now: the time of the change.
        event: what was changed.
    """
    before = audit_rows.last_hmac(connection)
    entry = {
        "at": now,
        "operator_id": caller.operator_id,
        "operator_name": caller.name,
        "action": event.action,
        "object_kind": event.object_kind,
        "object_id": event.object_id,
        "details": event.details or {},
        "personal_digest": keys.seal(_canonical(event.personal)),
    }
    seal = keys.seal(before.encode() + _canonical(entry))
    audit_rows.append(connection, {**entry, "personal": event.personal, "hmac": seal})


def verify_chain(connection: Connection, keys: Keys) -> int | None:
    """Return the ID of the first entry that breaks the chain, or None."""
    before = ""
    for row in audit_rows.all_entries(connection):
        entry = {
            name: getattr(row, name)
            for name in (
                "at",
                "operator_id",
                "operator_name",
                "action",
                "object_kind",
                "object_id",
                "details",
                "personal_digest",
            )
        }
        if keys.seal(before.encode() + _canonical(entry)) != row.hmac:
            return row.id
        if row.personal is not None and keys.seal(_canonical(row.personal)) != row.personal_digest:
            return row.id
        before = row.hmac
    return None


def _canonical(value: Any) -> bytes:
    return orjson.dumps(value, option=orjson.OPT_SORT_KEYS)


def entries(
    connection: Connection,
    page_request: PageRequest,
    object_kind: str | None = None,
    object_id: str | None = None,
) -> Page[AuditLine]:
    """Return a page of the log, newest first."""
    return audit_rows.list_entries(connection, page_request, _line, object_kind, object_id)


def _line(row: AuditEntry) -> AuditLine:
    return AuditLine(
        id=row.id,
        at=row.at,
        operator=row.operator_name,
        action=row.action,
        object=AuditObject(kind=row.object_kind, id=row.object_id),
        details={**row.details, **(row.personal or {})},
    )

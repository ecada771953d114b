"""The policy and the status of a source's inbound SCIM."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection

from dravo.core.errors import InvalidInput
from dravo.core.expressions import SCIM_USER
from dravo.core.identity.acceptance import DISABLED, ENABLED, PILOT, InboundPolicy
from dravo.core.identity.policy_reading import read_policy
from dravo.core.identity.source_policy import SourcePolicy
from dravo.core.instants import Instant, parse_instant
from dravo.services.context import AppContext
from dravo.services.ingest.inbound.matching import owned_domains
from dravo.services.lookups import check_not_retired, pushing_source
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock
from dravo.store.pagination import Page, PageRequest
from dravo.store.queries.references import attributes_ref
from dravo.store.received import groups as received_groups
from dravo.store.received import records as received
from dravo.store.snapshots.config import raise_revision
from dravo.store.sources import sources as source_rows
from dravo.store.sources.sources import Source

STATUSES = (DISABLED, PILOT, ENABLED)


@dataclass
class RecordStanding:
    """A record of inbound SCIM that counts for no user, or of which something waits.

    Attributes:
        left_out: why it counts for no user, or None.
        waiting: what waits, or None.
    """

    id: str
    user_name: str
    name: str
    left_out: str | None
    waiting: str | None
    modified_at: Instant


def policy_of(source: Source) -> SourcePolicy:
    """Return the policy of a source's inbound SCIM; without a saved one, everything is accepted as sent."""
    return read(source.scim_policy or {}, owned=("",))


def read(document: Mapping[str, Any], owned: tuple[str, ...] | list[str]) -> SourcePolicy:
    """Return the policy in a document; raises as `read_policy`."""
    return read_policy(document, SCIM_USER, as_sent=True, owned=owned)


def wanted(connection: Connection, source: Source, given: Mapping[str, Any]) -> SourcePolicy:
    """Return the policy of a source with some values replaced.

    Raises:
        InvalidInput.
    """
    document = {**policy_of(source).document(), **given}
    return read(document, owned_domains(connection, source.id))


def with_status(source: Source, policy: SourcePolicy, status: str | None = None) -> InboundPolicy:
    """Return the policy with its status."""
    return InboundPolicy(policy, status or source.scim_status)


def change(ctx: AppContext, caller: Caller, key: str, given: Mapping[str, Any]) -> None:
    """Change the policy; all records and groups of the source are looked at again in the background.

    Args:
        given: the changed values, as in `SourcePolicy.document`.

    Raises:
        NotFound, InvalidInput.
    """
    now = clock.now()
    with ctx.database.writing() as connection:
        source = pushing_source(connection, key)
        before, after = policy_of(source), wanted(connection, source, given)
        check_pilot(after, source.scim_status)
        changed = {
            name: value for name, value in after.document().items() if before.document()[name] != value
        }
        if not changed:
            return
        source_rows.update_source(connection, source.id, scim_policy=after.document())
        if changed.keys() - {"match", "domains"}:
            received.mark_source(connection, source.id, now)
        raise_revision(connection)
        details = {
            "key": key,
            "before": {name: before.document()[name] for name in changed},
            "after": changed,
        }
        event = AuditEvent("changed source policy", "source", source.id, details=details)
        record_change(connection, ctx.keys, caller, now, event)


def set_status(
    ctx: AppContext, caller: Caller, key: str, status: str, enabled_from: str | None = None
) -> None:
    """Change the status: disabled, pilot, enabled, or enabled from a later time.

    Raises:
        NotFound; InvalidInput: if the pilot group is missing, or the source is retired.
    """
    check_status(status)
    now = clock.now()
    at = parse_instant(enabled_from, "enabled_from") if enabled_from else None
    if at is not None and at <= now:
        raise InvalidInput(
            "The start time is in the past.", "Enter a future time, or enable it now.", "enabled_from"
        )
    with ctx.database.writing() as connection:
        source = pushing_source(connection, key)
        if status != DISABLED or at is not None:
            check_not_retired(source)
        check_pilot(policy_of(source), status)
        _write_status(connection, source, status, at, now)
        details = {"key": key, "before": source.scim_status, "after": status, "enabled_from": at}
        event = AuditEvent("changed status of inbound SCIM", "source", source.id, details=details)
        record_change(connection, ctx.keys, caller, now, event)


def _write_status(
    connection: Connection, source: Source, status: str, at: Instant | None, now: Instant
) -> None:
    source_rows.update_source(connection, source.id, scim_status=status, scim_enabled_from=at)
    if status != source.scim_status:
        received.mark_source(connection, source.id, now)
        raise_revision(connection)


def apply_scheduled_activation(ctx: AppContext, now: Instant) -> None:
    """Enable sources whose start time has come."""
    with ctx.database.reading() as connection:
        if not source_rows.with_due_activation(connection, now):
            return
    with ctx.database.writing() as connection:
        for source in source_rows.with_due_activation(connection, now):
            _write_status(connection, source, ENABLED, None, now)


def check_status(status: str) -> None:
    """Check a status.

    Raises:
        InvalidInput.
    """
    if status not in STATUSES:
        raise InvalidInput(
            f"'{status}' is not a valid status.", f"Use one of: {', '.join(STATUSES)}.", "status"
        )


def check_pilot(policy: SourcePolicy, status: str) -> None:
    """Check that a policy has a pilot group if its status needs one.

    Raises:
        InvalidInput.
    """
    if status == PILOT and not policy.pilot:
        raise InvalidInput(
            "The pilot group is missing.", "Set `pilot` of the source policy to a group first.", "pilot"
        )


def standings(ctx: AppContext, key: str, page: PageRequest, only: str | None) -> Page[RecordStanding]:
    """Return a page of the records that count for no user, or of which something waits.

    Args:
        only: a reason or kind, as in `core.identity.acceptance`; None for all.

    Raises:
        NotFound.
    """
    with ctx.database.reading() as connection:
        source = pushing_source(connection, key)
        found = received.page_of_standings(connection, source.id, page, only)
    items = []
    for each in found.items:
        named = attributes_ref(each.id, each.data)
        items.append(
            RecordStanding(
                each.id,
                named.user_name,
                named.display_name,
                each.left_out,
                each.waiting,
                each.modified_at,
            )
        )
    return Page(items, found.total, found.next)


def known_attributes(connection: Connection, source: Source) -> list[str]:
    """Return the names of attributes that the source has sent lately, for expressions."""
    found: set[str] = set()
    for row in received.page_of_records(connection, source.id, "", 50):
        for name, value in row.data.items():
            if (name.startswith("urn:") and isinstance(value, Mapping)) or (
                name == "name" and isinstance(value, Mapping)
            ):
                found.update(value)
            else:
                found.add(name)
    return sorted(found)


def groups_accepted(
    connection: Connection, source: Source, inbound: InboundPolicy
) -> list[tuple[str, str, bool]]:
    """Return (ID, name, whether it is accepted) of the groups that a source has."""
    return [
        (row.id, row.group.name, inbound.group_left_out(row.group) is None)
        for row in received_groups.groups_of_source(connection, source.id)
    ]

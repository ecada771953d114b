"""Daily work of sign-in: expire memberships from claims, deactivate users without sign-ins, and fetch
provider metadata.
"""

from __future__ import annotations

from typing import Any

import structlog
from sqlalchemy import Connection

from dravo.core.errors import DravoError
from dravo.core.instants import Instant, later
from dravo.core.notifications.event_kinds import PROVIDER_UPDATED
from dravo.core.notifications.reporting import Condition
from dravo.protocols.saml.certificates import read_certificates
from dravo.services.context import AppContext
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.operators import SYSTEM
from dravo.services.sign_in.provider_metadata import fetch_configuration, fetch_metadata
from dravo.services.sign_in.settings.protocols import SAML
from dravo.services.sign_in.settings.provider import BY_HAND, saml_document
from dravo.services.sign_in.settings.settings import ENABLED
from dravo.store import memberships, recompute_marks
from dravo.store.notifications import events
from dravo.store.sign_in import settings as sign_in_rows
from dravo.store.sign_in import users as sign_in_users
from dravo.store.sources import sources as source_rows
from dravo.store.sources.settings import SourceSignIn

AT_ONCE = 200
DAY = 86_400
log = structlog.get_logger("sign-in")


def lapse(ctx: AppContext, now: Instant) -> int:
    """End memberships from claims that are too old: a user who no longer signs in does not stay in a group
    for ever.

    Returns:
        the number of users.
    """
    with ctx.database.reading() as connection:
        rows = [(each.source_id, each.settings) for each in sign_in_rows.list_sign_ins(connection)]
    ended = 0
    for source_id, settings in rows:
        days = settings.get("claim_days", 0)
        while days and (some := _lapse_some(ctx, source_id, later(now, -DAY * days), now)):
            ended += some
    return ended


def _lapse_some(ctx: AppContext, source_id: str, before: Instant, now: Instant) -> int:
    with ctx.database.reading() as connection:
        if not sign_in_users.records_with_claims_before(connection, source_id, before, 1):
            return 0
    with ctx.database.writing() as connection:
        rows = sign_in_users.records_with_claims_before(connection, source_id, before, AT_ONCE)
        for record_id, _ in rows:
            memberships.end_memberships_of_record(connection, record_id, now)
        sign_in_users.forget_claims(connection, [record_id for record_id, _ in rows])
        recompute_marks.mark_users(connection, [user_id for _, user_id in rows], now)
    return len(rows)


def deactivate_idle(ctx: AppContext, now: Instant) -> int:
    """Deactivate users who have not signed in for the number of days that their source allows.

    A source through which nobody signed in for so long is left alone: its sign-in rather fails.

    Returns:
        the number of users.
    """
    with ctx.database.reading() as connection:
        rows = [each for each in sign_in_rows.list_sign_ins(connection) if each.settings.get("inactive_days")]
    return sum(_deactivate_idle_at(ctx, row, now) for row in rows if row.status == ENABLED)


def _deactivate_idle_at(ctx: AppContext, row: SourceSignIn, now: Instant) -> int:
    before, number = later(now, -DAY * row.settings["inactive_days"]), 0
    while True:
        with ctx.database.reading() as connection:
            if not sign_in_users.has_signed_in_since(connection, row.source_id, before):
                return number
            found = sign_in_users.idle_records(connection, row.source_id, before, AT_ONCE)
        if not found:
            break
        with ctx.database.writing() as connection:
            for record in found:
                sign_in_users.make_idle(connection, record)
            recompute_marks.mark_users(connection, [each.user_id for each in found], now)
        number += len(found)
    if number:
        details = {"users": number, "days": row.settings["inactive_days"]}
        with ctx.database.writing() as connection:
            event = AuditEvent("deactivated users without sign-in", "source", row.source_id, details=details)
            record_change(connection, ctx.keys, SYSTEM, now, event)
        log.info("users without sign-in became inactive", source=row.source_id, **details)
    return number


def look_at_addresses(ctx: AppContext, now: Instant) -> None:
    """Fetch the metadata of each provider once a day; note a new certificate, or accept it where the settings
    allow.
    """
    with ctx.database.reading() as connection:
        rows = sign_in_rows.fetched_before(connection, later(now, -DAY))
    for row in rows:
        # Values that were entered one by one stay; an unknown key is looked for when a token names it.
        if row.provider.get("from") == BY_HAND and row.protocol != SAML:
            continue
        if row.settings.get("metadata_url") or row.settings.get("issuer"):
            _look(ctx, row, now)


def _look(ctx: AppContext, row: SourceSignIn, now: Instant) -> None:
    values: dict[str, Any] = {"looked_at": now, "trouble": None}
    told: dict[str, Any] | None = None
    changed: list[str] = []
    try:
        if row.protocol == SAML:
            more, told = _certificates(row)
            values |= more
            changed = ["certificates"] if "provider" in more else []
        else:
            # Keys of OpenID providers change without notice; the issuer must stay, or it would be another
            # provider.
            values["provider"] = {
                **fetch_configuration(row.settings["issuer"], row.settings.get("ca", "")),
                "from": "address",
            }
            changed = [name for name in _differing(row.provider, values["provider"]) if name != "jwks"]
    except DravoError as wrong:
        values["trouble"] = f"{wrong.message} {wrong.hint}".strip()
        log.warning("a provider's address could not be read", source=row.source_id, reason=wrong.message)
    with ctx.database.writing() as connection:
        # Settings that were changed meanwhile have priority.
        updated = sign_in_rows.update_unchanged(connection, row, **values)
        if updated and changed:
            _note_change(connection, row, changed, now)
        if updated and told:
            action = "accepted certificates" if "provider" in values else "found new certificates"
            record_change(
                connection, ctx.keys, SYSTEM, now, AuditEvent(action, "source", row.source_id, details=told)
            )


def _differing(before: dict[str, Any], after: dict[str, Any]) -> list[str]:
    """Return the names of values that differ; none if there were no values before."""
    if not before:
        return []
    return sorted(name for name in before.keys() | after.keys() if before.get(name) != after.get(name))


def _note_change(connection: Connection, row: SourceSignIn, changed: list[str], now: Instant) -> None:
    """Have notifications tell that new values of a provider are in use."""
    source = source_rows.by_id(connection, row.source_id)
    told = Condition(
        kind=PROVIDER_UPDATED,
        subject_id=source.id,
        subject=source.label,
        title=f"{source.label}: the provider changed its metadata",
        text=f"Dravo uses the new values: {', '.join(changed)}. If nobody announced this, ask the provider.",
        path=f"/sources/{source.key}/sign-in",
        source_id=source.id,
    )
    events.happened(connection, told, now)


def _certificates(row: SourceSignIn) -> tuple[dict[str, Any], dict[str, Any] | None]:
    """Return the columns that the fetched metadata changes, and the details for the audit log."""
    found = saml_document(fetch_metadata(row.settings["metadata_url"], row.settings.get("ca", "")), "address")
    known = row.provider.get("certificates", [])
    if found["entity_id"] != row.provider.get("entity_id"):
        trouble = (
            f"The metadata now belongs to '{found['entity_id']}' instead of "
            f"'{row.provider.get('entity_id')}'. Dravo did not accept it."
        )
        return {"trouble": trouble}, None
    if set(found["certificates"]) == set(known):
        return {"waiting": None}, None
    waits = {"certificates": found["certificates"], "ends_at": found["ends_at"]}
    prints = {
        "before": [each.fingerprint for pem in known for each in read_certificates(pem)],
        "after": [each.fingerprint for pem in found["certificates"] for each in read_certificates(pem)],
    }
    if row.settings.get("auto_accept_certificates"):
        return {"provider": {**row.provider, **waits}, "waiting": None}, prints
    return {"waiting": waits}, None if row.waiting == waits else prints

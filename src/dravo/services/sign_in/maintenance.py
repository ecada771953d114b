"""Daily work of sign-in: expire memberships from claims, fetch provider metadata, and enable scheduled
sources.
"""

from __future__ import annotations

from typing import Any

import structlog
from sqlalchemy import select, update

from dravo.core.errors import DravoError
from dravo.core.identity.records import SIGN_IN
from dravo.core.instants import Instant, later
from dravo.protocols.saml.certificates import read_certificates
from dravo.services.context import AppContext
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.operators import SYSTEM
from dravo.services.sign_in.provider_metadata import fetch_configuration, fetch_metadata
from dravo.services.sign_in.settings import SAML, saml_document
from dravo.store import memberships, recompute_marks
from dravo.store import tables as t

AT_ONCE = 200
DAY = 86_400
log = structlog.get_logger("sign-in")


def lapse(ctx: AppContext, now: Instant) -> int:
    """End memberships from claims that are too old: a user who no longer signs in does not stay in a group
    for ever.

    Returns:
        the number of users.
    """
    s = t.source_sign_in.c
    with ctx.database.reading() as connection:
        rows = connection.execute(select(s.source_id, s.settings)).all()
    ended = 0
    for source_id, settings in rows:
        days = settings.get("claim_days", 0)
        while days and (some := _lapse_some(ctx, source_id, later(now, -DAY * days), now)):
            ended += some
    return ended


def _lapse_some(ctx: AppContext, source_id: str, before: Instant, now: Instant) -> int:
    r = t.record.c
    where = (
        r.source_id == source_id,
        r.connection_type == SIGN_IN,
        r.claims_seen_at.is_not(None),
        r.claims_seen_at < before,
    )
    asked = select(r.id, r.user_id).where(*where).limit(AT_ONCE)
    with ctx.database.reading() as connection:
        if connection.execute(asked).first() is None:
            return 0
    with ctx.database.writing() as connection:
        rows = connection.execute(asked).all()
        for record_id, _ in rows:
            memberships.end_memberships_of_record(connection, record_id, now)
        connection.execute(
            update(t.record).where(r.id.in_([record_id for record_id, _ in rows])).values(claims_seen_at=None)
        )
        recompute_marks.mark_users(connection, [user_id for _, user_id in rows], now)
    return len(rows)


def look_at_addresses(ctx: AppContext, now: Instant) -> None:
    """Fetch the metadata of each provider once a day; note a new certificate, or accept it where the settings
    allow.
    """
    s = t.source_sign_in.c
    with ctx.database.reading() as connection:
        rows = connection.execute(
            select(t.source_sign_in).where((s.looked_at.is_(None)) | (s.looked_at < later(now, -DAY)))
        ).all()
    for row in rows:
        if row.settings.get("metadata_url") or row.settings.get("issuer"):
            _look(ctx, row, now)


def _look(ctx: AppContext, row: Any, now: Instant) -> None:
    values: dict[str, Any] = {"looked_at": now, "trouble": None}
    told: dict[str, Any] | None = None
    try:
        if row.protocol == SAML:
            more, told = _certificates(row)
            values |= more
        else:
            # Keys of OpenID providers change without notice; the issuer must stay, or it would be another
            # provider.
            values["provider"] = {**fetch_configuration(row.settings["issuer"]), "from": "address"}
    except DravoError as wrong:
        values["trouble"] = f"{wrong.message} {wrong.hint}".strip()
        log.warning("a provider's address could not be read", source=row.source_id, reason=wrong.message)
    s = t.source_sign_in.c
    with ctx.database.writing() as connection:
        # Settings that were changed meanwhile have priority.
        where = (s.source_id == row.source_id, s.changed_at == row.changed_at)
        if connection.execute(update(t.source_sign_in).where(*where).values(**values)).rowcount and told:
            action = "accepted certificates" if "provider" in values else "found new certificates"
            record_change(
                connection, ctx.keys, SYSTEM, now, AuditEvent(action, "source", row.source_id, details=told)
            )


def _certificates(row: Any) -> tuple[dict[str, Any], dict[str, Any] | None]:
    """Return the columns that the fetched metadata changes, and the details for the audit log."""
    found = saml_document(fetch_metadata(row.settings["metadata_url"]), "address")
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

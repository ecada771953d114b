"""Changes the sign-in protocol of a source, as when a provider moves from SAML to OpenID Connect.

No subject of the former provider is a subject of the new one, even if both have the same ID: users are
matched again at their next sign-in, by the user name that this source reports.
"""

from __future__ import annotations

from typing import Any

from sqlalchemy import Connection

from dravo.core.errors import InvalidInput
from dravo.core.identity import claims
from dravo.services.changes.effects import ChangeEffects, count
from dravo.services.changes.removal_limits import NeedsConfirmation
from dravo.services.context import AppContext
from dravo.services.lookups import check_not_retired
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.operator_sso import USERS
from dravo.services.security.permissions import Caller
from dravo.services.sign_in import keys as sign_in_keys
from dravo.services.sign_in.settings.models import carried_over, changed_defaults
from dravo.services.sign_in.settings.protocols import MAIL, PROTOCOLS
from dravo.services.sign_in.settings.settings import DISABLED
from dravo.services.sources.policy import sign_in_of, sign_in_policy
from dravo.store import clock
from dravo.store.sign_in import former_records
from dravo.store.sign_in import keys as key_rows
from dravo.store.sources import settings as source_settings
from dravo.store.sources.settings import SourceSignIn
from dravo.store.sources.sources import Source


def preview(ctx: AppContext, key: str, protocol: str) -> ChangeEffects:
    """Return the effects of another protocol; nothing is changed.

    Raises:
        InvalidInput, NotFound: as the change itself.
    """
    effects = ChangeEffects()
    with ctx.database.reading() as connection:
        source, row = sign_in_of(connection, key)
        _check_protocol(source, row, protocol)
        users = former_records.number_of_users(connection, source.id)
        ahead = former_records.number_of_links_ahead(connection, source.id)
    try:
        _check_state(source, row)
    except InvalidInput as wrong:
        effects.add(f"The protocol cannot be changed yet. {wrong.message} {wrong.hint}")
    if users:
        effects.add(f"{count(users, 'user keeps', 'users keep')} access and groups.")
        effects.add(
            f"At the next sign-in, Dravo matches them by the user name that {source.label} reports. "
            "Other user names become new users or conflicts."
        )
    effects.add(
        f"The values of the provider for {PROTOCOLS[row.protocol]} are deleted. Enter those for "
        f"{PROTOCOLS[protocol]}, and test them before you enable sign-in again."
    )
    if left := changed_defaults(row.protocol, protocol, row.settings):
        effects.add(f"These settings do not exist there and are deleted: {', '.join(left)}.")
    if ahead:
        effects.add(f"{count(ahead, 'link ahead or conflict ends', 'links ahead and conflicts end')}.")
    if sign_in_policy(row).attributes != claims.usual_policy(row.protocol).attributes:
        effects.add("Your attribute mapping stays. Check that it reads the names of the new claims.")
    return effects


def change(ctx: AppContext, caller: Caller, key: str, protocol: str, confirm: str | None) -> None:
    """Change the protocol of a source whose sign-in is disabled.

    Args:
        key: the key of the source.
        protocol: "saml", "oidc" or "email_code".
        confirm: the typed label of the source.

    Raises:
        InvalidInput, NotFound, NeedsConfirmation.
    """
    now = clock.now()
    with ctx.database.reading() as connection:
        source, row = sign_in_of(connection, key)
        _check_protocol(source, row, protocol)
        _check_state(source, row)
        has_key = bool(key_rows.valid_of_source(connection, source.id, now))
    if confirm != source.label:
        raise NeedsConfirmation(
            f"The protocol of '{source.label}' needs a confirmation.",
            f"Type the name of the source, '{source.label}', to confirm.",
            "confirm",
        )
    made = None if has_key or protocol == MAIL else sign_in_keys.new_key(ctx, source.id, key, now)
    with ctx.database.writing() as connection:
        source, row = sign_in_of(connection, key)
        _check_protocol(source, row, protocol)
        _check_state(source, row)
        number = former_records.set_aside(connection, source.id)
        source_settings.update_sign_in(connection, source.id, **_values(row, protocol), changed_at=now)
        if made is not None:
            key_rows.insert_key(connection, made)
        _record(
            ctx, connection, caller, source, {"before": row.protocol, "after": protocol, "records": number}
        )


def _check_protocol(source: Source, row: SourceSignIn, protocol: str) -> None:
    check_not_retired(source)
    if protocol not in PROTOCOLS:
        raise InvalidInput(
            f"'{protocol}' is not a valid protocol.", f"Use one of: {', '.join(PROTOCOLS)}.", "protocol"
        )
    if protocol == row.protocol:
        raise InvalidInput(
            f"'{source.label}' uses {PROTOCOLS[protocol]} already.", "Choose another protocol.", "protocol"
        )


def _check_state(source: Source, row: SourceSignIn) -> None:
    if row.serves != USERS:
        raise InvalidInput(
            f"Operators sign in through '{source.label}'.",
            "Set `serves` to users first, because operators are linked to their subject at the provider.",
            "serves",
        )
    if row.status != DISABLED or row.enabled_from is not None:
        raise InvalidInput(
            f"Sign-in through '{source.label}' is not disabled.",
            "Disable sign-in, change the protocol, test the new settings, and enable sign-in again.",
            "status",
        )


def _values(row: SourceSignIn, protocol: str) -> dict[str, Any]:
    """Return the columns after the change. Values of the policy that are the former default become the new
    default.
    """
    before, after = (claims.usual_policy(each).document() for each in (row.protocol, protocol))
    kept = {name: value for name, value in sign_in_policy(row).document().items() if value != before[name]}
    return {
        "protocol": protocol,
        "settings": carried_over(protocol, row.settings),
        "provider": {},
        "policy": {**after, **kept} if kept else None,
        "secret": None,
        "verified_at": None,
        "looked_at": None,
        "trouble": None,
        "waiting": None,
    }


def _record(
    ctx: AppContext, connection: Connection, caller: Caller, source: Source, details: dict[str, Any]
) -> None:
    event = AuditEvent(
        "changed sign-in protocol", "source", source.id, details={"key": source.key, **details}
    )
    record_change(connection, ctx.keys, caller, clock.now(), event)

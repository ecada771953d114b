"""Sign-in settings of a source: provider, options, and what is still missing."""

from __future__ import annotations

from typing import Any
from urllib.parse import urlsplit

from sqlalchemy import Connection

from dravo.core.errors import InvalidInput, NotFound, StalePreview
from dravo.core.identity import claims
from dravo.core.identity.policy_reading import read_policy
from dravo.core.identity.source_policy import SourcePolicy
from dravo.protocols.saml.certificates import read_certificates
from dravo.protocols.saml.names import POST, REDIRECT
from dravo.services.context import AppContext
from dravo.services.lookups import pushing_source
from dravo.services.notifications import mail_server
from dravo.services.security import operator_sso
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.operator_sso import OPERATORS, SERVES, USERS
from dravo.services.security.permissions import Caller
from dravo.services.sign_in import keys as sign_in_keys
from dravo.services.sign_in.settings.models import UNTESTED, read_settings
from dravo.services.sign_in.settings.protocols import MAIL, PROTOCOLS, SAML
from dravo.services.sign_in.settings.provider import BY_HAND, of_provider
from dravo.services.sources.policy import sign_in_of, sign_in_policy
from dravo.store import clock
from dravo.store.sign_in import keys as key_rows
from dravo.store.sign_in import sessions as session_rows
from dravo.store.sign_in import settings as sign_in_rows
from dravo.store.sources import settings as source_settings
from dravo.store.sources.settings import SourceSignIn
from dravo.store.sources.sources import Source

DISABLED, PILOT, ENABLED = "disabled", "pilot", "enabled"
STATUSES = (DISABLED, PILOT, ENABLED)
SECRET_CLEARED = "deleted, because the host changed"


def policy_with(row: SourceSignIn, given: dict[str, Any]) -> SourcePolicy:
    """Return the policy with some values replaced.

    Raises:
        InvalidInput: with the name of the wrong value.
    """
    kept = sign_in_policy(row)
    return read_policy({**kept.document(), **given}, kept.reads) if given else kept


def change(ctx: AppContext, caller: Caller, key: str, given: dict[str, Any]) -> None:
    """Change the sign-in settings of a source; None keeps a value. Incomplete settings can be saved.

    Args:
        ctx: the data folder.
        caller: who changes them.
        key: the key of the source.
        given: "protocol" (the first time), "settings", "secret" (of OpenID Connect), "policy", "metadata"
            (its text), "fields" (single values in place of metadata, as in the request of the API), "look"
            (fetch the metadata now), "serves" ("users", "operators" or "both").

    Raises:
        InvalidInput, NotFound.
        NotPermitted: only a super administrator can change a source that serves operators.
    """
    serves = given.get("serves")
    with ctx.database.reading() as connection:
        source = pushing_source(connection, key)
        row = source_settings.sign_in_of(connection, source.id)
    check_super_administrator(caller, row, serves)
    if row is not None and given.get("protocol") not in (None, row.protocol):
        raise InvalidInput(
            f"'{source.label}' uses {PROTOCOLS[row.protocol]}.",
            "Change the protocol of its sign-in first (`dravo sign-in change-protocol`).",
            "protocol",
        )
    protocol = row.protocol if row is not None else given.get("protocol") or ""
    before = row.settings if row is not None else {}
    settings = read_settings(protocol, {**before, **(given.get("settings") or {})}).model_dump()
    # Metadata is fetched before the write, so that no other writer waits for it.
    values, details = of_provider(protocol, settings, before, row, given)
    check_protocol_serves(protocol, serves)
    key_row = None
    if row is None and protocol != MAIL:
        key_row = sign_in_keys.new_key(ctx, source.id, key, clock.now())
    now = clock.now()
    with ctx.database.writing() as connection:
        # A super administrator may have opened the source to operators meanwhile.
        present = source_settings.sign_in_of(connection, source.id)
        check_super_administrator(caller, present, serves)
        if (present.protocol if present is not None else None) != (row.protocol if row is not None else None):
            raise StalePreview("The protocol of the sign-in changed in the meantime.", "Try again.")
        changed, changed_details = changed_values(ctx, protocol, row, given, settings)
        if row is not None and row.secret and given.get("secret") is None and has_moved(row, values):
            changed["secret"], changed_details["secret"] = None, SECRET_CLEARED
        values |= changed
        details |= changed_details
        if serves is not None and serves != (row.serves if row is not None else USERS):
            values["serves"] = details["serves"] = serves
            if row is not None:
                check_serves(connection, caller, source, row, serves)
                _end_sessions(connection, source, serves)
        if row is None:
            made = {
                "source_id": source.id,
                "protocol": protocol,
                "settings": settings,
                "provider": {},
                "status": DISABLED,
                "changed_at": now,
            }
            sign_in_rows.insert_sign_in(connection, {**made, **values})
            if key_row is not None:
                key_rows.insert_key(connection, key_row)
            details["protocol"] = protocol
        elif values:
            again = {"changed_at": now, **({"verified_at": None} if needs_new_test(values, details) else {})}
            source_settings.update_sign_in(connection, source.id, **values, **again)
        if details:
            record_change(
                connection,
                ctx.keys,
                caller,
                now,
                AuditEvent("changed sign-in settings", "source", source.id, details={"key": key, **details}),
            )


def has_moved(row: SourceSignIn, values: dict[str, Any]) -> bool:
    """Return whether the client secret would go to another host than before, by an endpoint that an operator
    entered. Before a token endpoint is known, the secret is for the host of the issuer.
    """
    after = values.get("provider")
    if not after or BY_HAND not in (row.provider.get("from"), after.get("from")):
        return False
    issuer = row.settings.get("issuer", "")
    hosts = {urlsplit(each.get("token") or issuer).netloc for each in (row.provider, after)}
    return len(hosts) > 1


def changed_values(
    ctx: AppContext, protocol: str, row: SourceSignIn | None, given: dict[str, Any], settings: dict[str, Any]
) -> tuple[dict[str, Any], dict[str, Any]]:
    """Return the columns that change (settings, secret, policy), and the details for the audit log."""
    values: dict[str, Any] = {}
    details: dict[str, Any] = {}
    before = row.settings if row is not None else {}
    if settings != before:
        details["settings"] = sorted(name for name, value in settings.items() if before.get(name) != value)
        values["settings"] = settings
    if (
        row is not None
        and row.secret
        and given.get("secret") is None
        and settings.get("issuer") != before.get("issuer")
    ):
        # A secret is sent only to the server for which it was entered.
        values["secret"], details["secret"] = None, SECRET_CLEARED
    if given.get("secret") is not None:
        values["secret"], details["secret"] = (
            ctx.keys.encrypt(given["secret"]) if given["secret"] else None,
            "changed",
        )
    if given.get("policy") is not None:
        usual = claims.usual_policy(protocol)
        policy = read_policy(
            {**(sign_in_policy(row) if row is not None else usual).document(), **given["policy"]}, usual.reads
        )
        if row is None or policy.document() != (row.policy or usual.document()):
            values["policy"] = details["policy"] = policy.document()
    return values, details


def needs_new_test(values: dict[str, Any], details: dict[str, Any]) -> bool:
    """Return whether settings need a new successful sign-in after a change.

    Args:
        values: the columns that change.
        details: the details of the change, with the names of changed settings.
    """
    return bool(
        {"provider", "secret", "policy"} & values.keys() or set(details.get("settings", ())) - UNTESTED
    )


def check_protocol_serves(protocol: str, serves: str | None) -> None:
    """Check that a protocol can sign in those whom a source is to serve.

    Raises:
        InvalidInput.
    """
    if protocol == MAIL and serves not in (None, USERS):
        raise InvalidInput(
            "Operators cannot sign in with an emailed code.", "Set `serves` to users.", "serves"
        )


def check_super_administrator(caller: Caller, row: SourceSignIn | None, serves: str | None = None) -> None:
    """Check that only a super administrator changes a source that serves operators.

    An administrator could otherwise sign in as a super administrator through a provider of their own.

    Raises:
        InvalidInput, NotPermitted.
    """
    if serves is not None and serves not in SERVES:
        raise InvalidInput(
            f"'{serves}' is not a valid value for `serves`.", f"Use one of: {', '.join(SERVES)}.", "serves"
        )
    if (row.serves if row is not None else USERS) != USERS or serves not in (None, USERS):
        caller.require("operators.change")


def check_serves(
    connection: Connection, caller: Caller, source: Source, row: SourceSignIn, serves: str
) -> None:
    """Check that another `serves` locks out no operator.

    Raises:
        InvalidInput, StillInUse.
    """
    if serves == USERS:
        operator_sso.check_nobody_is_locked_out(connection, source.id)
    elif row.status == ENABLED or row.enabled_from is not None:
        operator_sso.check_own_way(connection, caller, source.id)


def _end_sessions(connection: Connection, source: Source, serves: str) -> None:
    """End the sessions and links of those who cannot sign in any more."""
    if serves == USERS:
        operator_sso.end_all(connection, source.id)
    if serves == OPERATORS:
        session_rows.delete_of_source(connection, source.id)


def missing(connection: Connection, row: SourceSignIn) -> list[str]:
    """Return the settings that are still missing, in words."""
    if row.protocol == MAIL:
        return _missing_for_mail(connection, row)
    known, settings = row.provider, row.settings
    by_hand = known.get("from") == BY_HAND
    wanted: tuple[tuple[Any, str], ...]
    if row.protocol == SAML:
        wanted = (
            (known.get("entity_id"), "the entity ID of the provider"),
            (
                known.get("sign_in", {}).get(REDIRECT) or known.get("sign_in", {}).get(POST),
                "the single sign-on URL of the provider",
            ),
            (known.get("certificates"), "the certificate of the provider"),
        )
    else:
        wanted = (
            (settings.get("issuer"), "the issuer"),
            (
                known.get("authorization") or not settings.get("issuer"),
                "the authorization endpoint of the provider"
                if by_hand
                else "the configuration of the provider, which could not be read yet",
            ),
            (known.get("token") or not by_hand, "the token endpoint of the provider"),
            ((known.get("jwks") or {}).get("keys") or not by_hand, "the keys of the provider"),
            (settings.get("client_id"), "the client ID"),
            (row.secret or settings.get("private_key_jwt"), "the client secret or private_key_jwt"),
        )
    return [what for there, what in wanted if not there]


def _missing_for_mail(connection: Connection, row: SourceSignIn) -> list[str]:
    policy = sign_in_policy(row)
    wanted = (
        (mail_server.is_set_up(connection), "the email server (under Settings)"),
        (policy.domains, "the domains of the source (in the source policy)"),
        (row.settings["new_user_group"] or not policy.makes, "the group for new users"),
    )
    return [what for there, what in wanted if not there]


def use_waiting_certificates(ctx: AppContext, caller: Caller, key: str) -> None:
    """Accept the certificates in the provider's current metadata, in place of the known ones.

    Raises:
        NotFound: if there are no new certificates.
    """
    now = clock.now()
    with ctx.database.writing() as connection:
        source, row = sign_in_of(connection, key)
        check_super_administrator(caller, row)
        if not row.waiting:
            raise NotFound("There is no new certificate to accept.", "Fetch the metadata again.")
        provider = {**row.provider, **row.waiting}
        values = {"provider": provider, "waiting": None, "verified_at": None, "changed_at": now}
        source_settings.update_sign_in(connection, source.id, **values)
        fingerprints = [
            each.fingerprint for pem in row.waiting["certificates"] for each in read_certificates(pem)
        ]
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent(
                "accepted certificates",
                "source",
                source.id,
                details={"key": key, "fingerprints": fingerprints},
            ),
        )


def change_keys(
    ctx: AppContext, caller: Caller, key: str, what: str, uploaded: sign_in_keys.UploadedKey | None = None
) -> None:
    """Rotate our key.

    Args:
        what: "next" creates the next key, "upload" takes an uploaded one, "use" signs with the next key.
        uploaded: the key and its certificate for "upload".

    Raises:
        InvalidInput, NotFound.
    """
    with ctx.database.reading() as connection:
        source, row = sign_in_of(connection, key)
    check_super_administrator(caller, row)
    made = None
    if what == "upload":
        made = sign_in_keys.uploaded_key(ctx, source.id, uploaded or sign_in_keys.UploadedKey("", ""))
    elif what == "next":
        made = sign_in_keys.new_key(ctx, source.id, key, sign_in_keys.NOT_YET)
    now = clock.now()
    with ctx.database.writing() as connection:
        if made is not None:
            sign_in_keys.add_next(ctx, connection, source.id, made)
        else:
            sign_in_keys.use_next(ctx, connection, source.id, sign_in_keys.kept_until(now))
        action = {"next": "created next key", "upload": "uploaded next key", "use": "activated next key"}[
            what
        ]
        record_change(
            connection, ctx.keys, caller, now, AuditEvent(action, "source", source.id, details={"key": key})
        )


def forget(ctx: AppContext, caller: Caller, key: str) -> None:
    """Remove the sign-in of a source. Its users stay.

    Raises:
        NotFound.
    """
    with ctx.database.writing() as connection:
        source, row = sign_in_of(connection, key)
        check_super_administrator(caller, row)
        operator_sso.check_nobody_is_locked_out(connection, source.id)
        operator_sso.end_all(connection, source.id)
        sign_in_rows.delete_sign_in(connection, source.id)
        record_change(
            connection,
            ctx.keys,
            caller,
            clock.now(),
            AuditEvent("removed sign-in", "source", source.id, details={"key": key}),
        )

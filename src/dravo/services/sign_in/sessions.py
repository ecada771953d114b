"""Sessions of users: started, listed, ended, and signed out at the provider too."""

from __future__ import annotations

import secrets
from dataclasses import dataclass
from datetime import datetime
from urllib.parse import urlencode

from sqlalchemy import Connection

from dravo.core.errors import NotFound
from dravo.core.identity.records import LOCAL
from dravo.core.instants import later
from dravo.protocols.saml.logout import (
    ProviderSession,
    read_sign_out_request,
    sign_out_request,
    sign_out_response,
)
from dravo.protocols.saml.names import REDIRECT
from dravo.protocols.saml.requests import MessageHeader
from dravo.protocols.verified_identity import SignInRefused, VerifiedIdentity
from dravo.services import settings
from dravo.services.context import AppContext
from dravo.services.lookups import find_user
from dravo.services.security import sessions as operator_sessions
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.services.security.secrets import csrf_token, digest
from dravo.services.sign_in import keys as sign_in_keys
from dravo.services.sign_in.settings import provider as provider_settings
from dravo.services.sign_in.settings.protocols import MAIL, SAML
from dravo.services.sign_in.verification import addresses
from dravo.services.sources import policy as source_policies
from dravo.store import clock
from dravo.store.ids import new_id
from dravo.store.local import passwords
from dravo.store.operators import sessions as operator_session_rows
from dravo.store.pagination import ItemList
from dravo.store.provisioning import icons
from dravo.store.queries.references import KeyAndLabel
from dravo.store.sign_in import sessions as stored
from dravo.store.sign_in import users as sign_in_users
from dravo.store.sign_in.sessions import StoredSession
from dravo.store.sources import settings as source_settings
from dravo.store.sources import sources as source_rows
from dravo.store.sources.settings import SourceSignIn

IDLE_HOURS = 2
# With what a local user signed in, in place of the label of a source.
PASSWORD = "your password"


@dataclass
class OwnApplication:
    """An application of a signed-in user with its start URL."""

    key: str
    label: str
    address: str | None
    icon: str | None
    roles: list[str]
    since: str


@dataclass
class UserPortal:
    """The applications and the support contact of a signed-in user."""

    name: str
    user_name: str
    source: str
    csrf: str
    has_password: bool
    applications: list[OwnApplication]
    support_contact: str


@dataclass
class UserSession:
    """A session of a user."""

    id: str
    source: KeyAndLabel
    created_at: str
    last_seen_at: str
    until_at: str


@dataclass(frozen=True)
class SignedInUser:
    """A signed-in user: the session, the user, and the source."""

    id: str
    user_id: str
    source_id: str
    csrf: str


def begin(connection: Connection, user_id: str, source_id: str, proved: VerifiedIdentity, hours: int) -> str:
    """Begin a session, and return its secret."""
    now, secret = clock.now(), secrets.token_urlsafe(32)
    stored.insert_session(
        connection,
        StoredSession(
            id=new_id(),
            hash=digest(secret),
            user_id=user_id,
            source_id=source_id,
            session=proved.session,
            subject=proved.subject,
            subject_format=proved.format,
            created_at=now,
            last_seen_at=now,
            until_at=later(now, hours * 3600),
        ),
    )
    return secret


def by_secret(ctx: AppContext, secret: str) -> SignedInUser | None:
    """Return the user of a session; None if the session expired or was ended, or the user is not active."""
    now = clock.now()
    with ctx.database.reading() as connection:
        row = stored.valid_by_hash(connection, digest(secret), now, later(now, -IDLE_HOURS * 3600))
    if row is None:
        return None
    if row.last_seen_at < later(now, -60):
        with ctx.database.writing() as connection:
            stored.note_use(connection, row.id, now)
    return SignedInUser(row.id, row.user_id, row.source_id, csrf_token(secret))


def end(ctx: AppContext, visitor: SignedInUser) -> StoredSession | None:
    """End a session; return it, or None if it is over."""
    with ctx.database.writing() as connection:
        return stored.take(connection, visitor.id)


def mine(ctx: AppContext, visitor: SignedInUser) -> UserPortal:
    """Return what a signed-in user sees: the name, the applications, and the support contact."""
    with ctx.database.reading() as connection:
        user = sign_in_users.names_of(connection, visitor.user_id)
        source = source_rows.by_id(connection, visitor.source_id)
        sign_in = source_settings.sign_in_of(connection, visitor.source_id)
        theirs = applications_of(connection, visitor.user_id)
        has_password = passwords.get(connection, visitor.user_id) is not None
        whom = settings.support_contact(connection, sign_in.settings if sign_in else {})
    return UserPortal(
        name=user.display_name,
        user_name=user.user_name,
        source=PASSWORD if source.connection_type == LOCAL else source.label,
        csrf=visitor.csrf,
        has_password=has_password,
        applications=theirs,
        support_contact=whom,
    )


def applications_of(connection: Connection, user_id: str) -> list[OwnApplication]:
    """Return the applications that a user has and that are not hidden, by name, each with its roles."""
    found: dict[str, OwnApplication] = {}
    for row in stored.own_roles(connection, user_id):
        line = OwnApplication(
            row.application_key, row.application_label, row.address, row.icon, [], row.since
        )
        found.setdefault(row.application_key, line).roles.append(row.role)
    return list(found.values())


def icon_of(ctx: AppContext, visitor: SignedInUser, key: str) -> bytes:
    """Return the icon of an application of a signed-in user as PNG.

    Raises:
        NotFound: for another application, or one without an icon.
    """
    with ctx.database.reading() as connection:
        mine = {
            each.application_key: each.application_id
            for each in stored.own_roles(connection, visitor.user_id)
        }
        image = icons.image_of(connection, mine[key]) if key in mine else None
    if image is None:
        raise NotFound("You have no application with this icon.", "Reload the page.")
    return image


def of_user(ctx: AppContext, name: str) -> ItemList[UserSession]:
    """Return the sessions of a user that are not over.

    Raises:
        NotFound, InvalidInput.
    """
    with ctx.database.reading() as connection:
        user = find_user(connection, name)
        items = [
            UserSession(
                id=row.id,
                source=KeyAndLabel(row.source_key, row.source_label),
                created_at=row.created_at,
                last_seen_at=row.last_seen_at,
                until_at=row.until_at,
            )
            for row in stored.of_user(connection, user.id, clock.now(), 100)
        ]
    return ItemList(items)


def end_of_user(ctx: AppContext, caller: Caller, name: str) -> ItemList[UserSession]:
    """End all sessions of a user. The user can sign in again.

    Raises:
        NotFound, InvalidInput.
    """
    with ctx.database.writing() as connection:
        user = find_user(connection, name)
        ended = stored.delete_of_user(connection, user.id)
        record_change(
            connection,
            ctx.keys,
            caller,
            clock.now(),
            AuditEvent("ended sessions", "user", user.id, details={"ended": ended}),
        )
    return ItemList([])


def leave(ctx: AppContext, visitor: SignedInUser, base: str) -> str:
    """End a session; returns the address at which the browser signs out at the provider too, "" if the
    provider offers none.
    """
    user_session = end(ctx, visitor)
    return (
        _onward(
            ctx,
            visitor.source_id,
            (user_session.subject, user_session.subject_format, user_session.session),
            base,
        )
        if user_session is not None
        else ""
    )


def leave_as_operator(ctx: AppContext, caller: Caller, base: str) -> str:
    """End an operator's session; return the address that signs out at the provider, or ""."""
    row = operator_sessions.end_session(ctx, caller)
    if row is None or row.source_id is None or row.subject is None:
        return ""
    return _onward(ctx, row.source_id, (row.subject, row.subject_format, row.provider_session), base)


def _onward(ctx: AppContext, source_id: str, named: tuple[str, str | None, str | None], base: str) -> str:
    """Return the address that signs a user out at the provider, by (subject, its format, session)."""
    with ctx.database.reading() as connection:
        source = source_rows.by_id(connection, source_id)
        row = source_settings.sign_in_of(connection, source.id)
        keys = sign_in_keys.of_source(ctx, connection, source.id) if row is not None else []
    if row is None or row.protocol == MAIL or not row.settings.get("single_logout", True):
        return ""
    ours = addresses(base, source.key)
    if row.protocol == SAML:
        at = _logout_url(row)
        if not at or not keys:
            return ""
        identifier, relay = f"_{secrets.token_hex(20)}", secrets.token_urlsafe(8)
        header = MessageHeader(identifier, at, ours["entity_id"], clock.now())
        return sign_out_request(header, ProviderSession(*named), relay, keys[0].key)
    at = _logout_url(row)
    if not at:
        return ""
    # RP-Initiated Logout 1.0, section 2: by the client ID, because ID tokens are not stored.
    query = {
        "client_id": row.settings["client_id"],
        "post_logout_redirect_uri": ours["signed_out"],
        "logout_hint": named[0],
    }
    return f"{at}{'&' if '?' in at else '?'}{urlencode(query)}"


def _logout_url(row: SourceSignIn) -> str:
    """Return the logout URL of a provider: of the settings, else the one that the provider publishes."""
    published = (
        row.provider.get("sign_out", {}).get(REDIRECT)
        if row.protocol == SAML
        else row.provider.get("end_session")
    )
    return row.settings.get("logout_url") or published or ""


def asked_by_provider(ctx: AppContext, key: str, base: str, query: bytes) -> str:
    """Sign a user out whom the provider wants to sign out; return the address to which the browser goes, or
    "".

    Raises:
        NotFound.
        SignInRefused: if the request is not from the provider.
    """
    with ctx.database.reading() as connection:
        source, row = source_policies.sign_in_of(connection, key)
        keys = sign_in_keys.of_source(ctx, connection, source.id)
    if row.protocol != SAML:
        raise SignInRefused("protocol", f"'{source.label}' does not use SAML.")
    ours = addresses(base, key)
    now = clock.now()
    seconds = datetime.fromisoformat(now).timestamp()
    asked = read_sign_out_request(
        query,
        row.provider.get("entity_id", ""),
        provider_settings.certificates_of(row),
        ours["sign_out"],
        seconds,
    )
    with ctx.database.writing() as connection:
        stored.delete_of_subject(connection, source.id, asked.subject, asked.sessions)
        operator_session_rows.delete_of_subject(connection, source.id, asked.subject, asked.sessions)
    at = _logout_url(row)
    if not at or not keys:
        return ""
    header = MessageHeader(f"_{secrets.token_hex(20)}", at, ours["entity_id"], now)
    return sign_out_response(header, asked, keys[0].key)

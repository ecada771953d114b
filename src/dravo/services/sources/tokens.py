"""SCIM tokens of sources: created, listed and revoked."""

from __future__ import annotations

from dataclasses import dataclass, field

from dravo.core.errors import InvalidInput, NotFound
from dravo.core.instants import Instant
from dravo.services.context import AppContext
from dravo.services.lookups import check_label, check_not_retired, pushing_source, source_by_key
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.services.security.secrets import new_token
from dravo.store import clock
from dravo.store.ids import new_id
from dravo.store.pagination import Page, PageRequest
from dravo.store.sources import tokens as stored
from dravo.store.sources.tokens import StoredToken

TOKEN_KINDS, TOKEN_ACCESS = ("users", "groups", "both"), ("read", "write")


@dataclass
class ScimToken:
    """A SCIM token with its resources and access."""

    id: str
    label: str
    prefix: str
    created_at: str
    expires_at: str | None
    last_used_at: str | None
    revoked_at: str | None
    kinds: str
    access: str
    created_by: str | None


@dataclass
class NewScimToken(ScimToken):
    """A new token with its text, shown once."""

    token: str = field(repr=False)


@dataclass(frozen=True)
class TokenScope:
    """What a SCIM token allows.

    Attributes:
        kinds: "users", "groups" or "both".
        access: "read", or "write", which includes reading.
    """

    kinds: str = "both"
    access: str = "write"


FULL_SCOPE = TokenScope()


def add_token(
    ctx: AppContext,
    caller: Caller,
    key: str,
    label: str,
    expires_at: Instant | None = None,
    scope: TokenScope = FULL_SCOPE,
) -> NewScimToken:
    """Create a SCIM token; the result carries its text, the only time that the text is shown.

    Raises:
        InvalidInput, NotFound.
    """
    kinds, access = scope.kinds, scope.access
    if kinds not in TOKEN_KINDS or access not in TOKEN_ACCESS:
        raise InvalidInput(
            f"The combination '{kinds}', '{access}' is not valid.",
            "Set `kinds` to users, groups or both, and `access` to read or write.",
            "kinds",
        )
    now = clock.now()
    if expires_at is not None and expires_at <= now:
        raise InvalidInput(
            "The expiry is in the past.", "Set `expires_at` to a future time, or omit it.", "expires_at"
        )
    token = new_token("push")
    with ctx.database.writing() as connection:
        source = pushing_source(connection, key)
        check_not_retired(source)
        made = StoredToken(
            id=new_id(),
            source_id=source.id,
            label=check_label(label),
            prefix=token.prefix,
            hash=token.hash,
            created_at=now,
            expires_at=expires_at,
            last_used_at=None,
            revoked_at=None,
            kinds=kinds,
            access=access,
            created_by=caller.name,
        )
        stored.insert_token(connection, made)
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent(
                "created SCIM token", "source", source.id, details={"label": label, "prefix": token.prefix}
            ),
        )
    ctx.token_revision += 1
    return NewScimToken(**vars(_token_line(made)), token=token.text)


def revoke_token(ctx: AppContext, caller: Caller, key: str, token_id: str) -> None:
    """Revoke a token of a source.

    Raises:
        NotFound.
    """
    now = clock.now()
    with ctx.database.writing() as connection:
        source = source_by_key(connection, key)
        row = stored.get(connection, source.id, token_id)
        if row is None:
            raise NotFound(f"'{source.label}' has no token with the ID '{token_id}'.")
        if row.revoked_at is None:
            stored.revoke(connection, token_id, now)
            record_change(
                connection,
                ctx.keys,
                caller,
                now,
                AuditEvent(
                    "revoked SCIM token",
                    "source",
                    source.id,
                    details={"label": row.label, "prefix": row.prefix},
                ),
            )
    ctx.token_revision += 1


def tokens(ctx: AppContext, key: str, page_request: PageRequest) -> Page[ScimToken]:
    """Return a page of a source's tokens, newest first, without their texts."""
    with ctx.database.reading() as connection:
        source = source_by_key(connection, key)
        return stored.list_tokens(connection, source.id, page_request, _token_line)


def _token_line(row: StoredToken) -> ScimToken:
    return ScimToken(
        id=row.id,
        label=row.label,
        prefix=row.prefix,
        kinds=row.kinds,
        access=row.access,
        created_at=row.created_at,
        expires_at=row.expires_at,
        last_used_at=row.last_used_at,
        revoked_at=row.revoked_at,
        created_by=row.created_by,
    )

"""API tokens of operators, limited in scope, permissions and time. Super administrators list and revoke
all.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from sqlalchemy import Connection

from dravo.core.errors import InvalidInput, NotFound, NotPermitted
from dravo.core.instants import Instant, later
from dravo.services.context import AppContext
from dravo.services.lookups import check_label
from dravo.services.security import operators
from dravo.services.security import sessions as operator_sessions
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import PERMISSIONS, Caller
from dravo.services.security.secrets import digest, new_token
from dravo.store import clock
from dravo.store.ids import new_id
from dravo.store.operators import api_tokens as token_rows
from dravo.store.operators.api_tokens import ApiToken
from dravo.store.pagination import Page, PageRequest

SCOPES = ("read", "write")


@dataclass
class TokenOperator:
    """The operator of a token."""

    id: str
    name: str


@dataclass
class ApiTokenLine:
    """An API token without its secret."""

    id: str
    label: str
    prefix: str
    created_at: str
    expires_at: str | None
    last_used_at: str | None
    revoked_at: str | None
    operator: TokenOperator
    scope: str
    permissions: list[str] | None


@dataclass
class NewApiToken(ApiTokenLine):
    """A new token with its text, shown once."""

    token: str = field(repr=False)


def create(
    ctx: AppContext,
    caller: Caller,
    label: str,
    scope: str,
    expires_at: Instant | None = None,
    permissions: Sequence[str] | None = None,
) -> NewApiToken:
    """Create an API token of the caller; the result carries its text, the only time that it is shown.

    Args:
        expires_at: the expiry; None for no expiry. A token that is created with a token expires with it at
            the latest.
        permissions: the permissions of the token; None for all permissions of the caller.

    Raises:
        InvalidInput.
        NotPermitted: a token with the scope "read" cannot create tokens.
    """
    if scope not in SCOPES:
        raise InvalidInput(f"'{scope}' is not a valid scope.", f"Use one of: {', '.join(SCOPES)}.", "scope")
    if caller.scope == "read":
        raise NotPermitted(
            "A token with the scope 'read' cannot create tokens.",
            "Sign in, or use a token with the scope 'write'.",
        )
    now = clock.now()
    if expires_at is not None and expires_at <= now:
        raise InvalidInput(
            "The expiry is in the past.", "Set `expires_at` to a future time, or omit it.", "expires_at"
        )
    if caller.token_ends is not None and expires_at is not None and expires_at > caller.token_ends:
        raise InvalidInput(
            f"The token that you use expires at {caller.token_ends}, before the new token.",
            "Set `expires_at` to this time or earlier, or sign in.",
            "expires_at",
        )
    token = new_token("api")
    limits = _limits(caller, scope, permissions)
    token_id = new_id()
    row = {
        "id": token_id,
        "operator_id": caller.operator_id,
        "parent_id": caller.token_id,
        "label": check_label(label),
        "prefix": token.prefix,
        "hash": token.hash,
        "scope": scope,
        "permissions": limits,
        "created_at": now,
        "expires_at": expires_at or caller.token_ends,
    }
    details = {
        "label": label,
        "scope": scope,
        **({"permissions": limits} if limits is not None else {}),
    }
    with ctx.database.writing() as connection:
        token_rows.insert_token(connection, row)
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent("created API token", "operator", caller.operator_id, details=details),
        )
        made = _known(connection, token_id)
    return NewApiToken(**vars(_line(made)), token=token.text)


def _limits(caller: Caller, scope: str, wanted: Sequence[str] | None) -> list[str] | None:
    """Return the permissions of a new token; None for no limit.

    Raises:
        InvalidInput: for a permission that does not exist, or that the caller does not have.
    """
    if wanted is None:
        return None if caller.limited_to is None else sorted(caller.limited_to)
    unknown = sorted({*wanted} - PERMISSIONS)
    if unknown:
        raise InvalidInput(
            f"'{unknown[0]}' is not a valid permission.",
            f"Valid permissions: {', '.join(sorted(PERMISSIONS))}.",
            "permissions",
        )
    if not wanted:
        raise InvalidInput(
            "The list of permissions is empty.",
            "Add at least one permission, or omit `permissions`.",
            "permissions",
        )
    missing = sorted({*wanted} - caller.permissions)
    if missing:
        raise InvalidInput(
            f"You do not have the permission '{missing[0]}'.", "Remove it from `permissions`.", "permissions"
        )
    changing = sorted(each for each in wanted if not each.endswith(".read"))
    if scope == "read" and changing:
        raise InvalidInput(
            f"A token with the scope 'read' cannot have the permission '{changing[0]}'.",
            "Remove it, or set `scope` to 'write'.",
            "permissions",
        )
    return sorted({*wanted})


def _line(row: ApiToken) -> ApiTokenLine:
    return ApiTokenLine(
        id=row.id,
        operator=TokenOperator(row.operator_id, row.operator_name),
        label=row.label,
        prefix=row.prefix,
        scope=row.scope,
        permissions=row.permissions,
        created_at=row.created_at,
        expires_at=row.expires_at,
        last_used_at=row.last_used_at,
        revoked_at=row.revoked_at,
    )


def tokens(
    ctx: AppContext, caller: Caller, page_request: PageRequest, *, of_all: bool = False
) -> Page[ApiTokenLine]:
    """Return a page of the caller's tokens, or of the tokens of all operators, newest first.

    Raises:
        NotPermitted: if the caller cannot see the tokens of others.
    """
    if of_all:
        caller.require("operators.read")
    with ctx.database.reading() as connection:
        owner = None if of_all else caller.operator_id
        return token_rows.list_tokens(connection, page_request, _line, owner)


def revoke(ctx: AppContext, caller: Caller, token_id: str) -> None:
    """Revoke a token, with all tokens that were created with it. Super administrators can revoke all tokens.

    Raises:
        NotFound: also for a token of another operator that the caller cannot revoke.
    """
    now = clock.now()
    with ctx.database.writing() as connection:
        row = _known(connection, token_id)
        if row.operator_id != caller.operator_id and "operators.change" not in caller.permissions:
            raise _no_token(token_id)
        token_rows.revoke_family(connection, token_id, now)
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent(
                "revoked API token",
                "operator",
                row.operator_id,
                details={"label": row.label, "name": row.operator_name},
            ),
        )


def _known(connection: Connection, token_id: str) -> ApiToken:
    row = token_rows.get(connection, token_id)
    if row is None:
        raise _no_token(token_id)
    return row


def _no_token(token_id: str) -> NotFound:
    return NotFound(f"You have no token with the ID '{token_id}'.")


def by_text(ctx: AppContext, text: str) -> Caller | None:
    """Return the caller of a token; None for a token that is unknown, revoked or expired."""
    now = clock.now()
    with ctx.database.reading() as connection:
        row = token_rows.owner_of(connection, digest(text))
        if row is None or (row.expires_at and row.expires_at <= now):
            return None
        owned = operators.applications_of(connection, row)
        unfinished = not row.only_by_source and operator_sessions.lacks_factor(connection, row)
    if row.last_used_at is None or row.last_used_at < later(now, -60):
        with ctx.database.writing() as connection:
            token_rows.note_use(connection, row.token_id, now)
    return Caller(
        row.id,
        row.name,
        row.kind,
        row.scope,
        applications=owned,
        **operators.view_of(row),
        unfinished=unfinished,
        token_id=row.token_id,
        token_ends=row.expires_at,
        limited_to=None if row.permissions is None else frozenset(row.permissions),
    )

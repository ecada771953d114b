"""API tokens of operators, limited in scope, permissions and time. Super administrators list and revoke
all.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from sqlalchemy import Connection, func, insert, select, update

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
from dravo.store import tables as t
from dravo.store.ids import new_id
from dravo.store.pagination import PageRequest, page

SCOPES = ("read", "write")


def create(
    ctx: AppContext,
    caller: Caller,
    label: str,
    scope: str,
    expires_at: Instant | None = None,
    permissions: Sequence[str] | None = None,
) -> dict[str, Any]:
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
    row = {
        "id": new_id(),
        "operator_id": caller.operator_id,
        "parent_id": caller.token_id,
        "label": check_label(label),
        "prefix": token.prefix,
        "hash": token.hash,
        "scope": scope,
        "permissions": _limits(caller, scope, permissions),
        "created_at": now,
        "expires_at": expires_at or caller.token_ends,
    }
    details = {
        "label": label,
        "scope": scope,
        **({"permissions": row["permissions"]} if row["permissions"] is not None else {}),
    }
    with ctx.database.writing() as connection:
        connection.execute(insert(t.api_token).values(**row))
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent("created API token", "operator", caller.operator_id, details=details),
        )
        made = connection.execute(_listed().where(t.api_token.c.id == row["id"])).one()
    return {**_line(made), "token": token.text}


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


def _listed() -> Any:
    return select(t.api_token, t.operator.c.name.label("operator_name")).join(
        t.operator, t.operator.c.id == t.api_token.c.operator_id
    )


def _line(row: Any) -> dict[str, Any]:
    return {
        "id": row.id,
        "operator": {"id": row.operator_id, "name": row.operator_name},
        "label": row.label,
        "prefix": row.prefix,
        "scope": row.scope,
        "permissions": row.permissions,
        "created_at": row.created_at,
        "expires_at": row.expires_at,
        "last_used_at": row.last_used_at,
        "revoked_at": row.revoked_at,
    }


def tokens(
    ctx: AppContext, caller: Caller, page_request: PageRequest, *, of_all: bool = False
) -> dict[str, Any]:
    """Return a page of the caller's tokens, or of the tokens of all operators, newest first.

    Raises:
        NotPermitted: if the caller cannot see the tokens of others.
    """
    if of_all:
        caller.require("operators.read")
    with ctx.database.reading() as connection:
        statement = _listed() if of_all else _listed().where(t.api_token.c.operator_id == caller.operator_id)
        return page(connection, statement, [t.api_token.c.id.desc()], page_request, _line)


def revoke(ctx: AppContext, caller: Caller, token_id: str) -> None:
    """Revoke a token, with all tokens that were created with it. Super administrators can revoke all tokens.

    Raises:
        NotFound: also for a token of another operator that the caller cannot revoke.
    """
    now, k = clock.now(), t.api_token.c
    with ctx.database.writing() as connection:
        row = connection.execute(_listed().where(k.id == token_id)).first()
        if row is None or (
            row.operator_id != caller.operator_id and "operators.change" not in caller.permissions
        ):
            raise NotFound(f"You have no token with the ID '{token_id}'.")
        _revoke_family(connection, token_id, now)
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


def _revoke_family(connection: Connection, token_id: str, now: Instant) -> None:
    k = t.api_token.c
    family = select(k.id).where(k.id == token_id).cte("family", recursive=True)
    family = family.union(select(k.id).join(family, k.parent_id == family.c.id))
    connection.execute(
        update(t.api_token)
        .where(k.id.in_(select(family.c.id)), k.revoked_at.is_(None))
        .values(revoked_at=now)
    )


def revoke_all(connection: Connection, operator_id: str, now: Instant) -> int:
    """Revoke all tokens of an operator; return their number."""
    k = t.api_token.c
    where = (k.operator_id == operator_id, k.revoked_at.is_(None))
    in_use = connection.execute(select(func.count()).select_from(t.api_token).where(*where)).scalar_one()
    connection.execute(update(t.api_token).where(*where).values(revoked_at=now))
    return int(in_use)


def by_text(ctx: AppContext, text: str) -> Caller | None:
    """Return the caller of a token; None for a token that is unknown, revoked or expired."""
    k, o = t.api_token.c, t.operator.c
    now = clock.now()
    with ctx.database.reading() as connection:
        columns = (k.id.label("token_id"), k.scope, k.permissions, k.expires_at, k.last_used_at)
        row = connection.execute(
            select(*columns, o.id, o.name, o.kind, o.masked, o.factor_secret, o.only_by_source)
            .join(t.operator, o.id == k.operator_id)
            .where(k.hash == digest(text), k.revoked_at.is_(None), o.disabled_at.is_(None))
        ).first()
        if row is None or (row.expires_at and row.expires_at <= now):
            return None
        owned = operators.applications_of(connection, row)
        unfinished = not row.only_by_source and operator_sessions.lacks_factor(connection, row)
    if row.last_used_at is None or row.last_used_at < later(now, -60):
        with ctx.database.writing() as connection:
            connection.execute(update(t.api_token).where(k.id == row.token_id).values(last_used_at=now))
    return Caller(
        row.id,
        row.name,
        row.kind,
        row.scope,
        applications=owned,
        masked=row.masked,
        unfinished=unfinished,
        token_id=row.token_id,
        token_ends=row.expires_at,
        limited_to=None if row.permissions is None else frozenset(row.permissions),
    )

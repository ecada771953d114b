"""Connections to applications: address and credentials, the connection test, pause and resume."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any
from urllib.parse import urlsplit

from dravo.core.errors import InvalidInput
from dravo.core.instants import Instant
from dravo.protocols.http_client import check_url, repair_address
from dravo.protocols.scim_client.connection_test import CheckResult, CheckStep, check_connection
from dravo.protocols.trust import read_ca
from dravo.services.applications.applications import ApplicationDetail, one, retry_failed_tasks
from dravo.services.context import AppContext
from dravo.services.lookups import application_by_key
from dravo.services.provisioning.client import ApplicationClient, ConnectedApplication
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock
from dravo.store.provisioning import applications as application_rows
from dravo.store.queries import applications as application_queries
from dravo.store.queries.applications import Application


@dataclass(frozen=True)
class ConnectionCheck:
    """The result of a connection check; `base_url` is the address that was checked, after repairs."""

    ok: bool
    base_url: str
    steps: list[CheckStep]
    capabilities: dict[str, Any] | None


@dataclass(frozen=True)
class ConnectionSettings:
    """Where the SCIM service of an application is, and how Dravo authenticates there.

    Attributes:
        base_url: the base URL of the SCIM service.
        token: the bearer token, the password (basic) or the client secret; None keeps the stored secret.
        auth: None for a bearer token; {"kind": "basic", "user"}, or {"kind": "client_credentials",
            "token_url", "client_id", "scope"}.
        expires_at: when the secret expires, if that is known.
    """

    base_url: str
    token: str | None = field(repr=False)
    auth: dict[str, Any] | None = None
    expires_at: Instant | None = None


def connect(
    ctx: AppContext, caller: Caller, key: str, connection_settings: ConnectionSettings
) -> ApplicationDetail:
    """Save the connection of an application.

    An address can be saved before its token is known. A stored secret never goes to another host or kind of
    authentication: it is entered again with these.

    Raises:
        InvalidInput: for an unusable address, or a token that has to be entered again.
    """
    token, expires_at = connection_settings.token, connection_settings.expires_at
    repaired, way = repair_address(connection_settings.base_url), _way(connection_settings.auth)
    with ctx.database.writing() as connection:
        row = application_by_key(connection, key)
        if row.tracked_only:
            raise InvalidInput(
                f"'{row.label}' is tracked only.", "Turn off `tracked_only` to connect the application."
            )
        if _moved(row, repaired, way) and row.secret and not token:
            raise InvalidInput(
                "The saved token belongs to another address.",
                "Enter the token together with the new address.",
                "token",
            )
        secret = ctx.keys.encrypt(token.strip()) if token else row.secret
        application_rows.update_settings(
            connection,
            row.id,
            base_url=repaired,
            secret=secret,
            auth=way,
            capabilities=None,
            checked_at=None,
            failures=0,
            retry_at=None,
            paused_at=None,
            trouble=None,
            trouble_hint=None,
            **({} if row.base_url == repaired else {"seen_values": None, "seen_at": None}),
            secret_expires_at=expires_at if token or expires_at else row.secret_expires_at,
        )
        retry_failed_tasks(connection, row.id)
        record_change(
            connection,
            ctx.keys,
            caller,
            clock.now(),
            AuditEvent(
                "connected application",
                "application",
                row.id,
                details={
                    "key": key,
                    "before": row.base_url,
                    "after": repaired,
                    "authentication": (way or {}).get("kind", "bearer"),
                    "token": "changed" if token else "kept" if secret else "missing",
                },
            ),
        )
    return one(ctx, key)


def _way(auth: dict[str, Any] | None) -> dict[str, Any] | None:
    """Return how to sign in, checked, with the application's own CA; None for a bearer token without one."""
    found, ca = _credentials(auth), read_ca(str((auth or {}).get("ca") or ""))
    return {**(found or {"kind": "bearer"}), "ca": ca} if ca else found


def _credentials(auth: dict[str, Any] | None) -> dict[str, Any] | None:
    given = {name: value for name, value in (auth or {}).items() if value}
    kind = given.get("kind", "bearer")
    if kind == "bearer":
        return None
    if kind == "basic":
        if not given.get("user") or ":" in given["user"]:
            raise InvalidInput(
                "The user name is missing or contains a colon.",
                "Enter the user name that belongs to the password.",
                "user",
            )
        return {"kind": kind, "user": given["user"]}
    if kind != "client_credentials":
        raise InvalidInput(
            f"'{kind}' is not a valid authentication.", "Use bearer, basic or client_credentials.", "kind"
        )
    if not given.get("client_id"):
        raise InvalidInput(
            "The client ID is missing.",
            "Enter the client ID from the application's authorization server.",
            "client_id",
        )
    found = {
        "kind": kind,
        "token_url": check_url(given.get("token_url", ""), "token_url"),
        "client_id": given["client_id"].strip(),
    }
    return {**found, "scope": given["scope"].strip()} if given.get("scope") else found


def _secret_goes_to(auth: dict[str, Any] | None) -> tuple[str, ...]:
    given = auth or {}
    return given.get("kind", "bearer"), *(_origin(given["token_url"]) if "token_url" in given else ())


def _origin(address: str) -> tuple[str, str]:
    parts = urlsplit(address)
    return parts.scheme, parts.netloc


def check(ctx: AppContext, caller: Caller, key: str, *, writing: bool = False) -> ConnectionCheck:
    """Test the connection step by step, and store the capabilities of the application.

    Args:
        writing: whether to create, update and delete a test user.
    """
    with ctx.database.reading() as connection:
        row = application_by_key(connection, key)
    if not row.base_url:
        raise InvalidInput(f"'{row.label}' has no connection.", "Save the SCIM base URL first.")
    result = _check(
        ctx, ConnectedApplication(row.id, row.base_url, row.secret or "", row.auth), writing=writing
    )
    now = clock.now()
    with ctx.database.writing() as connection:
        values: dict[str, Any] = {"checked_at": now}
        if result.capabilities:
            values["capabilities"] = result.capabilities
            seen = {"values": [each.document() for each in result.seen], "complete": result.complete}
            # A sample does not replace what a reconciliation read of all accounts.
            if result.complete or not (row.seen_values or {}).get("complete"):
                values |= {"seen_values": seen, "seen_at": now}
        if result.ok:
            values |= {
                "failures": 0,
                "retry_at": None,
                "paused_at": None,
                "trouble": None,
                "trouble_hint": None,
                "answered_at": now,
                **({"tested_at": now} if writing else {}),
            }
        application_rows.update_of_revision(connection, row, **values)
        details = {"key": key, "ok": result.ok, "with a test account": writing}
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent("checked connection", "application", row.id, details=details),
        )
    return _shown(result)


def _shown(result: CheckResult) -> ConnectionCheck:
    return ConnectionCheck(result.ok, result.base_url, result.steps, result.capabilities)


def _check(ctx: AppContext, there: ConnectedApplication, *, writing: bool) -> CheckResult:
    """Test a connection. Without a secret, only the address is tested; the steps after it are not yet
    possible.
    """
    talker = ApplicationClient(ctx)
    try:
        return check_connection(
            talker.client,
            there.base_url,
            lambda: talker.connection(there) if there.secret else None,
            writing=writing,
        )
    finally:
        talker.close()


def preview(
    ctx: AppContext, key: str, connection_settings: ConnectionSettings, *, writing: bool = False
) -> ConnectionCheck:
    """Test a connection before it is saved; nothing is stored.

    Without a token, the stored secret is used if it could be kept when the connection is saved.

    Raises:
        NotFound; InvalidInput: as `connect`.
    """
    repaired, way = repair_address(connection_settings.base_url), _way(connection_settings.auth)
    with ctx.database.reading() as connection:
        row = application_by_key(connection, key)
    token = connection_settings.token
    secret = ctx.keys.encrypt(token.strip()) if token else None if _moved(row, repaired, way) else row.secret
    return _shown(_check(ctx, ConnectedApplication(row.id, repaired, secret or "", way), writing=writing))


def _moved(row: Application, base_url: str, way: dict[str, Any] | None) -> bool:
    """Return whether the secret of an application would go to another host or kind of authentication."""
    return (
        row.base_url is None
        or _origin(row.base_url) != _origin(base_url)
        or _secret_goes_to(row.auth) != _secret_goes_to(way)
    )


def pause(ctx: AppContext, caller: Caller, key: str, *, paused: bool) -> ApplicationDetail:
    """Pause provisioning to an application, or resume it; pending work waits."""
    now = clock.now()
    with ctx.database.writing() as connection:
        row = application_by_key(connection, key)
        values = {
            "paused_at": now if paused else None,
            "trouble": f"Paused by {caller.name}." if paused else None,
            "trouble_hint": "Resume the application to continue." if paused else None,
            "failures": 0,
            "retry_at": None,
        }
        application_queries.update_application(connection, row.id, **values)
        if not paused:
            retry_failed_tasks(connection, row.id)
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent(
                "paused application" if paused else "resumed application",
                "application",
                row.id,
                details={"key": key},
            ),
        )
    return one(ctx, key)

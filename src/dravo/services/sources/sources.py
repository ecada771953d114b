"""Sources: the identity providers, directories and files that report users and groups."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from sqlalchemy import Connection, delete, func, insert, select, update
from sqlalchemy.exc import IntegrityError

from dravo.core.errors import AlreadyExists, InvalidInput, StillInUse
from dravo.core.expiry import ending, told_from
from dravo.core.identity.source_policy import read_domains
from dravo.core.instants import Instant, later
from dravo.services.context import AppContext
from dravo.services.lookups import check_key, check_label, source_by_key
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.services.sources import schemas as source_schemas
from dravo.services.sources.observations import CALL, SCIM_USER
from dravo.store import clock, imported_records
from dravo.store import tables as t
from dravo.store.ids import new_id
from dravo.store.pagination import PageRequest, page
from dravo.store.queries import sources as source_rows
from dravo.store.queries.sources import Source, TokenExpiry
from dravo.store.snapshots.config import raise_revision

# What belongs to signing in by a source.
SIGNING_IN = (
    t.user_session,
    t.sign_in_request,
    t.consumed_assertion,
    t.sign_in_key,
    t.test_sign_in,
    t.sign_in_trace,
    t.source_sign_in,
)
# A token counts as in use for so long after it was used last.
USED_LATELY_SECONDS = 7 * 86_400


def add(ctx: AppContext, caller: Caller, key: str, label: str) -> dict[str, Any]:
    """Add a source that pushes.

    Raises:
        InvalidInput, AlreadyExists.
    """
    now, source_id = clock.now(), new_id()
    row = {
        "id": source_id,
        "key": check_key(key),
        "label": check_label(label),
        "connection_type": "inbound_scim",
        "priority": 100,
        "created_at": now,
    }
    try:
        with ctx.database.writing() as connection:
            connection.execute(insert(t.source).values(**row))
            raise_revision(connection)
            record_change(
                connection,
                ctx.keys,
                caller,
                now,
                AuditEvent("added source", "source", source_id, details={"key": key, "label": label}),
            )
    except IntegrityError:
        raise AlreadyExists(
            f"A source with the key '{key}' exists already.", "Choose another key.", "key"
        ) from None
    return one(ctx, key)


def change(
    ctx: AppContext, caller: Caller, key: str, label: str | None = None, domains: Sequence[str] | None = None
) -> dict[str, Any]:
    """Change a source's label or the email domains that it owns; the key stays.

    Args:
        domains: all domains that it owns. Other sources link records to its users by email only within these.

    Raises:
        NotFound, InvalidInput.
    """
    given: dict[str, Any] = {}
    if label is not None:
        given["label"] = check_label(label)
    if domains is not None:
        given["domains"] = read_domains(domains)
    if not given:
        raise InvalidInput("The request changes nothing.", "Set `label` or `domains`.")
    with ctx.database.writing() as connection:
        row = source_by_key(connection, key)
        before = {"label": row.label, "domains": list(row.domains or ())}
        connection.execute(update(t.source).where(t.source.c.id == row.id).values(**given))
        raise_revision(connection)
        details = {"key": key, "before": {name: before[name] for name in given}, "after": given}
        record_change(
            connection,
            ctx.keys,
            caller,
            clock.now(),
            AuditEvent("changed source", "source", row.id, details=details),
        )
    return one(ctx, key)


def remove(ctx: AppContext, caller: Caller, key: str) -> None:
    """Remove a source that never reported users or groups.

    Raises:
        StillInUse: if it reported users or groups, or if a pattern or a rule needs it.
    """
    with ctx.database.writing() as connection:
        row = source_by_key(connection, key)
        for table in (t.record, t.group):
            if connection.execute(select(table.c.id).where(table.c.source_id == row.id).limit(1)).first():
                raise StillInUse(
                    f"'{row.label}' has reported users or groups.",
                    "Revoke its tokens to block its requests. Its users stay unchanged.",
                )
        _check_patterns(connection, row)
        i = t.source_sign_in.c
        if connection.execute(select(i.source_id).where(i.source_id == row.id, i.serves != "users")).first():
            raise StillInUse(f"Operators sign in through '{row.label}'.", "Set `serves` to users first.")
        urns = (
            connection.execute(select(t.source_schema.c.urn).where(t.source_schema.c.source_id == row.id))
            .scalars()
            .all()
        )
        its_runs = select(t.run.c.id).where(t.run.c.source_id == row.id)
        connection.execute(delete(t.run_entry).where(t.run_entry.c.run_id.in_(its_runs)))
        for table in (
            t.source_token,
            t.source_observation,
            t.source_schema,
            t.trace,
            t.source_import,
            t.conflict,
            t.run,
            *SIGNING_IN,
        ):
            connection.execute(delete(table).where(table.c.source_id == row.id))
        for urn in urns:
            source_schemas.check_rules(connection, urn)
        connection.execute(delete(t.source).where(t.source.c.id == row.id))
        raise_revision(connection)
        record_change(
            connection,
            ctx.keys,
            caller,
            clock.now(),
            AuditEvent("deleted source", "source", row.id, details={"key": key, "label": row.label}),
        )
    ctx.token_revision += 1


def _check_patterns(connection: Connection, source: Source) -> None:
    """Check that no pattern is for the groups of a source; deleted patterns lose their source."""
    a, p = t.assignment.c, t.application.c
    present = (
        select(a.pattern, p.label)
        .join(t.application, p.id == a.application_id)
        .where(a.source_id == source.id, a.removed_at.is_(None))
    )
    found = connection.execute(present.limit(1)).first()
    if found is not None:
        raise StillInUse(
            f"'{found.label}' maps groups of this source with the pattern {found.pattern}.",
            "Delete this assignment first.",
        )
    connection.execute(update(t.assignment).where(a.source_id == source.id).values(source_id=None))


def id_of(ctx: AppContext, key: str) -> str:
    """Return a source's id; raises as `source_by_key`."""
    with ctx.database.reading() as connection:
        return str(source_by_key(connection, key).id)


def _statement() -> Any:
    s = t.source.c

    def count(table: Any, *where: Any) -> Any:
        return (
            select(func.count()).select_from(table).where(table.c.source_id == s.id, *where).scalar_subquery()
        )

    return select(
        s.id,
        s.key,
        s.label,
        s.connection_type,
        s.created_at,
        s.domains,
        s.priority,
        s.deactivation_wins,
        s.updates,
        count(t.record, t.record.c.deleted_at.is_(None)).label("users"),
        count(t.group, t.group.c.deleted_at.is_(None)).label("groups"),
        select(func.max(t.source_observation.c.last_at))
        .where(t.source_observation.c.source_id == s.id, t.source_observation.c.what == CALL)
        .scalar_subquery()
        .label("last_call"),
        t.source_import.c.kind.label("read_as"),
        t.source_import.c.enabled,
        source_rows.last_run(t.run.c.status, s.id).label("run_status"),
        source_rows.last_run(t.run.c.ended_at, s.id).label("run_ended_at"),
        select(func.count())
        .select_from(t.conflict)
        .where(t.conflict.c.source_id == s.id, t.conflict.c.status == "open")
        .scalar_subquery()
        .label("conflicts"),
        source_rows.token_ends(s.id, token_expiry(clock.now())).label("token_ends_at"),
        t.source_sign_in.c.status.label("sign_in_status"),
        t.source_sign_in.c.provider,
        t.source_sign_in.c.waiting,
        t.source_sign_in.c.trouble,
        select(func.max(t.source_observation.c.last_at))
        .where(t.source_observation.c.source_id == s.id, t.source_observation.c.what == SCIM_USER)
        .scalar_subquery()
        .label("signed_in_at"),
    ).select_from(
        t.source.outerjoin(t.source_import, t.source_import.c.source_id == s.id).outerjoin(
            t.source_sign_in, t.source_sign_in.c.source_id == s.id
        )
    )


def sign_in_needs(status: str | None, provider: Any, waiting: Any, trouble: str | None) -> dict[str, Any]:
    """Return what needs an operator at the sign-in of a source: a certificate that expires, a new one, an
    error.
    """
    if status is None or status == "disabled":
        return {"certificate_ends_at": None, "sign_in_needs": None}
    told = "The provider has a new certificate, which is not accepted yet." if waiting else trouble
    return {
        "certificate_ends_at": ending((provider or {}).get("ends_at"), clock.now()),
        "sign_in_needs": told,
    }


def token_expiry(now: Instant) -> TokenExpiry:
    """Return which tokens are shown as expiring."""
    return TokenExpiry(later(now, -USED_LATELY_SECONDS), told_from(now))


def _lines(connection: Connection, rows: Sequence[Any]) -> list[dict[str, Any]]:
    """Return sources as the API shows them, with the domains that each shares with others: there no email
    address names one source.
    """
    owned = imported_records.domains(connection)
    s = t.source.c
    named = {
        row.id: {"key": row.key, "label": row.label}
        for row in connection.execute(select(s.id, s.key, s.label).where(s.id.in_(list(owned))))
    }

    def shared(source_id: str) -> list[dict[str, Any]]:
        others = {
            domain: [
                named[other] for other, theirs in owned.items() if other != source_id and domain in theirs
            ]
            for domain in sorted(owned.get(source_id, ()))
        }
        return [{"domain": domain, "sources": sharing} for domain, sharing in others.items() if sharing]

    return [{**_line(row), "shared_domains": shared(row.id)} for row in rows]


def _line(row: Any) -> dict[str, Any]:
    return {
        "key": row.key,
        "label": row.label,
        "domains": list(row.domains or ()),
        "connection_type": "import"
        if row.read_as
        else "sign_in"
        if row.sign_in_status
        else row.connection_type,
        "sign_in_status": row.sign_in_status,
        "signed_in_at": row.signed_in_at,
        **sign_in_needs(row.sign_in_status, row.provider, row.waiting, row.trouble),
        "read_as": row.read_as,
        "enabled": row.enabled,
        "run_status": row.run_status,
        "run_ended_at": row.run_ended_at,
        "conflicts": row.conflicts,
        "priority": row.priority,
        "deactivation_wins": row.deactivation_wins,
        "updates": row.updates,
        "created_at": row.created_at,
        "users": row.users,
        "groups": row.groups,
        "last_call_at": row.last_call,
        "last_activity_at": max(
            (at for at in (row.last_call, row.run_ended_at, row.signed_in_at) if at is not None), default=None
        ),
        "token_ends_at": row.token_ends_at,
    }


def list_sources(ctx: AppContext, page_request: PageRequest) -> dict[str, Any]:
    """Return a page of sources by label."""
    with ctx.database.reading() as connection:
        found = page(
            connection, _statement(), [t.source.c.label, t.source.c.id], page_request, lambda row: row
        )
        return {**found, "items": _lines(connection, found["items"])}


def one(ctx: AppContext, key: str) -> dict[str, Any]:
    """Return one source.

    Raises:
        NotFound.
    """
    with ctx.database.reading() as connection:
        source_by_key(connection, key)
        return _lines(connection, [connection.execute(_statement().where(t.source.c.key == key)).one()])[0]

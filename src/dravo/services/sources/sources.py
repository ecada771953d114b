"""Sources: the identity providers, directories and files that report users and groups."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection
from sqlalchemy.exc import IntegrityError

from dravo.core.errors import AlreadyExists, InvalidInput, StillInUse
from dravo.core.expiry import ending, told_from
from dravo.core.identity.policy_reading import read_domains
from dravo.core.identity.records import INBOUND_SCIM
from dravo.core.instants import Instant, later
from dravo.services.context import AppContext
from dravo.services.lookups import check_key, check_label, source_by_key
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.services.sources import schemas as source_schemas
from dravo.services.sources.observations import CALL, SCIM_USER
from dravo.store import clock
from dravo.store.ids import new_id
from dravo.store.imports import matching as record_matching
from dravo.store.pagination import Page, PageRequest
from dravo.store.queries.references import KeyAndLabel
from dravo.store.snapshots.config import raise_revision
from dravo.store.sources import listing, removal
from dravo.store.sources import schemas as stored_schemas
from dravo.store.sources import settings as source_settings
from dravo.store.sources import sources as source_rows
from dravo.store.sources.listing import ListedActivity, ListedSource
from dravo.store.sources.sources import Source, TokenExpiry

# Seconds after its last use for which a token counts as in use.
USED_LATELY_SECONDS = 7 * 86_400


@dataclass
class SharedDomain:
    """An email domain that several sources own."""

    domain: str
    sources: list[KeyAndLabel]


@dataclass(frozen=True)
class SourceChange:
    """Changes of a source; None keeps a value.

    Attributes:
        domains: all domains that it owns. Other sources link records to its users by email only within these.
        note: a note of operators; "" removes it.
    """

    label: str | None = None
    domains: Sequence[str] | None = None
    note: str | None = None


def add(
    ctx: AppContext,
    caller: Caller,
    key: str,
    label: str,
    connection_type: str = INBOUND_SCIM,
    template: str | None = None,
) -> SourceLine:
    """Add a source.

    Args:
        connection_type: "inbound_scim", "import" or "sign_in"; more types can be added later.
        template: the key of the template that presets its settings, or None.

    Raises:
        InvalidInput, AlreadyExists.
    """
    now, source_id = clock.now(), new_id()
    row = {
        "id": source_id,
        "key": check_key(key),
        "label": check_label(label),
        "connection_type": connection_type,
        "priority": 100,
        "created_at": now,
        "template": template,
    }
    try:
        with ctx.database.writing() as connection:
            source_rows.insert_source(connection, row)
            raise_revision(connection)
            record_change(
                connection,
                ctx.keys,
                caller,
                now,
                AuditEvent(
                    "added source",
                    "source",
                    source_id,
                    details={
                        "key": key,
                        "label": label,
                        "connection_type": connection_type,
                        **({"template": template} if template else {}),
                    },
                ),
            )
    except IntegrityError:
        raise AlreadyExists(
            f"A source with the key '{key}' exists already.", "Choose another key.", "key"
        ) from None
    return one(ctx, key)


def change(ctx: AppContext, caller: Caller, key: str, wanted: SourceChange) -> SourceLine:
    """Change a source's label, the email domains that it owns, or its note; the key stays.

    Raises:
        NotFound, InvalidInput.
    """
    given: dict[str, Any] = {}
    if wanted.label is not None:
        given["label"] = check_label(wanted.label)
    if wanted.domains is not None:
        given["domains"] = read_domains(wanted.domains)
    if wanted.note is not None:
        given["note"] = wanted.note.strip() or None
    if not given:
        raise InvalidInput("The request changes nothing.", "Set `label`, `domains` or `note`.")
    with ctx.database.writing() as connection:
        row = source_by_key(connection, key)
        before = {"label": row.label, "domains": list(row.domains or ()), "note": row.note}
        source_rows.update_source(connection, row.id, **given)
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
        if removal.has_reported(connection, row.id):
            raise StillInUse(
                f"'{row.label}' has reported users or groups.",
                "Revoke its tokens to block its requests. Its users stay unchanged.",
            )
        _check_patterns(connection, row)
        if source_settings.serves_operators(connection, row.id):
            raise StillInUse(f"Operators sign in through '{row.label}'.", "Set `serves` to users first.")
        urns = [each.urn for each in stored_schemas.of_source(connection, row.id)]
        removal.delete_source(connection, row.id)
        for urn in urns:
            source_schemas.check_rules(connection, urn)
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
    """Check that no assignment by pattern needs a source."""
    found = removal.pattern_use(connection, source.id)
    if found is not None:
        raise StillInUse(
            f"'{found.application}' maps groups of this source with the pattern {found.pattern}.",
            "Delete this assignment first.",
        )


@dataclass
class SourceLine:
    """A source as lists show it; `read_as` is the connector of its import.

    Attributes:
        certificate_ends_at: expiry of the provider's last certificate, if it is near.
        sign_in_needs: what needs attention about the sign-in, in a sentence.
        last_activity_at: time of the last request, import run or sign-in.
        shared_domains: domains that other sources own too.
        token_ends_at: expiry of a recently used token, if it is near.
        scim_status: the status of inbound SCIM.
        waiting_deactivations: the number of users whose deactivation or deletion waits.
    """

    key: str
    label: str
    note: str | None
    retired_at: Instant | None
    domains: list[str]
    connection_type: str
    sign_in_status: str | None
    signed_in_at: Instant | None
    certificate_ends_at: Instant | None
    sign_in_needs: str | None
    read_as: str | None
    enabled: bool | None
    run_status: str | None
    run_ended_at: Instant | None
    conflicts: int
    priority: int
    deactivation_wins: bool
    members_from: str
    updates: bool
    created_at: Instant
    users: int
    groups: int
    last_call_at: Instant | None
    last_activity_at: Instant | None
    shared_domains: list[SharedDomain]
    token_ends_at: Instant | None
    scim_status: str
    waiting_deactivations: int
    template: str | None


@dataclass(frozen=True)
class SignInNeeds:
    """What needs an operator at the sign-in of a source: a certificate that expires, a new one, an error."""

    certificate_ends_at: Instant | None = None
    message: str | None = None


def id_of(ctx: AppContext, key: str) -> str:
    """Return a source's id; raises as `source_by_key`."""
    with ctx.database.reading() as connection:
        return str(source_by_key(connection, key).id)


def sign_in_needs(status: str | None, provider: Any, waiting: Any, trouble: str | None) -> SignInNeeds:
    """Return what needs an operator at the sign-in of a source."""
    if status is None or status == "disabled":
        return SignInNeeds()
    told = "The provider has a new certificate, which is not accepted yet." if waiting else trouble
    return SignInNeeds(ending((provider or {}).get("ends_at"), clock.now()), told)


def token_expiry(now: Instant) -> TokenExpiry:
    """Return which tokens are shown as expiring."""
    return TokenExpiry(later(now, -USED_LATELY_SECONDS), told_from(now))


def _activity() -> ListedActivity:
    return ListedActivity(CALL, SCIM_USER, token_expiry(clock.now()))


def _lines(connection: Connection, rows: Sequence[ListedSource]) -> list[SourceLine]:
    """Return sources as the API shows them, with the domains that each shares with others: there no email
    address names one source.
    """
    owned = record_matching.domains(connection)
    named = source_rows.keys_and_labels(connection, list(owned))

    def shared(source_id: str) -> list[SharedDomain]:
        others = {
            domain: [
                named[other] for other, theirs in owned.items() if other != source_id and domain in theirs
            ]
            for domain in sorted(owned.get(source_id, ()))
        }
        return [SharedDomain(domain=domain, sources=sharing) for domain, sharing in others.items() if sharing]

    return [_line(row, shared(row.id)) for row in rows]


def _line(row: ListedSource, shared: list[SharedDomain]) -> SourceLine:
    needs = sign_in_needs(row.sign_in_status, row.provider, row.waiting, row.trouble)
    return SourceLine(
        key=row.key,
        label=row.label,
        note=row.note,
        retired_at=row.retired_at,
        domains=list(row.domains or ()),
        connection_type="import" if row.read_as else "sign_in" if row.sign_in_status else row.connection_type,
        sign_in_status=row.sign_in_status,
        signed_in_at=row.signed_in_at,
        certificate_ends_at=needs.certificate_ends_at,
        sign_in_needs=needs.message,
        read_as=row.read_as,
        enabled=row.enabled,
        run_status=row.run_status,
        run_ended_at=row.run_ended_at,
        conflicts=row.conflicts,
        priority=row.priority,
        deactivation_wins=row.deactivation_wins,
        members_from=row.members_from,
        updates=row.updates,
        created_at=row.created_at,
        users=row.users,
        groups=row.groups,
        last_call_at=row.last_call,
        last_activity_at=max(
            (at for at in (row.last_call, row.run_ended_at, row.signed_in_at) if at is not None), default=None
        ),
        token_ends_at=row.token_ends_at,
        scim_status=row.scim_status,
        waiting_deactivations=row.waiting_deactivations,
        template=row.template,
        shared_domains=shared,
    )


def list_sources(ctx: AppContext, page_request: PageRequest) -> Page[SourceLine]:
    """Return a page of sources by label."""
    with ctx.database.reading() as connection:
        found = listing.list_sources(connection, page_request, _activity())
        return Page(_lines(connection, found.items), found.total, found.next)


def one(ctx: AppContext, key: str) -> SourceLine:
    """Return one source.

    Raises:
        NotFound.
    """
    with ctx.database.reading() as connection:
        source = source_by_key(connection, key)
        return _lines(connection, [listing.one(connection, source.id, _activity())])[0]

"""Links ahead of the first record: an operator says which user a provider's subject, or the ID of an import,
belongs to, before the source reports it.
"""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import Connection

from dravo.core.errors import AlreadyExists, InvalidInput, NotFound
from dravo.core.identity.records import IMPORT, SIGN_IN
from dravo.core.instants import Instant
from dravo.services.context import AppContext
from dravo.services.lookups import find_user, pushing_source
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.services.sources import policy as source_policies
from dravo.store import clock, records
from dravo.store.ids import new_id
from dravo.store.imports import conflicts as stored
from dravo.store.imports import records as imported_records
from dravo.store.imports.conflicts import StoredConflict
from dravo.store.pagination import Page, PageRequest
from dravo.store.queries import users as user_queries
from dravo.store.queries.references import UserRef, user_ref
from dravo.store.sources.sources import Source

LONGEST_SUBJECT = 1_000


@dataclass
class LinkAhead:
    """A link that waits for the first record.

    Attributes:
        subject: the provider's subject, or the ID in the source of an import.
        user: the user it will be linked to, or None if the user was erased.
    """

    id: str
    connection_type: str
    subject: str
    user: UserRef | None
    created_at: Instant
    created_by: str | None


@dataclass(frozen=True)
class LinkWish:
    """A wanted link: the connection type "sign_in" or "import", the subject, and the user."""

    connection_type: str
    subject: str
    user: str


def add(ctx: AppContext, caller: Caller, key: str, wish: LinkWish) -> LinkAhead:
    """Link the first record with a subject to a user.

    Raises:
        NotFound; InvalidInput: if the source has a record of the user already; AlreadyExists: if it has a
            record or a link of the subject.
    """
    now, link_id, subject = clock.now(), new_id(), wish.subject.strip()
    if not subject or len(subject) > LONGEST_SUBJECT or any(ord(sign) < 32 for sign in subject):
        raise InvalidInput(
            f"A subject must have 1 to {LONGEST_SUBJECT:,} characters.",
            "Copy it from a trace, or from the provider.",
            "subject",
        )
    with ctx.database.writing() as connection:
        source, native_id = _native_id(connection, key, wish.connection_type, subject)
        found = find_user(connection, wish.user)
        _check_free(connection, source, wish.connection_type, native_id, subject)
        if records.has_record(connection, source.id, wish.connection_type, found.id):
            raise InvalidInput(
                f"'{source.label}' already has a record of {found.display_name}.",
                "Choose another user. Two records of one source cannot belong to one user.",
                "user",
            )
        row = {
            "id": link_id,
            "source_id": source.id,
            "connection_type": wish.connection_type,
            "subject": "user",
            "native_id": native_id,
            "kind": stored.AHEAD,
            "name": subject,
            "message": "Linked by an operator ahead of the first record.",
            "entry": {},
            "candidates": [found.id],
            "status": stored.DECIDED,
            "decision": "link",
            "user_id": found.id,
            "decided_by": caller.name,
            "first_seen_at": now,
            "last_seen_at": now,
            "decided_at": now,
        }
        stored.insert_conflict(connection, row)
        event = AuditEvent(
            "linked a subject ahead",
            "user",
            found.id,
            details={"source": key, "connection_type": wish.connection_type},
            personal={"subject": subject, "user_name": found.user_name},
        )
        record_change(connection, ctx.keys, caller, now, event)
        return _shown(connection, [stored.by_id(connection, link_id)])[0]


def _native_id(connection: Connection, key: str, connection_type: str, subject: str) -> tuple[Source, str]:
    """Return the source, and the ID by which it identifies a record with a subject."""
    if connection_type == IMPORT:
        source, _ = source_policies.import_of(connection, key)
        return source, subject
    if connection_type != SIGN_IN:
        raise InvalidInput(
            f"Records of '{connection_type}' cannot be linked ahead.",
            "Use sign_in or import. Records of inbound SCIM get their ID when they arrive.",
            "connection_type",
        )
    source, row = source_policies.sign_in_of(connection, key)
    provider = row.provider or {}
    issuer = provider.get("entity_id") or provider.get("issuer")
    if not issuer:
        raise InvalidInput(
            f"The provider of '{source.label}' is not known yet.",
            "Enter the metadata or the issuer on the Sign-in tab first.",
            "connection_type",
        )
    return source, f"{issuer}\n{subject}"


def _check_free(
    connection: Connection, source: Source, connection_type: str, native_id: str, subject: str
) -> None:
    known = imported_records.known_users(connection, source.id, [native_id], connection_type)
    if known and not known[native_id].gone:
        raise AlreadyExists(
            f"'{source.label}' has a record of '{subject}' already.",
            "Link this record to another user on the page of its user.",
            "subject",
        )
    if native_id in stored.with_conflicts(connection, source.id, "user"):
        raise AlreadyExists(
            f"'{subject}' has a link or an open conflict already.",
            "Remove the link first, or decide the conflict.",
            "subject",
        )


def list_links(ctx: AppContext, key: str, page_request: PageRequest) -> Page[LinkAhead]:
    """Return a page of the links of a source that wait for their first record, oldest first.

    Raises:
        NotFound.
    """
    with ctx.database.reading() as connection:
        source = pushing_source(connection, key)
        found = stored.list_ahead(connection, source.id, page_request)
        return Page(_shown(connection, found.items), found.total, found.next)


def remove(ctx: AppContext, caller: Caller, key: str, link_id: str) -> None:
    """Remove a link that waits.

    Raises:
        NotFound: if there is none, for example because the record has arrived.
    """
    with ctx.database.writing() as connection:
        source = pushing_source(connection, key)
        row = stored.get(connection, source.id, link_id)
        if row is None or row.kind != stored.AHEAD:
            raise NotFound(
                f"'{source.label}' has no such link any more.",
                "Its record may have arrived. Reload the list.",
            )
        stored.update_conflict(connection, link_id, status=stored.OVER)
        event = AuditEvent(
            "removed a link ahead",
            "user",
            row.user_id or "",
            details={"source": key},
            personal={"subject": row.name},
        )
        record_change(connection, ctx.keys, caller, clock.now(), event)


def _shown(connection: Connection, rows: list[StoredConflict]) -> list[LinkAhead]:
    users = user_queries.by_ids(connection, [row.user_id for row in rows if row.user_id])
    return [
        LinkAhead(
            row.id,
            row.connection_type,
            row.name,
            user_ref(users[row.user_id]) if row.user_id in users else None,
            row.first_seen_at,
            row.decided_by,
        )
        for row in rows
    ]

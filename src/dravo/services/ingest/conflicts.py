"""Conflicts: users and groups of sources that no rule can decide. An operator decides them, and the decision
is applied at once.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection

from dravo.core.errors import DravoError, InvalidInput, NotFound
from dravo.core.identity.matching import (
    GROUP_NAME,
    LEAVER,
    LOOKS_ALIKE,
    OPERATOR,
    RENAMED,
    TWO_RECORDS,
)
from dravo.core.identity.records import INBOUND_SCIM, SIGN_IN
from dravo.protocols.directory.reader import Entry
from dravo.services import jobs
from dravo.services.context import AppContext
from dravo.services.ingest import record_links, run_log
from dravo.services.ingest.bulk_users import LEAVE_OUT, LET, LINK, MAKE, BulkUsers
from dravo.services.lookups import find_user, pushing_source
from dravo.services.security import masking
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import ATTRIBUTES, Caller
from dravo.services.sources import policy as source_policies
from dravo.store import clock, recompute_marks, records
from dravo.store.imports import conflicts as stored_conflicts
from dravo.store.imports.conflicts import StoredConflict
from dravo.store.pagination import Page, PageRequest
from dravo.store.queries import users as user_queries
from dravo.store.queries.references import UserRef, user_ref
from dravo.store.queries.users import User
from dravo.store.sources import settings as source_settings
from dravo.store.sources.sources import Source

CHOICES: dict[str, tuple[str, ...]] = {
    RENAMED: (LET, LEAVE_OUT),
    GROUP_NAME: (LET, LEAVE_OUT),
    # Two records of one source are never linked to one user: they would contradict each other.
    TWO_RECORDS: (MAKE, LEAVE_OUT),
    # No record is linked to an operator: otherwise a source could make its user an operator.
    OPERATOR: (MAKE, LEAVE_OUT),
}
USUAL = (LINK, MAKE, LEAVE_OUT)


@dataclass(frozen=True)
class PossibleUser(UserRef):
    """A possible user of a record."""

    status: str


@dataclass
class SourceConflict:
    """A conflict with the possible decisions."""

    id: str
    subject: str
    kind: str
    name: str
    message: str
    native_id: str
    says: dict[str, Any]
    candidates: list[PossibleUser]
    choices: list[str]
    status: str
    decision: str | None
    decided_by: str | None
    decided_at: str | None
    first_seen_at: str
    last_seen_at: str


def list_conflicts(
    ctx: AppContext, caller: Caller, key: str, page_request: PageRequest, status: str = stored_conflicts.OPEN
) -> Page[SourceConflict]:
    """Return a page of a source's conflicts, oldest first, each with its choices and candidates."""
    with ctx.database.reading() as connection:
        source = pushing_source(connection, key)
        found = stored_conflicts.list_conflicts(connection, source.id, page_request, status)
        ids = [user_id for row in found.items for user_id in row.candidates]
        users = user_queries.by_ids(connection, ids)
    plain = ATTRIBUTES in caller.permissions
    return Page([_line(row, users, plain) for row in found.items], found.total, found.next)


def _line(row: StoredConflict, users: dict[str, User], plain: bool) -> SourceConflict:
    said = (row.entry or {}).get("user") or {}
    candidates = [
        PossibleUser(**vars(user_ref(users[each])), status=user_queries.user_status(users[each]))
        for each in row.candidates
        if each in users
    ]
    return SourceConflict(
        id=row.id,
        subject=row.subject,
        kind=row.kind,
        name=row.name,
        message=masking.text(row.message) or "",
        native_id=row.native_id if plain else masking.HIDDEN,
        says={
            name: value
            for name, value in said.items()
            if plain or (name in ("userName", "displayName", "name") and not masking.is_masked(name))
        },
        candidates=candidates,
        choices=list(CHOICES.get(row.kind, USUAL)),
        status=row.status,
        decision=row.decision,
        decided_by=row.decided_by,
        decided_at=row.decided_at,
        first_seen_at=row.first_seen_at,
        last_seen_at=row.last_seen_at,
    )


def decide(
    ctx: AppContext, caller: Caller, key: str, conflict_id: str, decision: str, user: str | None = None
) -> SourceConflict:
    """Decide a conflict; the decision is applied at once, and holds for later runs.

    Args:
        decision: "link" (to `user`), "create" (a new user), "accept" (the change), "ignore".
        user: the user to link to, by ID, user name, email or external ID.

    Raises:
        NotFound, InvalidInput.
    """
    now = clock.now()
    with ctx.database.writing() as connection:
        source, row = _one(connection, key, conflict_id)
        choices = CHOICES.get(row.kind, USUAL)
        if decision not in choices:
            raise InvalidInput(
                f"'{decision}' is not possible for this conflict.",
                f"Use one of: {', '.join(choices)}.",
                "decision",
            )
        user_id = _user_to_link(connection, source, row, decision, user)
        values = {
            "status": stored_conflicts.DECIDED,
            "decision": decision,
            "user_id": user_id,
            "decided_by": caller.name,
            "decided_at": now,
        }
        stored_conflicts.update_conflict(connection, conflict_id, **values)
        if row.subject == "group":
            # Its members were not stored: the next import reads all users.
            source_settings.update_import(connection, source.id, full_at=None)
        details = {"source": key, "name": row.name, "kind": row.kind, "decision": decision, "user": user_id}
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent("resolved a conflict", "source", source.id, details=details),
        )
    if row.subject == "user" and decision != LEAVE_OUT:
        if row.connection_type == INBOUND_SCIM:
            _carry_out_sent(ctx, caller, row, decision, user_id)
        else:
            _carry_out(ctx, caller, key, row)
    with ctx.database.reading() as connection:
        after = stored_conflicts.by_id(connection, conflict_id)
    return _line(after, {}, ATTRIBUTES in caller.permissions)


@dataclass(frozen=True)
class FailedDecision:
    """A conflict that could not be decided, with the reason."""

    id: str
    name: str
    message: str


@dataclass(frozen=True)
class ConflictDecisions:
    """The result of deciding several conflicts."""

    decided: int
    failed: list[FailedDecision]


def decide_many(
    ctx: AppContext, caller: Caller, key: str, conflict_ids: Sequence[str], decision: str
) -> ConflictDecisions:
    """Decide several conflicts in the same way; one that cannot be decided so does not stop the others.

    Args:
        decision: as in `decide`; "link" links each record to its only possible user. Look-alikes and leavers
            are not linked together with others.

    Raises:
        NotFound: if there is no such source.
    """
    decided, failed = 0, []
    wanted = list(dict.fromkeys(conflict_ids))
    for done, conflict_id in enumerate(wanted):
        jobs.report_progress(done, len(wanted))
        with ctx.database.reading() as connection:
            source = pushing_source(connection, key)
            row = stored_conflicts.get(connection, source.id, conflict_id)
        name = row.name if row is not None else conflict_id
        try:
            user = _only_candidate(row) if decision == LINK and row is not None else None
            decide(ctx, caller, key, conflict_id, decision, user)
            decided += 1
        except DravoError as wrong:
            failed.append(FailedDecision(conflict_id, name, f"{wrong.message} {wrong.hint}".strip()))
    return ConflictDecisions(decided, failed)


def _only_candidate(row: StoredConflict) -> str:
    if row.kind in (LOOKS_ALIKE, LEAVER):
        # Such a record is more likely another user, even an attack: an operator looks at each.
        raise InvalidInput(
            f"'{row.name}' only looks like the user, or the user has left.",
            "Decide this conflict separately.",
        )
    if len(row.candidates) != 1:
        raise InvalidInput(
            f"'{row.name}' could belong to {len(row.candidates)} users.", "Decide this conflict separately."
        )
    return row.candidates[0]


def _one(connection: Connection, key: str, conflict_id: str) -> tuple[Source, StoredConflict]:
    source = pushing_source(connection, key)
    row = stored_conflicts.get(connection, source.id, conflict_id)
    if row is None:
        raise NotFound(
            f"'{source.label}' does not have this conflict any more.", "Reload the list of conflicts."
        )
    return source, row


def _user_to_link(
    connection: Connection, source: Source, row: StoredConflict, decision: str, user: str | None
) -> str | None:
    """Return the user to which a record is to be linked.

    Raises:
        InvalidInput: without a user, or if the source has a record of this user already.
    """
    if decision != LINK:
        return None
    if not user:
        raise InvalidInput(
            "The user to link is missing.", "Set `user` to an ID, user name or email address.", "user"
        )
    found = find_user(connection, user)
    if records.has_record(connection, source.id, row.connection_type, found.id):
        raise InvalidInput(
            f"'{source.label}' already has a record of {found.display_name}.",
            "Choose another user. Two records of one source cannot belong to one user.",
            "user",
        )
    return str(found.id)


def _carry_out_sent(
    ctx: AppContext, caller: Caller, row: StoredConflict, decision: str, user_id: str | None
) -> None:
    """Link a SCIM record to the chosen user, or let it be a new user.

    The record itself exists already.
    """
    now = clock.now()
    with ctx.database.reading() as connection:
        record = records.by_id(connection, row.native_id)
    if record is None:
        return
    if decision == LINK and user_id is not None and user_id != record.user_id:
        # The decision is the confirmation.
        record_links.link(ctx, caller, record.id, user_id)
    with ctx.database.writing() as connection:
        records.decided(connection, record.id)
        recompute_marks.mark_users(connection, [user_id or record.user_id], now)
        if decision == LINK and user_id != record.user_id:
            # The undecided user never had access. If it stayed, it would count as a leaver with the same
            # name.
            records.forget_user(connection, record.user_id)


def _carry_out(ctx: AppContext, caller: Caller, key: str, row: StoredConflict) -> None:
    """Ingest the entry of a decided conflict, as the source reported it last."""
    entry = Entry(row.native_id, row.entry["reference"], row.entry["attributes"])
    if row.connection_type == SIGN_IN:
        # Their groups follow at their next sign-in.
        with ctx.database.reading() as connection:
            source, signs_in = source_policies.sign_in_of(connection, key)
        arrived = BulkUsers(
            ctx, source, source_policies.sign_in_policy(signs_in), None, connection_type=SIGN_IN
        )
        arrived.take([entry])
        arrived.finish()
        return
    with ctx.database.reading() as connection:
        source, pull = source_policies.import_of(connection, key)
    policy = source_policies.import_policy(source, pull.kind)
    with run_log.small_run(ctx, source.id, caller.name) as run_id:
        users = BulkUsers(ctx, source, policy, run_id)
        users.take([entry])
        users.finish()
        run_log.note_counts(ctx, run_id, {"read": 1, **users.counts})

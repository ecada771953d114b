"""Erases users: what Dravo stores about them is deleted, and sources do not bring them back."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection

from dravo.core.errors import InvalidInput, NotFound, StillInUse
from dravo.core.identity.names import fold
from dravo.core.identity.records import LOCAL, searchable
from dravo.services.changes.effects import ChangeEffects, count
from dravo.services.changes.removal_limits import NeedsConfirmation
from dravo.services.context import AppContext
from dravo.services.lookups import find_user
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.services.security.secrets import Keys
from dravo.store import clock, recompute_marks
from dravo.store.ids import new_id
from dravo.store.pagination import Page, PageRequest
from dravo.store.queries.users import User
from dravo.store.snapshots.config import raise_revision
from dravo.store.users import erasure as stored
from dravo.store.users.erasure import ErasedRecord, Erasure

NAME, NATIVE = "name", "native"


@dataclass(frozen=True)
class ErasedUser:
    """The result of an erasure: its ID, and how many rows of each kind were erased."""

    id: str
    erased: dict[str, int]


def preview(ctx: AppContext, user: str) -> ChangeEffects:
    """Return what erasing a user deletes; nothing is changed.

    Raises:
        NotFound, InvalidInput, StillInUse: as `erase`.
    """
    effects = ChangeEffects()
    with ctx.database.reading() as connection:
        found = _erasable(connection, user)
        records = stored.records_of(connection, found.id)
        left = stored.what_is_left(connection, found.id)
    effects.add(
        f"{count(len(records), 'source record is', 'source records are')} deleted, with group memberships, "
        "traces and values in the audit log."
    )
    if left.accounts:
        effects.add(
            f"Dravo forgets {count(left.accounts, 'account', 'accounts')} in applications. What the "
            "applications store stays there."
        )
    effects.add("Access history and reviews stay, without the name of the user.")
    effects.add("Sources cannot bring the user back until an operator accepts the user again.")
    return effects


def erase(ctx: AppContext, caller: Caller, user: str, confirm: str | None) -> ErasedUser:
    """Erase a user who has left.

    Raises:
        NotFound; InvalidInput: if the user has not left; StillInUse: while provisioning is pending;
            NeedsConfirmation: without the name of the user.
    """
    now, erasure_id = clock.now(), new_id()
    with ctx.database.writing() as connection:
        found = _erasable(connection, user)
        if confirm != found.display_name:
            raise NeedsConfirmation(
                "An erased user cannot be restored.",
                f"Type the name of the user, '{found.display_name}', to confirm.",
                "confirm",
            )
        records = stored.records_of(connection, found.id)
        erased = stored.erase(connection, found, records, now)
        values = {"id": erasure_id, "user_id": found.id, "erased_at": now, "erased_by": caller.name}
        stored.insert_erasure(connection, values, _digests(ctx.keys, records))
        raise_revision(connection)
        event = AuditEvent("erased user", "user", found.id, details={"erasure": erasure_id, **erased})
        record_change(connection, ctx.keys, caller, now, event)
    return ErasedUser(erasure_id, erased)


def _erasable(connection: Connection, user: str) -> User:
    found = find_user(connection, user)
    if found.left_at is None:
        raise InvalidInput(
            f"{found.display_name} has not left.", "Mark the user as left first, then erase the user.", "user"
        )
    left = stored.what_is_left(connection, found.id)
    if left.open_tasks or recompute_marks.is_marked(connection, found.id):
        raise StillInUse(
            f"Provisioning of {found.display_name} is still pending.",
            "Wait until the user's tasks are done, or resolve them.",
        )
    return found


def accept(ctx: AppContext, caller: Caller, erasure_id: str) -> Erasure:
    """Accept the records of an erased user again: a source that reports the user creates a new one.

    Raises:
        NotFound; InvalidInput: if they are accepted already.
    """
    now = clock.now()
    with ctx.database.writing() as connection:
        found = _get(connection, erasure_id)
        if found.accepted_at is not None:
            raise InvalidInput("This user is accepted again already.", "Nothing has to be done.")
        stored.accept(connection, erasure_id, caller.name, now)
        raise_revision(connection)
        event = AuditEvent("accepted erased user", "user", found.user_id, details={"erasure": erasure_id})
        record_change(connection, ctx.keys, caller, now, event)
        return _get(connection, erasure_id)


def _get(connection: Connection, erasure_id: str) -> Erasure:
    found = stored.get(connection, erasure_id)
    if found is None:
        raise NotFound(
            f"There is no erasure with the ID '{erasure_id}'.", "Choose an ID from the list of erased users."
        )
    return found


def list_erasures(ctx: AppContext, page_request: PageRequest) -> Page[Erasure]:
    """Return a page of erasures, newest first."""
    with ctx.database.reading() as connection:
        return stored.list_erasures(connection, page_request)


# Digests


def _digest(keys: Keys, kind: str, value: str) -> str:
    return keys.seal(f"erased {kind} {value}".encode("utf-8", "surrogateescape"))


def _digests(keys: Keys, records: list[ErasedRecord]) -> list[tuple[str, str]]:
    """Return (source ID, digest) of the identifiers of some records."""
    found: list[tuple[str, str]] = []
    for record in records:
        if record.connection_type == LOCAL:
            continue
        found.append((record.source_id, _digest(keys, NAME, record.user_name_key)))
        native = [each for each in (record.native_id, record.external_id) if each]
        found += [(record.source_id, _digest(keys, NATIVE, fold(each))) for each in native]
    return found


def digests_of(keys: Keys, data: Mapping[str, Any], native_id: str | None = None) -> set[str]:
    """Return the digests by which a record of an erased user would be recognized."""
    found = searchable(data)
    native = [each for each in (native_id, found.external_id) if each]
    return {
        _digest(keys, NAME, found.user_name_key),
        *(_digest(keys, NATIVE, fold(each)) for each in native),
    }


def is_erased(
    connection: Connection, keys: Keys, source_id: str, data: Mapping[str, Any], native_id: str | None = None
) -> bool:
    """Whether a new record of a source belongs to an erased user."""
    return bool(stored.which_are_erased(connection, source_id, digests_of(keys, data, native_id)))

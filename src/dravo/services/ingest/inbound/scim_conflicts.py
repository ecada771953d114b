"""Conflicts of inbound SCIM: the possible users of a record, and the note for operators."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlalchemy import Connection

from dravo.core.identity.matching import EMAIL_KNOWN, LOOKS_ALIKE, NAME_KNOWN
from dravo.core.identity.names import fold, lookalike_key
from dravo.core.identity.records import INBOUND_SCIM, searchable
from dravo.core.instants import Instant
from dravo.store.imports import conflicts as stored_conflicts
from dravo.store.imports import matching as record_matching
from dravo.store.queries import users as user_queries


def matched_values(data: Mapping[str, Any]) -> tuple[str, str | None, str | None]:
    """Return the values by which a SCIM User could be another user: user name, email, and a name that looks
    the same.
    """
    found = searchable(data)
    return found.user_name_key, fold(found.email) if found.email else None, lookalike_key(found.user_name)


def differ(data: Mapping[str, Any], before: Mapping[str, Any]) -> bool:
    """Whether a SCIM User could belong to other users than before."""
    return matched_values(data) != matched_values(before)


def others(
    connection: Connection, source_id: str, data: Mapping[str, Any], but: str | None = None
) -> frozenset[str]:
    """Return the IDs of the possible users of a record: same or similar user name, or same email.

    Args:
        but: the ID of the record's own user, which does not count.
    """
    return record_matching.elsewhere(connection, source_id, *matched_values(data), but=but)


def note(
    connection: Connection,
    source_id: str,
    record_id: str,
    data: Mapping[str, Any],
    candidates: frozenset[str],
    now: Instant,
) -> None:
    """Record that an operator has to decide which user a record belongs to."""
    found = searchable(data)
    kind, what = _what_conflicts(connection, data, candidates)
    conflict = {
        "native_id": record_id,
        "kind": kind,
        "name": found.display_name,
        "message": f"{what} This user has no access until an operator decides.",
        "entry": {"reference": found.user_name, "attributes": {}, "user": data},
        "candidates": sorted(candidates),
    }
    # An earlier decision was about another user name or email.
    stored_conflicts.end_conflicts(connection, source_id, "user", [record_id], decided_only=True)
    stored_conflicts.note_conflicts(connection, source_id, "user", [conflict], now, INBOUND_SCIM)


def _what_conflicts(
    connection: Connection, data: Mapping[str, Any], candidates: frozenset[str]
) -> tuple[str, str]:
    """Return the kind of a conflict with some users, and a sentence on it."""
    found, (_, _, alike) = searchable(data), matched_values(data)
    names = user_queries.user_name_keys(connection, candidates)
    if found.user_name_key in names:
        return NAME_KNOWN, f"Another user already has the user name '{found.user_name}'."
    if alike in names:
        return LOOKS_ALIKE, f"The user name '{found.user_name}' looks like that of another user."
    return EMAIL_KNOWN, f"Another user already has the email address '{found.email}'."

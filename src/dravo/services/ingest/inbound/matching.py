"""The match rule of inbound SCIM: which existing user a new record is linked to."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection

from dravo.core.identity.matching import Binding, Conflict, match
from dravo.core.identity.names import fold, lookalike_key
from dravo.core.identity.records import INBOUND_SCIM, searchable
from dravo.core.identity.source_policy import ASK, SourcePolicy
from dravo.store.ids import new_id
from dravo.store.imports import matching as record_matching
from dravo.store.sources import sources as source_rows


def match_record(
    connection: Connection, source_id: str, data: Mapping[str, Any], others: frozenset[str], new_user_id: str
) -> Binding | Conflict:
    """Return the user of a new record.

    Args:
        connection: a reading connection.
        source_id: the source.
        data: the SCIM User of the record.
        others: the IDs of users to whom it could belong.
        new_user_id: the ID for a new user.
    """
    source = source_rows.by_id(connection, source_id)
    rule = (source.scim_policy or {}).get("match", ASK)
    policy = SourcePolicy(match=rule, domains=tuple(owned_domains(connection, source_id)))
    return match_with(connection, Matcher(source_id, INBOUND_SCIM, policy), data, others, new_user_id)


@dataclass(frozen=True)
class Matcher:
    """Which source matches, by which connection type and policy."""

    source_id: str
    connection_type: str
    policy: SourcePolicy


def owned_domains(connection: Connection, source_id: str) -> list[str]:
    """Return the email domains that a source owns."""
    return sorted(record_matching.domains(connection).get(source_id, frozenset()))


def match_with(
    connection: Connection,
    matcher: Matcher,
    data: Mapping[str, Any],
    others: frozenset[str] | None = None,
    new_user_id: str | None = None,
) -> Binding | Conflict:
    """Return the user of a new record by a policy.

    Args:
        others: the IDs of users to whom it could belong; None for all.
        new_user_id: the ID for a new user.
    """
    found = searchable(data)
    names = [found.user_name_key, *([alike] if (alike := lookalike_key(found.user_name)) else [])]
    emails = [fold(found.email)] if found.email else []
    by_value = record_matching.candidates(
        connection, matcher.source_id, names, emails, matcher.connection_type
    )
    candidates = {
        each.user_id: each
        for some in by_value.values()
        for each in some
        # Leavers and other records of this connection are never matched.
        if not each.gone and not each.here and (others is None or each.user_id in others)
    }
    return match(data, list(candidates.values()), matcher.policy, new_user_id or new_id())

"""The match rule of inbound SCIM: which existing user a new record is linked to."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection

from dravo.core.errors import InvalidInput
from dravo.core.identity.matching import Binding, Conflict, match
from dravo.core.identity.names import fold, lookalike_key
from dravo.core.identity.records import INBOUND_SCIM, searchable
from dravo.core.identity.source_policy import ASK, MATCHES, SourcePolicy
from dravo.services import jobs
from dravo.services.changes.effects import ChangeEffects, count
from dravo.services.context import AppContext
from dravo.services.lookups import pushing_source
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock
from dravo.store.ids import new_id
from dravo.store.imports import conflicts as stored_conflicts
from dravo.store.imports import matching as record_matching
from dravo.store.sources import sources as source_rows
from dravo.store.sources.sources import Source


@dataclass(frozen=True)
class ScimMatching:
    """The match rule of a source's inbound SCIM.

    Attributes:
        match: "ask", "user_name" or "email".
        domains: the email domains that the source owns; it links only within them.
    """

    match: str
    domains: list[str]


def shown(ctx: AppContext, key: str) -> ScimMatching:
    """Return the match rule of a source's inbound SCIM.

    Raises:
        NotFound.
    """
    with ctx.database.reading() as connection:
        source = pushing_source(connection, key)
        return ScimMatching(source.scim_match, _domains(connection, source))


def change(ctx: AppContext, caller: Caller, key: str, rule: str) -> ScimMatching:
    """Change the match rule; it applies to new records.

    Raises:
        NotFound; InvalidInput: for an unknown rule, or a rule of a source without a domain.
    """
    with ctx.database.writing() as connection:
        source = pushing_source(connection, key)
        _check(connection, source, rule)
        source_rows.update_source(connection, source.id, scim_match=rule)
        details = {"key": key, "before": source.scim_match, "after": rule}
        event = AuditEvent("changed matching", "source", source.id, details=details)
        record_change(connection, ctx.keys, caller, clock.now(), event)
    return shown(ctx, key)


def preview(ctx: AppContext, key: str, rule: str) -> ChangeEffects:
    """Return the effects of another rule, with its result for the records in conflict; nothing is changed.

    Raises:
        As `change`.
    """
    effects = ChangeEffects()
    with ctx.database.reading() as connection:
        source = pushing_source(connection, key)
        _check(connection, source, rule)
        waiting = stored_conflicts.open_users(connection, source.id, INBOUND_SCIM)
        policy = _policy(connection, source, rule)
        linked = 0
        for done, data in enumerate(waiting):
            jobs.report_progress(done, len(waiting))
            found = _match_with(connection, source.id, policy, data, None)
            linked += isinstance(found, Binding) and not found.new
    if rule == ASK:
        effects.add("Each new record that could belong to an existing user becomes a conflict.")
    else:
        by = "user name" if rule != "email" else "email"
        effects.add(
            f"A new record is linked to the user with the same {by}, within {', '.join(policy.domains)}. "
            "Every other possible match becomes a conflict."
        )
    if waiting:
        effects.add(
            f"Of {count(len(waiting), 'open conflict', 'open conflicts')}, {linked:,} would be linked. "
            "Open conflicts stay until you decide them."
        )
    return effects


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
    policy = _policy(connection, source, source.scim_match)
    return _match_with(connection, source_id, policy, data, others, new_user_id)


def _match_with(
    connection: Connection,
    source_id: str,
    policy: SourcePolicy,
    data: Mapping[str, Any],
    others: frozenset[str] | None,
    new_user_id: str | None = None,
) -> Binding | Conflict:
    found = searchable(data)
    names = [found.user_name_key, *([alike] if (alike := lookalike_key(found.user_name)) else [])]
    emails = [fold(found.email)] if found.email else []
    by_value = record_matching.candidates(connection, source_id, names, emails, INBOUND_SCIM)
    candidates = {
        each.user_id: each
        for some in by_value.values()
        for each in some
        # Leavers and other records of this connection are never matched.
        if not each.gone and not each.here and (others is None or each.user_id in others)
    }
    return match(data, list(candidates.values()), policy, new_user_id or new_id())


def _policy(connection: Connection, source: Source, rule: str) -> SourcePolicy:
    return SourcePolicy(match=rule, domains=tuple(_domains(connection, source)))


def _domains(connection: Connection, source: Source) -> list[str]:
    return sorted(record_matching.domains(connection).get(source.id, frozenset()))


def _check(connection: Connection, source: Source, rule: str) -> None:
    if rule not in MATCHES:
        raise InvalidInput(
            f"'{rule}' is not a valid match rule.", f"Use one of: {', '.join(MATCHES)}.", "match"
        )
    if rule != ASK and not _domains(connection, source):
        raise InvalidInput(
            f"'{source.label}' owns no email domain, so it cannot match by {rule.replace('_', ' ')}.",
            "Add the email domains of the source first, or set `match` to ask.",
            "match",
        )

"""Notification rules: listed, created, changed and deleted."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import asdict, dataclass
from typing import Any

from sqlalchemy import Connection

from dravo.core.errors import InvalidInput, NotFound, did_you_mean
from dravo.core.instants import Instant
from dravo.core.notifications.event_kinds import BY_KEY, EVENT_KINDS
from dravo.core.notifications.rules import (
    ADDRESS,
    FREQUENCIES,
    OPERATORS,
    OWNERS,
    RECIPIENT_KINDS,
    WEBHOOK,
    Recipient,
)
from dravo.protocols.smtp import check_address
from dravo.services.context import AppContext
from dravo.services.lookups import application_by_key, check_label, source_by_key
from dravo.services.notifications.subject_names import SubjectNames
from dravo.services.security.audit_log import AuditEvent, record_now
from dravo.services.security.permissions import KINDS, Caller
from dravo.store import clock
from dravo.store.ids import new_id
from dravo.store.notifications import rules as stored
from dravo.store.notifications import webhooks
from dravo.store.notifications.rules import StoredRule
from dravo.store.pagination import Page, PageRequest
from dravo.store.queries.references import KeyAndLabel

MOST_RECIPIENTS = 50


@dataclass
class EventKindLine:
    """A kind of event, and what it is about."""

    key: str
    label: str
    about: str
    lasts: bool


@dataclass
class RuleLine:
    """A notification rule.

    Attributes:
        kinds: the kinds of events; None for all.
        applications, sources: keys; None for all.
        recipients: each with its kind, its value, and a label to show.
    """

    id: str
    label: str
    kinds: list[str] | None
    applications: list[str] | None
    sources: list[str] | None
    recipients: list[ShownRecipient]
    frequency: str
    enabled: bool
    created_at: Instant


@dataclass
class ShownRecipient:
    """A recipient of a rule, with a label."""

    kind: str
    value: str
    label: str


def kinds() -> list[EventKindLine]:
    """Return the kinds of events."""
    return [EventKindLine(each.key, each.label, each.about, each.lasts) for each in EVENT_KINDS]


def list_rules(ctx: AppContext, page_request: PageRequest) -> Page[RuleLine]:
    """Return a page of rules in the order of their creation."""
    with ctx.database.reading() as connection:
        found = stored.list_rules(connection, page_request)
        names, hooks = SubjectNames(connection), webhooks.labels(connection)
    lines = [_line(each, names, hooks) for each in found.items]
    return Page(lines, found.total, found.next)


def create(ctx: AppContext, caller: Caller, given: Mapping[str, Any]) -> RuleLine:
    """Create a rule.

    Args:
        given: "label", "kinds", "applications" and "sources" (None for all), "recipients", "frequency",
            "enabled".

    Raises:
        InvalidInput, NotFound.
    """
    rule_id = new_id()
    with ctx.database.writing() as connection:
        values = {**_checked(connection, given), "id": rule_id, "created_at": clock.now()}
        stored.insert_rule(connection, values)
        event = _event("created notification rule", rule_id, {"label": values["label"]})
        record_now(ctx, connection, caller, event)
    return one(ctx, rule_id)


def change(ctx: AppContext, caller: Caller, rule_id: str, given: Mapping[str, Any]) -> RuleLine:
    """Replace a rule; arguments and errors as for `create`."""
    with ctx.database.writing() as connection:
        row = _known(connection, rule_id)
        values = _checked(connection, given)
        stored.update_rule(connection, rule_id, values)
        before = asdict(row)
        details = {name: [before[name], value] for name, value in values.items() if before[name] != value}
        record_now(
            ctx,
            connection,
            caller,
            _event("changed notification rule", rule_id, {"label": row.label, **details}),
        )
    return one(ctx, rule_id)


def delete(ctx: AppContext, caller: Caller, rule_id: str) -> None:
    """Delete a rule.

    Raises:
        NotFound.
    """
    with ctx.database.writing() as connection:
        row = _known(connection, rule_id)
        stored.delete_rule(connection, rule_id)
        event = _event("deleted notification rule", rule_id, {"label": row.label})
        record_now(ctx, connection, caller, event)


def one(ctx: AppContext, rule_id: str) -> RuleLine:
    """Return a rule.

    Raises:
        NotFound.
    """
    with ctx.database.reading() as connection:
        row = _known(connection, rule_id)
        return _line(row, SubjectNames(connection), webhooks.labels(connection))


def _line(row: StoredRule, names: SubjectNames, hooks: Mapping[str, str]) -> RuleLine:
    return RuleLine(
        id=row.id,
        label=row.label,
        kinds=row.kinds,
        applications=_keys(row.application_ids, names.applications),
        sources=_keys(row.source_ids, names.sources),
        recipients=[_shown(each, hooks) for each in row.recipients],
        frequency=row.frequency,
        enabled=row.enabled,
        created_at=row.created_at,
    )


def _keys(ids: Sequence[str] | None, names: Mapping[str, KeyAndLabel]) -> list[str] | None:
    # What was deleted since is left out; a rule for nothing but that reports nothing.
    return None if ids is None else sorted(names[each].key for each in ids if each in names)


def _shown(recipient: Mapping[str, str], hooks: Mapping[str, str]) -> ShownRecipient:
    kind, value = recipient["kind"], recipient["value"]
    if kind == OPERATORS:
        return ShownRecipient(kind, value, f"Operators: {value.replace('_', ' ')}")
    if kind == OWNERS:
        return ShownRecipient(kind, "", "Owners of the application, else administrators")
    if kind == WEBHOOK:
        return ShownRecipient(kind, value, f"Webhook: {hooks.get(value, 'deleted')}")
    return ShownRecipient(kind, value, value)


def _known(connection: Connection, rule_id: str) -> StoredRule:
    row = stored.get(connection, rule_id)
    if row is None:
        raise NotFound(f"There is no notification rule with the ID '{rule_id}'.", "List the rules.")
    return row


def _checked(connection: Connection, given: Mapping[str, Any]) -> dict[str, Any]:
    if given["frequency"] not in FREQUENCIES:
        raise InvalidInput(
            f"'{given['frequency']}' is not a frequency.",
            f"Use one of: {', '.join(FREQUENCIES)}.",
            "frequency",
        )
    return {
        "label": check_label(given["label"]),
        "kinds": _checked_kinds(given["kinds"]),
        "application_ids": _ids(
            given["applications"], lambda key: str(application_by_key(connection, key).id), "applications"
        ),
        "source_ids": _ids(given["sources"], lambda key: str(source_by_key(connection, key).id), "sources"),
        "recipients": _checked_recipients(connection, given["recipients"]),
        "frequency": given["frequency"],
        "enabled": bool(given["enabled"]),
    }


def _checked_kinds(kinds: Collection[str] | None) -> list[str] | None:
    if kinds is None:
        return None
    if not kinds:
        raise InvalidInput("The rule reports no kind of event.", "Choose at least one kind.", "kinds")
    for kind in kinds:
        if kind not in BY_KEY:
            raise InvalidInput(f"There is no kind of event '{kind}'.", did_you_mean(kind, BY_KEY), "kinds")
    return sorted(set(kinds))


def _ids(keys: Collection[str] | None, find: Any, field: str) -> list[str] | None:
    if keys is None:
        return None
    if not keys:
        raise InvalidInput(f"The list of {field} is empty.", f"Choose at least one, or all {field}.", field)
    return sorted({find(key) for key in keys})


def _checked_recipients(connection: Connection, given: Sequence[Mapping[str, str]]) -> list[dict[str, str]]:
    if not 1 <= len(given) <= MOST_RECIPIENTS:
        raise InvalidInput(f"A rule has 1 to {MOST_RECIPIENTS} recipients.", "Add a recipient.", "recipients")
    known = webhooks.labels(connection)
    found = [_checked_recipient(each.get("kind", ""), each.get("value") or "", known) for each in given]
    return [asdict(each) for each in dict.fromkeys(found)]


def _checked_recipient(kind: str, value: str, known: Mapping[str, str]) -> Recipient:
    if kind not in RECIPIENT_KINDS:
        raise InvalidInput(
            f"There is no kind of recipient '{kind}'.", did_you_mean(kind, RECIPIENT_KINDS), "recipients"
        )
    if kind == OPERATORS and value not in KINDS:
        raise InvalidInput(f"There is no operator role '{value}'.", did_you_mean(value, KINDS), "recipients")
    if kind == WEBHOOK and value not in known:
        raise InvalidInput(f"There is no webhook with the ID '{value}'.", "List the webhooks.", "recipients")
    if kind == OWNERS:
        return Recipient(OWNERS)
    return Recipient(kind, check_address(value, "recipients") if kind == ADDRESS else value)


def _event(action: str, rule_id: str, details: dict[str, Any]) -> AuditEvent:
    return AuditEvent(action, "notification rule", rule_id, details=details)

"""Traces of sign-ins: what the provider sent, each step with its outcome, and the result. They are kept for a
limited time.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import Connection

from dravo.core.errors import NotFound
from dravo.core.instants import Instant, later
from dravo.services.context import AppContext
from dravo.services.lookups import pushing_source
from dravo.services.results import SampleAttribute
from dravo.services.security import masking
from dravo.services.security.permissions import ATTRIBUTES, Caller
from dravo.store import clock
from dravo.store.ids import new_id
from dravo.store.pagination import Page, PageRequest
from dravo.store.sign_in import requests as sign_in_requests
from dravo.store.sign_in import traces as stored
from dravo.store.sign_in.traces import StoredTrace, TraceFilter

SIGNED_IN, OBSERVED, REFUSED = "signed_in", "observed", "refused"
LARGEST_RAW = 60_000
MOST_OF_A_SOURCE = 5_000
# Secrets that could be used again are not stored.
_SECRET_PARTS = re.compile(rb"(<(?:[^\s<>:/]+:)?(?:SignatureValue|CipherValue|DigestValue)\b[^>]*>)[^<]*")


def without_proofs(document: bytes) -> str:
    """Return a SAML message without its signatures, so that a stored message proves nothing."""
    return _SECRET_PARTS.sub(rb"\1(left out)", document)[:LARGEST_RAW].decode("utf-8", "replace")


def write(connection: Connection, row: dict[str, Any]) -> str:
    """Write a trace down, and return its id."""
    own_id = new_id()
    stored.insert_trace(connection, {"id": own_id, "at": clock.now(), **row})
    return own_id


@dataclass(frozen=True)
class SignInLine:
    """A sign-in with its outcome; `name` is the name or address of the user, as far as known."""

    id: str
    at: Instant
    outcome: str
    reason: str | None
    message: str
    hint: str
    name: str
    user: str | None
    sign_in_test: str | None


@dataclass(frozen=True)
class SignInTrace(SignInLine):
    """A whole trace of a sign-in, as it is shown and saved as a file."""

    issuer: str
    subject: str
    steps: list[dict[str, Any]]
    received: list[SampleAttribute]
    kind: str
    made: dict[str, Any]
    groups: list[dict[str, Any]]
    access: list[dict[str, Any]]
    raw: str


def list_traces(ctx: AppContext, key: str, page_request: PageRequest, only: TraceFilter) -> Page[SignInLine]:
    """Return a page of a source's traces, newest first.

    Raises:
        NotFound.
    """
    with ctx.database.reading() as connection:
        source = pushing_source(connection, key)
        visible = replace(only, searchable=not masking.hidden())
        return stored.list_traces(connection, source.id, page_request, visible, _line)


def _line(row: StoredTrace) -> SignInLine:
    hidden = masking.hidden()
    return SignInLine(
        id=row.id,
        at=row.at,
        outcome=row.outcome,
        reason=row.reason,
        # These quote received values.
        message=masking.HIDDEN if hidden else row.message,
        hint="" if hidden else row.hint,
        name=masking.HIDDEN if hidden else row.name,
        user=row.user_id,
        sign_in_test=row.test_id,
    )


def one_row(connection: Connection, key: str, trace_id: str) -> StoredTrace:
    """Return a trace as it is stored.

    Raises:
        NotFound.
    """
    source = pushing_source(connection, key)
    row = stored.get(connection, source.id, trace_id)
    if row is None:
        raise NotFound(
            f"'{source.label}' has no sign-in with this ID.",
            "It may have been deleted. The settings define how long sign-ins are kept.",
        )
    return row


def one(ctx: AppContext, caller: Caller, key: str, trace_id: str) -> SignInTrace:
    """Return one trace; received values only for those who can see attributes of users.

    Raises:
        NotFound.
    """
    with ctx.database.reading() as connection:
        row = one_row(connection, key, trace_id)
    return document(row, plain=ATTRIBUTES in caller.permissions)


def document(row: StoredTrace, *, plain: bool) -> SignInTrace:
    """Return a whole trace, as it is shown and saved as a file."""
    arrived = [
        SampleAttribute(name, [str(each) for each in values])
        for name, values in sorted(row.received.get("attributes", {}).items())
    ]
    result = {"kind": "", "made": {}, "groups": [], "access": [], **row.result}
    steps = row.steps
    if not plain:
        arrived, result["made"] = [], {}
        steps = [{**each, "message": masking.HIDDEN, "hint": ""} for each in steps]
    return SignInTrace(
        **vars(_line(row)),
        issuer=row.received.get("issuer", ""),
        subject=row.received.get("subject", "") if plain else "",
        steps=steps,
        received=arrived,
        **result,
        raw=(row.raw or "") if plain else "",
    )


def attributes_seen(ctx: AppContext, key: str) -> list[SampleAttribute]:
    """Return the names of the attributes in the last traces of a source, each with some values, as
    suggestions for expressions.
    """
    with ctx.database.reading() as connection:
        return attributes_seen_in(connection, pushing_source(connection, key).id)


def attributes_seen_in(connection: Connection, source_id: str) -> list[SampleAttribute]:
    """Return the attributes in the last traces of a source, as `attributes_seen`."""
    rows = [each.received for each in stored.last_of_source(connection, source_id, 50)]
    found: dict[str, list[str]] = {}
    for arrived in rows:
        for name, values in arrived.get("attributes", {}).items():
            some = found.setdefault(name, [])
            some += [text for each in values if (text := str(each)) not in some][: max(0, 3 - len(some))]
    return [SampleAttribute(name, values) for name, values in sorted(found.items())]


def sweep(ctx: AppContext, now: Instant, days: int) -> None:
    """Delete traces that are too old or too many for a source, and expired sign-in requests."""
    with ctx.database.writing() as connection:
        sign_in_requests.delete_expired(connection, now)
        stored.delete_old(connection, later(now, -86_400 * days), MOST_OF_A_SOURCE)

"""Traces of requests of sources: method, path, body without secrets, response, and effects.

A changing request writes its trace in its own transaction. Traces of reads and refusals are written together,
a second later.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import orjson
import structlog
from sqlalchemy import Connection
from sqlalchemy.exc import OperationalError

from dravo.core.change_summary import changed_attributes, effects
from dravo.core.errors import NotFound
from dravo.core.identity.records import display_name
from dravo.core.instants import Instant, later
from dravo.core.scim.quirks import quirks
from dravo.services.ingest.types import IngestChange
from dravo.store import clock
from dravo.store.database import Database
from dravo.store.ids import new_id
from dravo.store.pagination import Page, PageRequest
from dravo.store.queries import scim_requests as stored
from dravo.store.queries.scim_requests import RequestFilter, StoredRequest

LARGEST_BODY = 16_384
log = structlog.get_logger("traces")


@dataclass
class TraceSubject:
    """The user or group of a request."""

    kind: str
    id: str
    name: str


@dataclass
class TraceUser:
    """The effects of a request on one user."""

    id: str
    name: str
    gained: list[str]
    lost: list[str]
    accounts: list[list[str]]


@dataclass
class ScimRequestLine:
    """A request of a source with its effects."""

    id: str
    at: str
    method: str
    path: str
    query: str | None
    status: int
    milliseconds: int
    outcome: str
    quirks: list[str]
    subject: TraceSubject | None
    users: list[TraceUser]
    more: int


@dataclass
class ScimRequest(ScimRequestLine):
    """A request with its body."""

    body: str | None


@dataclass
class TraceDraft:
    """The trace of a request in progress."""

    source_id: str
    method: str
    path: str
    query: str | None = None
    payload: Any = None
    began: float = field(default_factory=time.monotonic)
    written: bool = False

    def row(self, status: int, outcome: str, led_to: Mapping[str, Any] | None = None) -> dict[str, Any]:
        """Return the trace as it is stored. A body that cannot be shown is left out: a trace never decides
        the response.
        """
        try:
            seen = {"quirks": quirks(self.payload) or None, "body": _shown_body(self.payload)}
        except Exception:
            log.error(
                "part of a trace could not be created",
                source=self.source_id,
                path=self.path[:500],
                exc_info=True,
            )
            seen = {"quirks": None, "body": None}
        return {
            "id": new_id(),
            "source_id": self.source_id,
            "at": clock.now(),
            "method": self.method,
            "path": self.path[:500],
            "query": self.query[:1_000] if self.query else None,
            "status": status,
            "milliseconds": round((time.monotonic() - self.began) * 1000),
            "outcome": outcome[:1_000],
            "effects": led_to,
            **seen,
        }

    def prepare(self, done: IngestChange) -> Callable[[Connection], None]:
        """Return what writes the trace together with the change; everything it needs is computed here, before
        the transaction.
        """
        status = 201 if done.before is None else 204 if self.method == "DELETE" else 200
        try:
            led_to: dict[str, Any] = {"subject": {"kind": done.kind, "id": done.id, "name": _name(done)}}
            if done.outcomes and done.catalogue:
                led_to |= effects(done.outcomes, done.catalogue)
            row = self.row(status, _sentence(done), led_to)
        except Exception:
            log.error(
                "the effects of a request could not be traced",
                source=self.source_id,
                path=self.path[:500],
                exc_info=True,
            )
            row = self.row(status, "")

        def write(connection: Connection) -> None:
            try:
                stored.insert_request(connection, row)
            except OperationalError:
                # The database cannot be written, so the change must fail too.
                raise
            except Exception:
                log.error(
                    "a trace could not be written", source=self.source_id, path=self.path[:500], exc_info=True
                )
            self.written = True

        return write


def _name(done: IngestChange) -> str:
    data = done.after or done.before or {}
    return display_name(data) if done.kind == "user" else str(data.get("displayName", ""))


def _sentence(done: IngestChange) -> str:
    name = _name(done)
    if done.after is None:
        return f"Stored only: removed {name}. {done.note}" if done.note else f"Removed {name}."
    parts = []
    if done.before is None:
        parts.append(f"Created {name}, linked to the existing user" if done.linked else f"Created {name}")
    else:
        changed = changed_attributes(done.before, done.after)
        if "active" in changed and done.after.get("active") is False:
            parts.append(f"Deactivated {name}")
            changed.remove("active")
        if changed:
            parts.append(f"{'c' if parts else 'C'}hanged {', '.join(changed)} of {name}")
    for verb, number in (("added", done.added), ("removed", done.removed)):
        if number:
            what = f"{verb} {number} {'member' if number == 1 else 'members'}"
            parts.append(what if parts else f"{name}: {what}")
    text = "; ".join(parts) or f"Changed nothing of {name}"
    if done.note:
        return f"Stored only: {text[0].lower()}{text[1:]}. {done.note}"
    return f"{text}. Dravo recalculates its users in the background." if done.marked else f"{text}."


def _shown_body(payload: Any) -> str | None:
    if payload is None:
        return None
    text = orjson.dumps(_without_secrets(payload)).decode()
    return text if len(text) <= LARGEST_BODY else text[:LARGEST_BODY] + " ... (cut)"


def _without_secrets(value: Any) -> Any:
    """Return a body without passwords at any place; most bodies have none and are returned unchanged."""
    if isinstance(value, Mapping):
        target = value.get("path")
        about_secret = isinstance(target, str) and "password" in target.lower()
        return {
            key: "(removed)"
            if "password" in str(key).lower() or (about_secret and str(key).lower() == "value")
            else _without_secrets(inner)
            for key, inner in value.items()
        }
    if isinstance(value, list):
        return [_without_secrets(inner) for inner in value]
    return value


def list_requests(
    database: Database,
    source_id: str,
    page_request: PageRequest,
    only: RequestFilter,
    *,
    values: bool = True,
) -> Page[ScimRequestLine]:
    """Return a page of a source's requests, newest first.

    Args:
        database: the records.
        source_id: the source.
        page_request: which page.
        only: which requests.
        values: whether the caller may see users' attributes. Otherwise queries are left out, and queries
            and bodies are not searched: a search would reveal them.
    """
    with database.reading() as connection:
        found = stored.list_requests(connection, source_id, page_request, only, _line, values=values)
    return found if values else replace(found, items=[replace(each, query=None) for each in found.items])


def one(database: Database, source_id: str, trace_id: str) -> ScimRequest:
    """Return one trace, its body too.

    Raises:
        NotFound.
    """
    with database.reading() as connection:
        row = stored.get(connection, source_id, trace_id)
    if row is None:
        raise NotFound(
            f"This source has no trace with the ID '{trace_id}'.",
            "It may have been deleted. The settings define how long traces are kept.",
        )
    return ScimRequest(**vars(_line(row)), body=row.body)


def _line(row: StoredRequest) -> ScimRequestLine:
    led_to = row.effects or {}
    return ScimRequestLine(
        id=row.id,
        at=row.at,
        method=row.method,
        path=row.path,
        query=row.query,
        status=row.status,
        milliseconds=row.milliseconds,
        outcome=row.outcome,
        quirks=row.quirks or [],
        subject=led_to.get("subject"),
        users=led_to.get("users", []),
        more=led_to.get("more", 0),
    )


def sweep(database: Database, now: Instant, days: int, most: int) -> int:
    """Delete traces older than some days, and those beyond a number for each source; return how many."""
    with database.writing() as connection:
        return stored.delete_old(connection, later(now, -86_400 * days), most)

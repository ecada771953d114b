"""Lists sources with their numbers, their last activity and what needs an operator."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, ScalarSelect, Select, func, select

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.pagination import Page, PageRequest, page, shown_as
from dravo.store.sources import sources
from dravo.store.sources.sources import TokenExpiry


@dataclass(frozen=True)
class ListedSource:
    """A source as lists show it.

    Attributes:
        users, groups: numbers of what it reports.
        last_call: the last inbound SCIM request.
        read_as: the connector of its import, or None; `enabled` of its import.
        run_status, run_ended_at: of its last import run that was no preview.
        conflicts: the number of open conflicts.
        token_ends_at: the expiry of a token in use, if it is near.
        sign_in_status, provider, waiting, trouble: of its sign-in, or None.
        signed_in_at: the last sign-in of a user.
        scim_status: the status of inbound SCIM.
        waiting_deactivations: the number of users whose deactivation or deletion waits.
        template: the key of the template from which it was added, or None.
    """

    id: str
    key: str
    label: str
    note: str | None
    retired_at: Instant | None
    connection_type: str
    created_at: Instant
    domains: list[str] | None
    priority: int
    deactivation_wins: bool
    members_from: str
    updates: bool
    users: int
    groups: int
    last_call: Instant | None
    read_as: str | None
    enabled: bool | None
    run_status: str | None
    run_ended_at: Instant | None
    conflicts: int
    token_ends_at: Instant | None
    sign_in_status: str | None
    provider: dict[str, Any] | None
    waiting: Any
    trouble: str | None
    signed_in_at: Instant | None
    scim_status: str
    waiting_deactivations: int
    template: str | None


@dataclass(frozen=True)
class ListedActivity:
    """The kinds of observations that are shown as last call and as last sign-in, and which tokens expire."""

    call: str
    sign_in: str
    expiry: TokenExpiry


def _statement(activity: ListedActivity) -> Select[Any]:
    s, i, o, g = t.source.c, t.source_import.c, t.source_observation.c, t.source_sign_in.c

    def count(table: Any, *where: Any) -> ScalarSelect[int]:
        return (
            select(func.count()).select_from(table).where(table.c.source_id == s.id, *where).scalar_subquery()
        )

    def last(what: str) -> ScalarSelect[Instant]:
        return select(func.max(o.last_at)).where(o.source_id == s.id, o.what == what).scalar_subquery()

    return select(
        s.id,
        s.key,
        s.label,
        s.note,
        s.retired_at,
        s.connection_type,
        s.created_at,
        s.domains,
        s.priority,
        s.deactivation_wins,
        s.members_from,
        s.updates,
        count(t.record, t.record.c.deleted_at.is_(None)),
        count(t.group, t.group.c.deleted_at.is_(None)),
        last(activity.call),
        i.kind,
        i.enabled,
        sources.last_run(t.run.c.status, s.id),
        sources.last_run(t.run.c.ended_at, s.id),
        count(t.conflict, t.conflict.c.status == "open"),
        sources.token_ends(s.id, activity.expiry),
        g.status,
        g.provider,
        g.waiting,
        g.trouble,
        last(activity.sign_in),
        s.scim_status,
        sources.waiting_ends(s.id),
        s.template,
    ).select_from(
        t.source.outerjoin(t.source_import, i.source_id == s.id).outerjoin(
            t.source_sign_in, g.source_id == s.id
        )
    )


def one(connection: Connection, source_id: str, activity: ListedActivity) -> ListedSource:
    """Return one source, which exists."""
    return ListedSource(*connection.execute(_statement(activity).where(t.source.c.id == source_id)).one())


def list_sources(
    connection: Connection, page_request: PageRequest, activity: ListedActivity
) -> Page[ListedSource]:
    """Return a page of sources by label."""
    keys = [t.source.c.label, t.source.c.id]
    return page(connection, _statement(activity), keys, page_request, shown_as(ListedSource, lambda row: row))


@dataclass(frozen=True)
class WaitingSource:
    """A source with the number of users whose deactivation or deletion waits there."""

    id: str
    key: str
    label: str
    number: int


def waiting_sources(connection: Connection) -> list[WaitingSource]:
    """Return the sources at which deactivations or deletions wait, by label."""
    s = t.source.c
    number = sources.waiting_ends(s.id)
    statement = select(s.id, s.key, s.label, number).where(number > 0).order_by(s.label)
    return [WaitingSource(*row) for row in connection.execute(statement)]

"""What needs an operator now, as notifications report it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, Table, func, null, select

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.sources import sources


@dataclass(frozen=True)
class Counted:
    """An application or a source, with a number of objects and one of their messages."""

    id: str
    key: str
    label: str
    number: int
    message: str | None


@dataclass(frozen=True)
class PausedApplication:
    """An application whose provisioning is paused, and why."""

    id: str
    key: str
    label: str
    reason: str | None


@dataclass(frozen=True)
class Expiring:
    """A secret or a token with its expiry.

    Attributes:
        id: its ID, or that of the application whose secret it is.
        label: its label.
        owner_id, owner_key, owner: the application, the source or the operator to which it belongs.
        created_at: None if it is not known.
    """

    id: str
    label: str
    owner_id: str
    owner_key: str
    owner: str
    created_at: Instant | None
    ends_at: Instant


@dataclass(frozen=True)
class FilledPlan:
    """A license plan with a number of seats, and how many are taken and waited for."""

    id: str
    label: str
    application_id: str
    application_key: str
    application: str
    seats: int
    taken: int
    waiting: int


@dataclass(frozen=True)
class EndedRun:
    """A source whose last import run failed or is held."""

    id: str
    key: str
    label: str
    status: str
    message: str | None
    hint: str | None


@dataclass(frozen=True)
class SignInSettings:
    """The sign-in of a source with what is stored of its provider."""

    source_id: str
    key: str
    label: str
    status: str
    protocol: str
    settings: dict[str, Any]
    provider: dict[str, Any]
    waiting: Any
    trouble: str | None


@dataclass(frozen=True)
class OwnKey:
    """One of our keys towards the provider of a source."""

    id: str
    source_id: str
    key: str
    label: str
    certificate: str


@dataclass(frozen=True)
class OpenReview:
    """An application in a review that is not closed, with its undecided rows."""

    id: str
    label: str
    until_at: Instant
    application_id: str
    application: str
    undecided: int


def _counted(connection: Connection, owner: Table, owner_id: Any, message: Any, *where: Any) -> list[Counted]:
    """Count objects by the application or source to which they belong.

    Args:
        owner: the table of applications or sources.
        owner_id: the column that names the owner.
        message: a column, of which one value is returned.
        where: which objects count.
    """
    o = owner.c
    statement = (
        select(o.id, o.key, o.label, func.count(), func.max(message))
        .join(owner, o.id == owner_id)
        .where(*where)
        .group_by(o.id)
    )
    return [Counted(*row) for row in connection.execute(statement)]


def tasks_with_status(connection: Connection, status: str) -> list[Counted]:
    """Return the applications with open tasks of a status, their number, and the message of one."""
    d = t.task.c
    open_ones = (d.status == status, d.closed_at.is_(None))
    return _counted(connection, t.application, d.application_id, d.message, *open_ones)


def paused_applications(connection: Connection) -> list[PausedApplication]:
    """Return the applications whose provisioning is paused."""
    p = t.application.c
    statement = select(p.id, p.key, p.label, p.trouble).where(p.paused_at.is_not(None))
    return [PausedApplication(*row) for row in connection.execute(statement)]


def open_drift(connection: Connection) -> list[Counted]:
    """Return the applications with open differences."""
    d = t.drift.c
    return _counted(connection, t.application, d.application_id, d.message, d.status == "open")


def expiring_secrets(connection: Connection, before: Instant) -> list[Expiring]:
    """Return the secrets of connections that expire before an instant."""
    p = t.application.c
    statement = select(p.id, p.label, p.id, p.key, p.label, null(), p.secret_expires_at).where(
        p.secret.is_not(None), p.secret_expires_at < before
    )
    return [Expiring(*row) for row in connection.execute(statement)]


def expiring_scim_tokens(connection: Connection, expiry: sources.TokenExpiry) -> list[Expiring]:
    """Return the SCIM tokens in use that expire soon."""
    k, s = t.source_token.c, t.source.c
    statement = (
        select(k.id, k.label, s.id, s.key, s.label, k.created_at, k.expires_at)
        .join(t.source, s.id == k.source_id)
        .where(
            k.revoked_at.is_(None),
            k.last_used_at > expiry.used_after,
            k.expires_at < expiry.ends_before,
            s.retired_at.is_(None),
        )
    )
    return [Expiring(*row) for row in connection.execute(statement)]


def expiring_api_tokens(connection: Connection, expiry: sources.TokenExpiry) -> list[Expiring]:
    """Return the API tokens in use that expire soon."""
    k, o = t.api_token.c, t.operator.c
    statement = (
        select(k.id, k.label, o.id, o.name, o.name, k.created_at, k.expires_at)
        .join(t.operator, o.id == k.operator_id)
        .where(
            k.revoked_at.is_(None),
            k.last_used_at > expiry.used_after,
            k.expires_at < expiry.ends_before,
            o.disabled_at.is_(None),
        )
    )
    return [Expiring(*row) for row in connection.execute(statement)]


def filled_plans(connection: Connection) -> list[FilledPlan]:
    """Return the license plans with a number of seats, and how many are taken."""
    q, s, p = t.license_plan.c, t.seat.c, t.application.c

    def seats(*where: Any) -> Any:
        return (
            select(func.count())
            .select_from(t.seat)
            .where(s.plan_id == q.id, s.until_at.is_(None), *where)
            .scalar_subquery()
        )

    statement = (
        select(
            q.id,
            q.label,
            p.id,
            p.key,
            p.label,
            q.seats,
            seats(s.from_at.is_not(None)),
            seats(s.from_at.is_(None)),
        )
        .join(t.application, p.id == q.application_id)
        .where(q.seats > 0)
    )
    return [FilledPlan(*row) for row in connection.execute(statement)]


def open_conflicts(connection: Connection) -> list[Counted]:
    """Return the sources with open conflicts."""
    c = t.conflict.c
    return _counted(connection, t.source, c.source_id, c.message, c.status == "open")


def unsuccessful_runs(connection: Connection) -> list[EndedRun]:
    """Return the sources whose last import run failed or is held."""
    s, r, i = t.source.c, t.run.c, t.source_import.c
    last = sources.last_run(r.id, i.source_id)
    statement = (
        select(s.id, s.key, s.label, r.status, r.message, r.hint)
        .select_from(t.source_import.join(t.source, s.id == i.source_id).join(t.run, r.id == last))
        .where(r.status.in_(("failed", "held")), s.retired_at.is_(None))
    )
    return [EndedRun(*row) for row in connection.execute(statement)]


def sign_ins(connection: Connection) -> list[SignInSettings]:
    """Return the sign-in of each source in use."""
    g, s = t.source_sign_in.c, t.source.c
    statement = (
        select(s.id, s.key, s.label, g.status, g.protocol, g.settings, g.provider, g.waiting, g.trouble)
        .join(t.source, s.id == g.source_id)
        .where(s.retired_at.is_(None), g.status != "disabled")
    )
    return [SignInSettings(*row) for row in connection.execute(statement)]


def own_keys(connection: Connection, now: Instant) -> list[OwnKey]:
    """Return our keys in use towards providers: of each source the one that signs."""
    k, s, g = t.sign_in_key.c, t.source.c, t.source_sign_in.c
    statement = (
        select(k.id, s.id, s.key, s.label, k.certificate)
        .join(t.source, s.id == k.source_id)
        .join(t.source_sign_in, g.source_id == s.id)
        .where(k.retired_at.is_(None), k.signs_from <= now, s.retired_at.is_(None), g.protocol == "saml")
        .where(g.status != "disabled")
        .order_by(s.id, k.signs_from)
    )
    newest = {row.key: row for row in (OwnKey(*each) for each in connection.execute(statement))}
    return list(newest.values())


def refused_sign_ins(connection: Connection, since: Instant) -> list[Counted]:
    """Return the sources with refused sign-ins since an instant, without test sign-ins."""
    r = t.sign_in_trace.c
    refused = (r.outcome == "refused", r.test_id.is_(None), r.at >= since)
    return _counted(connection, t.source, r.source_id, r.message, *refused)


def open_reviews(connection: Connection, until: Instant) -> list[OpenReview]:
    """Return the open reviews due before an instant, by application with undecided rows."""
    r, x, p = t.review.c, t.review_row.c, t.application.c
    statement = (
        select(r.id, r.label, r.until_at, p.id, p.label, func.count())
        .join(t.review_row, x.review_id == r.id)
        .join(t.application, p.id == x.application_id)
        .where(r.closed_at.is_(None), r.until_at < until, x.decision.is_(None))
        .group_by(r.id, p.id)
    )
    return [OpenReview(*row) for row in connection.execute(statement)]

"""People who are signed in to see what is theirs: their visits, what they have, and the end of it."""

from __future__ import annotations

import secrets
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, delete, insert, select, update

from dravo.core.instants import later
from dravo.protocols.signing_in import Proved
from dravo.services import settings
from dravo.services.auditing import record_change
from dravo.services.house import House
from dravo.services.permissions import Caller
from dravo.services.secrets import csrf_token, digest
from dravo.services.subjects import find_person
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.identifiers import new_id

IDLE_HOURS = 2


@dataclass(frozen=True)
class Visitor:
    """Somebody who is signed in: their visit, who they are, and by which source they came."""

    id: str
    user_id: str
    source_id: str
    csrf: str


def begin(connection: Connection, user_id: str, source_id: str, proved: Proved, hours: int) -> str:
    """Begin a visit, and return its secret."""
    now, secret = clock.now(), secrets.token_urlsafe(32)
    connection.execute(
        insert(t.visit).values(
            id=new_id(), hash=digest(secret), user_id=user_id, source_id=source_id, session=proved.session,
            subject=proved.subject, subject_format=proved.format, created_at=now, last_seen_at=now, until_at=later(now, hours * 3600),
        )
    )  # fmt: skip
    return secret


def by_secret(house: House, secret: str) -> Visitor | None:
    """Return whose visit it is; None if it is over: by time, because it was ended, or because they are not active any more."""
    v, u = t.visit.c, t.user.c
    now, kept = clock.now(), digest(secret)
    live = (v.until_at > now, v.last_seen_at > later(now, -IDLE_HOURS * 3600), u.active.is_(True), u.gone_at.is_(None))
    with house.database.reading() as connection:
        statement = select(v.id, v.user_id, v.source_id, v.last_seen_at).join(t.user, u.id == v.user_id)
        row = connection.execute(statement.where(v.hash == kept, *live)).first()
    if row is None:
        return None
    if row.last_seen_at < later(now, -60):
        with house.database.writing() as connection:
            connection.execute(update(t.visit).where(v.id == row.id).values(last_seen_at=now))
    return Visitor(row.id, row.user_id, row.source_id, csrf_token(secret))


def end(house: House, visitor: Visitor) -> Any:
    """End a visit; returns the row that it was."""
    with house.database.writing() as connection:
        row = connection.execute(select(t.visit).where(t.visit.c.id == visitor.id)).first()
        connection.execute(delete(t.visit).where(t.visit.c.id == visitor.id))
    return row


def mine(house: House, visitor: Visitor) -> dict[str, Any]:
    """Return what a visitor is told: who they are, their applications, and whom to ask."""
    u = t.user.c
    with house.database.reading() as connection:
        user = connection.execute(select(u.display_name, u.user_name).where(u.id == visitor.user_id)).one()
        source = connection.execute(select(t.source.c.label).where(t.source.c.id == visitor.source_id)).scalar_one()
        set_ = connection.execute(select(t.source_sign_in.c.settings).where(t.source_sign_in.c.source_id == visitor.source_id)).scalar() or {}
        theirs = applications_of(connection, visitor.user_id)
        whom = settings.whom_to_ask(connection, set_)
    return {
        "name": user.display_name, "user_name": user.user_name, "source": source, "csrf": visitor.csrf, "applications": theirs,
        "whom_to_ask": whom,
    }  # fmt: skip


def applications_of(connection: Connection, user_id: str) -> list[dict[str, Any]]:
    """Return the applications that a person has and that are not hidden, by name, each with its roles."""
    x, p, r = t.access.c, t.application.c, t.role.c
    statement = (
        select(p.key, p.label, p.address, r.label.label("role"), x.from_at)
        .join(t.application, p.id == x.application_id)
        .join(t.role, r.id == x.role_id)
        .where(x.user_id == user_id, x.until_at.is_(None), p.hidden.is_(False))
        .order_by(p.label, p.id, r.rank.desc())
    )
    found: dict[str, dict[str, Any]] = {}
    for row in connection.execute(statement):
        line = {"key": row.key, "label": row.label, "address": row.address, "roles": [], "since": row.from_at}
        found.setdefault(row.key, line)["roles"].append(row.role)
    return list(found.values())


def of_person(house: House, name: str) -> dict[str, Any]:
    """Return the visits of a person that are not over.

    Raises:
        NotFound, InvalidInput.
    """
    v, s, now = t.visit.c, t.source.c, clock.now()
    with house.database.reading() as connection:
        user = find_person(connection, name)
        statement = (
            select(v.id, v.created_at, v.last_seen_at, v.until_at, s.key, s.label)
            .join(t.source, s.id == v.source_id)
            .where(v.user_id == user.id, v.until_at > now)
            .order_by(v.created_at.desc())
            .limit(100)
        )
        items = [
            {
                "id": row.id, "source": {"key": row.key, "label": row.label}, "created_at": row.created_at, "last_seen_at": row.last_seen_at,
                "until_at": row.until_at,
            }
            for row in connection.execute(statement)
        ]  # fmt: skip
    return {"items": items}


def end_of_person(house: House, caller: Caller, name: str) -> dict[str, Any]:
    """End every visit of a person; they may sign in again, if they may come in.

    Raises:
        NotFound, InvalidInput.
    """
    with house.database.writing() as connection:
        user = find_person(connection, name)
        ended = connection.execute(delete(t.visit).where(t.visit.c.user_id == user.id)).rowcount
        record_change(connection, house.keys, caller, "ended sign-ins", "user", user.id, clock.now(), {"ended": ended})
    return {"items": []}

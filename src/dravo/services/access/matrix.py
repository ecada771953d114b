"""The access matrix: users against applications, now or at a past instant, and its export."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

import orjson
from sqlalchemy import ColumnElement, Connection, Select, and_, exists, or_, select, true

from dravo.core.access.evaluation import Assignment
from dravo.core.errors import InvalidInput
from dravo.core.instants import Instant
from dravo.core.planning import ConfigSnapshot
from dravo.services.context import AppContext
from dravo.services.csv_export import Streamed, csv_line
from dravo.services.lookups import application_by_key
from dravo.services.security import masking
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.pagination import Page, PageRequest, PartlyCountedPage, partly_counted_page
from dravo.store.queries import groups as group_queries
from dravo.store.queries.applications import Application
from dravo.store.queries.groups import GroupLine
from dravo.store.queries.references import KeyAndLabel
from dravo.store.queries.search import user_has
from dravo.store.queries.users import UserLine, user_line

DIRECT_ONLY, INACTIVE_ASSIGNED, HIGHEST = "direct_only", "inactive_assigned", "highest_role"
NARROWED = (DIRECT_ONLY, INACTIVE_ASSIGNED, HIGHEST)
MOST_APPLICATIONS = 200
CHUNK = 500
# Users are counted up to this number.
COUNTED = 10_000

Shown = Callable[[list[UserLine]], list[UserLine]]


@dataclass(frozen=True)
class View:
    """Which part of the matrix to show.

    Attributes:
        words: a part of a name, user name or email.
        application: the key of an application: only users with access to it, and only its column.
        role: with an application, the key of a role: only users with that role.
        only: one of `NARROWED`.
        at: a past instant; None for now.
    """

    words: str | None = None
    application: str | None = None
    role: str | None = None
    only: str | None = None
    at: Instant | None = None


@dataclass(frozen=True)
class MatrixUser(UserLine):
    """A user with the roles by application."""

    roles: dict[str, list[str]]


@dataclass(frozen=True)
class Matrix(PartlyCountedPage[MatrixUser]):
    """A page of the matrix with its columns."""

    applications: list[KeyAndLabel]


@dataclass(frozen=True)
class MatrixGroup(GroupLine):
    """A group with the roles that it gives, by application."""

    roles: dict[str, list[str]]


@dataclass(frozen=True)
class MatrixOfGroups(Page[MatrixGroup]):
    """A page of the matrix of groups with its columns."""

    applications: list[KeyAndLabel]


def users(ctx: AppContext, view: View, page_request: PageRequest) -> Matrix:
    """Return a page of the matrix: users by name, each with roles by application.

    Raises:
        NotFound, InvalidInput.
    """
    with ctx.database.reading() as connection:
        columns = _columns(connection, view)
        keys = [t.user.c.display_name_key, t.user.c.id]
        found = partly_counted_page(
            connection,
            _statement(connection, ctx.catalogue.get(connection), view),
            keys,
            page_request,
            user_line,
            count_to=COUNTED,
        )
        items = _with_roles(connection, found.items, view)
    return Matrix(
        items=items,
        total=found.total,
        next=found.next,
        whole=found.whole,
        applications=[KeyAndLabel(each.key, each.label) for each in columns],
    )


def _columns(connection: Connection, view: View) -> list[Any]:
    if view.application:
        return [application_by_key(connection, view.application)]
    p = t.application.c
    return list(
        connection.execute(select(p.id, p.key, p.label).order_by(p.label, p.id).limit(MOST_APPLICATIONS))
    )


def held_at(at: Instant | None) -> ColumnElement[bool]:
    """Return the condition that access exists at an instant."""
    x = t.access.c
    if at is None:
        return x.until_at.is_(None)
    return and_(x.from_at <= at, or_(x.until_at.is_(None), x.until_at > at))


def _worded(view: View) -> list[Any]:
    """Return the conditions for searched users."""
    return [user_has(view.words, emails=not masking.hidden())] if view.words else []


def _narrowed(catalogue: ConfigSnapshot, view: View, application: Application | None) -> list[Any]:
    """Return the conditions for access by application, role and "highest role".

    Raises:
        InvalidInput: for a role without its application.
    """
    highest = [t.access.c.role_id.in_(catalogue.highest.values())] if view.only == HIGHEST else []
    return [*_in_view(t.access.c, view, application), *highest]


def _in_view(columns: Any, view: View, application: Application | None) -> list[Any]:
    """Return the conditions that access or assignments are of the application and the role of a view.

    Raises:
        InvalidInput: for a role without its application.
    """
    if application is None:
        if view.role:
            raise InvalidInput("The filter `role` needs an application.", "Set `application` too.", "role")
        return []
    conditions = [columns.application_id == application.id]
    if view.role:
        r = t.role.c
        role = select(r.id).where(r.application_id == application.id, r.key == view.role)
        conditions.append(columns.role_id == role.scalar_subquery())
    return conditions


def _statement(connection: Connection, catalogue: ConfigSnapshot, view: View) -> Select[Any]:
    """Return the select of the users in a view: everyone with access, unless a search asks for others."""
    u, x = t.user.c, t.access.c
    statement = select(
        u.id,
        u.user_name,
        u.display_name,
        u.email,
        u.active,
        u.left_at,
        u.inactive_since,
        u.created_at,
        u.modified_at,
    ).where(*_worded(view))
    if view.only is not None and view.only not in NARROWED:
        raise InvalidInput(
            f"'{view.only}' is not a valid value for `only`.", f"Use one of: {', '.join(NARROWED)}.", "only"
        )
    application = application_by_key(connection, view.application) if view.application else None
    if view.only == INACTIVE_ASSIGNED:
        return statement.where(*_inactive_assigned(view, application))
    narrowed = _narrowed(catalogue, view, application)
    if view.only == DIRECT_ONLY:
        by_rule = exists().where(x.user_id == u.id, held_at(view.at), *narrowed, x.direct_only.is_(False))
        # The partial index needs "= 1" instead of "IS 1".
        some = (
            select(x.user_id)
            .where(held_at(view.at), *narrowed, x.direct_only == true())
            .distinct()
            .subquery()
        )
        return statement.join(some, some.c.user_id == u.id).where(~by_rule)
    if narrowed:
        # Few users match: finding them first and sorting after that is faster.
        return statement.where(u.id.in_(select(x.user_id).where(held_at(view.at), *narrowed)))
    if not view.words:
        # Users without access are not in the matrix, unless they are searched by name.
        statement = statement.where(exists().where(x.user_id == u.id, held_at(view.at)))
    return statement


def _inactive_assigned(view: View, application: Application | None) -> list[Any]:
    """Return the conditions that a user was inactive at the instant of a view, and assigned to what it
    shows.
    """
    u, a, at = t.user.c, t.assignment.c, view.at or clock.now()
    assigned = [
        a.user_id == u.id,
        a.excludes.is_(False),
        a.created_at <= at,
        or_(a.removed_at.is_(None), a.removed_at > at),
        or_(a.from_at.is_(None), a.from_at <= at),
        or_(a.until_at.is_(None), a.until_at > at),
    ]
    assigned += _in_view(a, view, application)
    return [u.active.is_(False), u.inactive_since <= at, exists().where(*assigned)]


def accesses(connection: Connection, catalogue: ConfigSnapshot, view: View) -> Select[Any]:
    """Return the select of all current access in a part of the matrix, by application and name.

    Raises:
        NotFound, InvalidInput.
    """
    u, x = t.user.c, t.access.c
    if view.only not in (None, DIRECT_ONLY, HIGHEST):
        raise InvalidInput(
            f"'{view.only}' is not a valid value for `only`.",
            f"Use one of: {DIRECT_ONLY}, {HIGHEST}.",
            "only",
        )
    application = application_by_key(connection, view.application) if view.application else None
    direct = [x.direct_only == true()] if view.only == DIRECT_ONLY else []
    return (
        select(x.id, x.user_id, x.application_id, x.role_id, x.from_at, x.reasons)
        .join(t.user, u.id == x.user_id)
        .where(held_at(None), *_worded(view), *_narrowed(catalogue, view, application), *direct)
        .order_by(x.application_id, u.display_name_key, x.id)
    )


def _with_roles(connection: Connection, items: list[UserLine], view: View) -> list[MatrixUser]:
    """Return users with their roles at the instant of the view, by application."""
    roles = _roles(connection, [item.id for item in items], held_at(view.at))
    return [MatrixUser(**vars(item), roles=roles.get(item.id, {})) for item in items]


def _roles(connection: Connection, user_ids: list[str], condition: Any) -> dict[str, dict[str, list[str]]]:
    x, p, r = t.access.c, t.application.c, t.role.c
    found: defaultdict[str, dict[str, list[str]]] = defaultdict(dict)
    for start in range(0, len(user_ids), CHUNK):
        statement = (
            select(x.user_id, p.key, r.label)
            .join(t.application, p.id == x.application_id)
            .join(t.role, r.id == x.role_id)
            .where(x.user_id.in_(user_ids[start : start + CHUNK]), condition)
            .order_by(r.rank.desc(), r.key)
        )
        for user_id, key, label in connection.execute(statement):
            found[user_id].setdefault(key, []).append(label)
    return found


def groups(
    ctx: AppContext,
    page_request: PageRequest,
    words: str | None = None,
    source: str | None = None,
    application: str | None = None,
) -> MatrixOfGroups:
    """Return a page of the matrix of groups: groups that give access, with their roles by application.

    Raises:
        NotFound.
    """
    with ctx.database.reading() as connection:
        columns = _columns(connection, View(application=application))
        catalogue = ctx.catalogue.get(connection)
        application_ids = {each.id for each in columns}
        given: dict[str, dict[str, list[str]]] = {}
        for group_id, assignments in catalogue.by_group.items():
            for each in assignments:
                if each.application_id in application_ids:
                    key = catalogue.applications[each.application_id].key
                    given.setdefault(group_id, {}).setdefault(key, []).append(_given(each, catalogue))
        found = group_queries.groups(
            connection,
            page_request,
            words,
            source,
            {group_id: len(roles) for group_id, roles in given.items()},
            mapped=True,
        )
    items = [MatrixGroup(**vars(line), roles=given.get(line.id, {})) for line in found.items]
    return MatrixOfGroups(
        items=items,
        total=found.total,
        next=found.next,
        applications=[KeyAndLabel(each.key, each.label) for each in columns],
    )


def _given(assignment: Assignment, catalogue: ConfigSnapshot) -> str:
    if assignment.excludes:
        return "excluded"
    role = catalogue.roles.get(assignment.role_id or "")
    return role.label if role is not None else "access without a role"


# Exports


def export(ctx: AppContext, view: View, form: str, shown: Shown = lambda items: items) -> Streamed:
    """Return the whole matrix as CSV or JSON, some hundred users at a time, all from one transaction.

    Args:
        form: "csv" or "json".
        shown: returns users as the caller may see them.

    Raises:
        NotFound, InvalidInput: before the first piece.
    """
    connection = ctx.database.apart()
    try:
        columns = _columns(connection, view)
        statement = (
            _statement(connection, ctx.catalogue.get(connection), view)
            .add_columns(t.user.c.display_name_key)
            .order_by(t.user.c.display_name_key, t.user.c.id)
        )
        rows = connection.execute(statement.execution_options(yield_per=CHUNK))
    except BaseException:
        connection.close()
        raise
    return Streamed(connection, rows, _pieces(connection, rows.partitions(CHUNK), columns, view, form, shown))


def _pieces(
    connection: Connection, pieces: Any, columns: list[Any], view: View, form: str, shown: Shown
) -> Iterator[bytes]:
    if form == "csv":
        yield csv_line(["user", "user name", "email", "status", *(each.label for each in columns)])
    else:
        yield b"[\n"
    first = True
    for some in pieces:
        items = _with_roles(connection, shown([user_line(row) for row in some]), view)
        for item in items:
            if form == "csv":
                cells = ["; ".join(item.roles.get(each.key, ())) for each in columns]
                yield csv_line([item.display_name, item.user_name, item.email or "", item.status, *cells])
            else:
                yield (b"" if first else b",\n") + orjson.dumps(item)
                first = False
    if form == "json":
        yield b"\n]\n"

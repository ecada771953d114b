"""The access matrix: users against applications, now or at a past instant, and its export."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

import orjson
from sqlalchemy import Connection

from dravo.core.access.types import Assignment
from dravo.core.errors import InvalidInput
from dravo.core.instants import Instant
from dravo.core.plan_types import ConfigSnapshot
from dravo.services.context import AppContext
from dravo.services.csv_export import Streamed, csv_line
from dravo.services.lookups import application_by_key
from dravo.services.security import masking
from dravo.store import clock
from dravo.store.access import matrix as stored
from dravo.store.access.matrix import DIRECT_ONLY, HIGHEST, INACTIVE_ASSIGNED, AccessScope
from dravo.store.pagination import Page, PageRequest, PartlyCountedPage
from dravo.store.queries import groups as group_queries
from dravo.store.queries.groups import GroupLine
from dravo.store.queries.references import KeyAndLabel
from dravo.store.queries.users import UserLine, user_line

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
        scope = scope_of(connection, ctx.catalogue.get(connection), view)
        found = stored.list_users(connection, scope, page_request, COUNTED)
        items = _with_roles(connection, found.items, view)
    return Matrix(items=items, total=found.total, next=found.next, whole=found.whole, applications=columns)


def _columns(connection: Connection, view: View) -> list[KeyAndLabel]:
    if view.application:
        application = application_by_key(connection, view.application)
        return [KeyAndLabel(application.key, application.label)]
    return stored.columns(connection, MOST_APPLICATIONS)


def scope_of(connection: Connection, catalogue: ConfigSnapshot, view: View) -> AccessScope:
    """Return which users and access a view shows.

    Raises:
        NotFound: for an unknown application.
        InvalidInput: for an unknown value of `only`, or a role without its application.
    """
    if view.only is not None and view.only not in NARROWED:
        raise InvalidInput(
            f"'{view.only}' is not a valid value for `only`.", f"Use one of: {', '.join(NARROWED)}.", "only"
        )
    if view.role and not view.application:
        raise InvalidInput("The filter `role` needs an application.", "Set `application` too.", "role")
    application = application_by_key(connection, view.application) if view.application else None
    return AccessScope(
        now=clock.now(),
        words=view.words,
        emails=not masking.hidden(),
        application_id=application.id if application else None,
        role=view.role,
        only=view.only,
        highest=tuple(catalogue.highest.values()),
        at=view.at,
    )


def _with_roles(connection: Connection, items: list[UserLine], view: View) -> list[MatrixUser]:
    """Return users with their roles at the instant of the view, by application."""
    roles = stored.roles_of_users(connection, [item.id for item in items], view.at)
    return [MatrixUser(**vars(item), roles=roles.get(item.id, {})) for item in items]


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
        shown_keys = {each.key for each in columns}
        given: dict[str, dict[str, list[str]]] = {}
        for group_id, assignments in catalogue.by_group.items():
            for each in assignments:
                key = catalogue.applications[each.application_id].key
                if key in shown_keys:
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
    return MatrixOfGroups(items=items, total=found.total, next=found.next, applications=columns)


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
        scope = scope_of(connection, ctx.catalogue.get(connection), view)
        rows = stored.every_user(connection, scope, CHUNK)
    except BaseException:
        connection.close()
        raise
    return Streamed(connection, rows, _pieces(connection, rows.partitions(CHUNK), columns, view, form, shown))


def _pieces(
    connection: Connection, pieces: Any, columns: list[KeyAndLabel], view: View, form: str, shown: Shown
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

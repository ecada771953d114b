"""Applications with their counts, their roles, and the users that their settings affect."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass
from typing import Any

from sqlalchemy import (
    Connection,
    Label,
    ScalarSelect,
    Select,
    delete,
    func,
    insert,
    or_,
    select,
    union,
    update,
)

from dravo.core.instants import Instant
from dravo.store import groups, memberships, recompute_marks
from dravo.store import tables as t
from dravo.store.access import license_plans
from dravo.store.pagination import Item, Page, PageRequest, page
from dravo.store.provisioning import icons
from dravo.store.queries.applications import Application
from dravo.store.task_status import FAILED, HELD, MANUAL, WAITING


@dataclass(frozen=True)
class ListedApplication(Application):
    """An application with its counts.

    Attributes:
        owner: the name of the operator who owns it, or None.
        icon: the version of its icon, or None.
        original_key, original_label: the application of which it is another instance, or None.
        mapping_warnings: assignments whose group is deleted or empty.
        waiting, failed, held, manual: open tasks.
    """

    owner: str | None
    icon: str | None
    original_key: str | None
    original_label: str | None
    waiting_for_seats: int
    short_plans: int
    drifting: int
    mapping_warnings: int
    users: int
    accounts: int
    waiting: int
    failed: int
    held: int
    manual: int


def _statement() -> Select[Any]:
    p, x, a, d = t.application.c, t.access.c, t.account.c, t.task.c
    o = t.application.alias("original")
    users = (
        select(func.count(x.user_id.distinct()))
        .where(x.application_id == p.id, x.until_at.is_(None))
        .scalar_subquery()
    )
    accounts = select(func.count()).select_from(t.account).where(a.application_id == p.id).scalar_subquery()

    def tasks(status: str) -> Label[int]:
        where = (d.application_id == p.id, d.closed_at.is_(None), d.status == status)
        return select(func.count()).select_from(t.task).where(*where).scalar_subquery().label(status)

    drifting = (
        select(func.count())
        .select_from(t.drift)
        .where(t.drift.c.application_id == p.id, t.drift.c.status == "open")
        .scalar_subquery()
    )
    owner = select(t.operator.c.name).where(t.operator.c.id == p.owner_id).scalar_subquery()
    return select(
        t.application,
        owner.label("owner"),
        icons.version_of(p.id).label("icon"),
        select(o.c.key).where(o.c.id == p.original_id).scalar_subquery().label("original_key"),
        select(o.c.label).where(o.c.id == p.original_id).scalar_subquery().label("original_label"),
        license_plans.waiting_for_seats(p.id).label("waiting_for_seats"),
        license_plans.short_plans(p.id).label("short_plans"),
        drifting.label("drifting"),
        _mapping_warnings(p.id).label("mapping_warnings"),
        users.label("users"),
        accounts.label("accounts"),
        tasks(WAITING),
        tasks(FAILED),
        tasks(HELD),
        tasks(MANUAL),
    )


def _mapping_warnings(application_id: Any) -> ScalarSelect[int]:
    """Return as a column how many assignments of an application name a group that is deleted or empty."""
    a = t.assignment.c
    where = (a.application_id == application_id, a.removed_at.is_(None), groups.reaches_nobody())
    return (
        select(func.count())
        .select_from(t.assignment)
        .join(t.group, t.group.c.id == a.group_id)
        .where(*where)
        .scalar_subquery()
    )


def list_applications(
    connection: Connection,
    page_request: PageRequest,
    keys: Collection[str] | None,
    show: Callable[[ListedApplication], Item],
) -> Page[Item]:
    """Return a page of applications by label; `keys` limits them."""
    p, statement = t.application.c, _statement()
    if keys is not None:
        statement = statement.where(p.key.in_(keys))
    # The sort keys of the page follow the columns.
    return page(
        connection, statement, [p.label, p.id], page_request, lambda row: show(ListedApplication(*row[:-2]))
    )


def one(connection: Connection, key: str) -> ListedApplication:
    """Return an application by its key, which exists."""
    row = connection.execute(_statement().where(t.application.c.key == key)).one()
    return ListedApplication(*tuple(row))


@dataclass(frozen=True)
class CountedRole:
    """A role with the number of its users."""

    key: str
    label: str
    rank: int
    sent_value: str | None
    description: str | None
    users: int


def list_roles(connection: Connection, application_id: str) -> list[CountedRole]:
    """Return the roles of an application by rank."""
    r, x = t.role.c, t.access.c
    users = (
        select(func.count())
        .select_from(t.access)
        .where(x.role_id == r.id, x.until_at.is_(None))
        .scalar_subquery()
    )
    columns = (r.key, r.label, r.rank, r.sent_value, r.description)
    statement = select(*columns, users).where(r.application_id == application_id)
    return [CountedRole(*row) for row in connection.execute(statement.order_by(r.rank, r.key))]


def insert_application(connection: Connection, row: Mapping[str, Any]) -> None:
    """Insert an application."""
    connection.execute(insert(t.application).values(**row))


def instances(connection: Connection, application: Application) -> list[tuple[str, str]]:
    """Return (key, label) of the other instances of an application: its original, and all copies of that."""
    p = t.application.c
    original = application.original_id or application.id
    where = (or_(p.id == original, p.original_id == original), p.id != application.id)
    return [
        (key, label)
        for key, label in connection.execute(select(p.key, p.label).where(*where).order_by(p.label))
    ]


def update_settings(connection: Connection, application_id: str, **values: Any) -> None:
    """Change settings of an application, and raise its revision."""
    p = t.application.c
    connection.execute(
        update(t.application).where(p.id == application_id).values(**values, revision=p.revision + 1)
    )


def update_of_revision(connection: Connection, application: Application, **values: Any) -> None:
    """Change columns of an application, unless its settings were changed since it was read."""
    p = t.application.c
    where = (p.id == application.id, p.revision == application.revision)
    connection.execute(update(t.application).where(*where).values(**values))


def update_at_address(connection: Connection, application_id: str, base_url: str, **values: Any) -> None:
    """Change columns of an application, unless it has another address by now."""
    p = t.application.c
    where = (p.id == application_id, p.base_url == base_url)
    connection.execute(update(t.application).where(*where).values(**values))


def mark_everyone_with_an_account(
    connection: Connection, application_id: str, now: Instant, cleared: tuple[str, str] | None
) -> None:
    """Mark everyone with an account or access in an application; `cleared` as in `mark_selected`."""
    a, x = t.account.c, t.access.c
    with_account = select(a.user_id).where(a.application_id == application_id)
    with_access = select(x.user_id).where(x.application_id == application_id, x.until_at.is_(None)).distinct()
    recompute_marks.mark_selected(connection, with_account, now, cleared)
    recompute_marks.mark_selected(connection, with_access, now, cleared)


def mark_users_in_patterns(
    connection: Connection, application_id: str, now: Instant, cleared: tuple[str, str] | None
) -> None:
    """Mark all users that a name pattern of an application can match, or everyone if an expression names its
    roles; `cleared` as in `mark_selected`.
    """
    a = t.assignment.c
    expressions = (a.application_id == application_id, a.expression.is_not(None), a.removed_at.is_(None))
    if connection.execute(select(a.id).where(*expressions).limit(1)).first() is not None:
        recompute_marks.mark_everyone(connection, now, cleared)
        return
    patterned = select(a.source_id).where(
        a.application_id == application_id, a.pattern.is_not(None), a.removed_at.is_(None)
    )
    users = memberships.users_in_groups_of(patterned)
    recompute_marks.mark_selected(connection, users, now, cleared)


def users_with_account_or_access(connection: Connection, application_id: str, most: int) -> list[str]:
    """Return the IDs of users with an account or access in an application."""
    a, x = t.account.c, t.access.c
    concerned = union(
        select(a.user_id).where(a.application_id == application_id),
        select(x.user_id).where(x.application_id == application_id, x.until_at.is_(None)),
    ).subquery()
    statement = select(concerned.c.user_id).order_by(concerned.c.user_id).limit(most)
    return list(connection.execute(statement).scalars())


def has_assignments(connection: Connection, application_id: str) -> bool:
    """Return whether an application has assignments."""
    a = t.assignment.c
    statement = select(a.id).where(a.application_id == application_id, a.removed_at.is_(None)).limit(1)
    return connection.execute(statement).first() is not None


@dataclass(frozen=True)
class DeletionCounts:
    """How much is deleted with an application: accounts that exist there, roles, plans, entries of access,
    tasks and decisions of reviews.
    """

    accounts: int
    roles: int
    plans: int
    access: int
    tasks: int
    decisions: int


def count_deletion(connection: Connection, application_id: str) -> DeletionCounts:
    """Count what is deleted with an application."""
    there = t.account.c.remote_id.is_not(None)
    counted = (
        select(func.count()).select_from(table).where(table.c.application_id == application_id, *more)
        for table, *more in (
            (t.account, there),
            (t.role,),
            (t.license_plan,),
            (t.access,),
            (t.task,),
            (t.review_row,),
        )
    )
    return DeletionCounts(*(connection.execute(each).scalar_one() for each in counted))


def delete_application(connection: Connection, application_id: str) -> None:
    """Delete an application with everything that belongs to it."""
    tasks = select(t.task.c.id).where(t.task.c.application_id == application_id)
    connection.execute(delete(t.task_attempt).where(t.task_attempt.c.task_id.in_(tasks)))
    provisioned = select(t.provisioned_group.c.id).where(
        t.provisioned_group.c.application_id == application_id
    )
    connection.execute(
        delete(t.provisioned_member).where(t.provisioned_member.c.provisioned_group_id.in_(provisioned))
    )
    connection.execute(
        delete(t.operator_application).where(t.operator_application.c.application_id == application_id)
    )
    for table in (
        t.application_icon,
        t.access_request,
        t.review_row,
        t.provisioned_group,
        t.drift,
        t.run,
        t.task,
        t.account,
        t.seat,
        t.retained_role,
        t.access,
        t.assignment,
        t.license_plan,
        t.role,
    ):
        connection.execute(delete(table).where(table.c.application_id == application_id))
    connection.execute(delete(t.application).where(t.application.c.id == application_id))


# Roles


def insert_role(connection: Connection, row: Mapping[str, Any]) -> None:
    """Insert a role."""
    connection.execute(insert(t.role).values(**row))


def update_role(connection: Connection, role_id: str, **values: Any) -> None:
    """Change columns of a role."""
    connection.execute(update(t.role).where(t.role.c.id == role_id).values(**values))


def role_was_used(connection: Connection, role_id: str) -> bool:
    """Return whether an assignment gives a role or a user has it, past ones included."""
    return any(
        connection.execute(select(table.c.id).where(table.c.role_id == role_id).limit(1)).first()
        for table in (t.assignment, t.access)
    )


def delete_role(connection: Connection, role_id: str) -> None:
    """Delete a role."""
    connection.execute(delete(t.role).where(t.role.c.id == role_id))


# Reconciliation schedule


def has_due_reconciliation(connection: Connection, now: Instant) -> bool:
    """Return whether a scheduled reconciliation is due."""
    p = t.application.c
    due = (p.reconcile_next_at.is_not(None), p.reconcile_next_at <= now)
    return connection.execute(select(p.id).where(*due).limit(1)).first() is not None


def due_for_reconciliation(connection: Connection, now: Instant) -> list[Application]:
    """Return the applications whose scheduled reconciliation is due."""
    p = t.application.c
    statement = select(t.application).where(p.reconcile_next_at.is_not(None), p.reconcile_next_at <= now)
    return [Application(*row) for row in connection.execute(statement)]

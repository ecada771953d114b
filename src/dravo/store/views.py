"""How rows are shown: the small pieces that several lists have in common."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy import Connection, Select, and_, func, or_, select

from dravo.core.accounts import ABSENT, AS_IT_IS
from dravo.core.names import fold, user_name_key
from dravo.core.records import LOCAL, display_name
from dravo.store import groups as group_rows
from dravo.store import tables as t
from dravo.store.pages import Ask, page

NAMES_AT_ONCE = 200


def contains(column: Any, words: str) -> Any:
    """Return the condition that a folded column holds some words; no sign of theirs is a pattern."""
    return func.instr(column, fold(words)) > 0


def person_has(words: str, *, emails: bool = True) -> Any:
    """Return the condition that a user's name or user name contains some words; `ix_user_display` answers it without reading a user.

    Args:
        emails: whether the email is searched too.
    """
    u = t.user.c
    return or_(name_has(words), *([contains(u.email_key, words)] if emails else []))


def name_has(words: str) -> Any:
    """Return the condition that a user's name or user name contains some words."""
    u = t.user.c
    return or_(contains(u.display_name_key, words), func.instr(u.user_name_key, user_name_key(words)) > 0)


def has(column: Any, words: str) -> Any:
    """Return the condition that a column that is kept as it came holds some words, in any letter case of ASCII letters."""
    return func.lower(column).contains(words.lower(), autoescape=True)


def person_state(row: Any) -> str:
    """Return "active", "inactive" or "gone"."""
    return "gone" if row.gone_at else "active" if row.active else "inactive"


def person_ref(row: Any, of: str = "id") -> dict[str, Any]:
    """Return a user in short; `of` is the column with the id."""
    return {"id": getattr(row, of), "display_name": row.display_name, "user_name": row.user_name}


def attributes_ref(user_id: str, attributes: Mapping[str, Any]) -> dict[str, Any]:
    """Return a user in short, out of the attributes that planning made."""
    return {"id": user_id, "display_name": display_name(attributes), "user_name": str(attributes.get("userName", ""))}


def person_line(row: Any) -> dict[str, Any]:
    """Return a user as it stands in lists."""
    return {
        "id": row.id,
        "user_name": row.user_name,
        "display_name": row.display_name,
        "email": row.email,
        "state": person_state(row),
        "since": row.gone_at or row.inactive_since or row.created_at,
        "modified_at": row.modified_at,
    }


def people(connection: Connection, ask: Ask, words: str | None, state: str | None, *, emails: bool = True) -> dict[str, Any]:
    """Return a page of users by name; `words` are looked for in name and user name, and in the email where `emails` says so."""
    u = t.user.c
    statement = select(u.id, u.user_name, u.display_name, u.email, u.active, u.gone_at, u.inactive_since, u.created_at, u.modified_at)
    # Where words are looked for, an index by state would only lead astray from the one that has the words.
    active = func.coalesce(u.active, False) if words else u.active
    conditions = {
        "active": and_(active.is_(True), u.gone_at.is_(None)),
        "inactive": and_(active.is_(False), u.gone_at.is_(None)),
        "gone": and_(active.is_(False), u.gone_at.is_not(None)),
    }
    if words:
        statement = statement.where(person_has(words, emails=emails))
    if state in conditions:
        statement = statement.where(conditions[state])
    return page(connection, statement, [u.display_name_key, u.id], ask, person_line)


def people_by_id(connection: Connection, user_ids: list[str]) -> dict[str, dict[str, Any]]:
    """Return some users in short, by id."""
    u = t.user.c
    rows = connection.execute(select(u.id, u.display_name, u.user_name).where(u.id.in_(user_ids)))
    return {row.id: person_ref(row) for row in rows}


def people_named(connection: Connection, names: Sequence[str], *, by_attributes: bool = True) -> dict[str, list[Any]]:
    """Return for each name the users who have it, those who are present first.

    Args:
        names: ids or user names; emails and external IDs too where `by_attributes` says so.
    """
    u, r = t.user.c, t.record.c
    found: dict[str, list[Any]] = {name: [] for name in names}
    wanted = list(found)
    for start in range(0, len(wanted), NAMES_AT_ONCE):
        some = wanted[start : start + NAMES_AT_ONCE]
        keys = [fold(name) for name in some]
        name_keys = [user_name_key(name) for name in some]
        others = select(r.external_id, r.user_id).where(r.external_id.in_(some), r.gone_at.is_(None))
        external = connection.execute(others).all() if by_attributes else []
        users = {user_id for _, user_id in external}
        by_email = [u.email_key.in_(keys)] if by_attributes else []
        statement = select(t.user).where(or_(u.id.in_({*some, *users}), u.user_name_key.in_(name_keys), *by_email))
        rows = connection.execute(statement.order_by(u.gone_at.is_not(None), u.id)).all()
        by: defaultdict[str, set[str]] = defaultdict(set)
        for name, user_id in external:
            by[name].add(user_id)
        for name, key, name_key in zip(some, keys, name_keys, strict=True):
            found[name] = [
                row
                for row in rows
                if row.id == name or row.user_name_key == name_key or (by_attributes and row.email_key == key) or row.id in by[name]
            ]
    return found


def records_of(connection: Connection, user_id: str) -> list[dict[str, Any]]:
    """Return what sources said of a user, without the content."""
    r, s = t.record.c, t.source.c
    statement = (
        select(r.id, r.channel, r.external_id, r.native_id, r.data, r.created_at, r.modified_at, r.gone_at, s.key, s.label)
        .join(t.source, s.id == r.source_id)
        .where(r.user_id == user_id)
        .order_by(r.id)
    )
    return [
        {
            "id": row.id,
            "source": {"key": row.key, "label": row.label},
            "channel": row.channel,
            "external_id": row.native_id or row.external_id,
            "user_name": row.data.get("userName"),
            "active": row.gone_at is None and row.data.get("active", True) is not False,
            "created_at": row.created_at,
            "modified_at": row.modified_at,
            "gone_at": row.gone_at,
        }
        for row in connection.execute(statement)
    ]


def memberships_of(connection: Connection, user_id: str) -> list[dict[str, Any]]:
    """Return every membership that a user has or had, the present ones first."""
    m, g, s = t.membership.c, t.group.c, t.source.c
    mine = select(t.record.c.id).where(t.record.c.user_id == user_id)
    statement = (
        select(g.id, g.display_name, g.external_id, m.from_at, m.until_at, s.key, s.label)
        .select_from(t.membership)
        .join(t.group, g.id == m.group_id)
        .outerjoin(t.source, s.id == g.source_id)
        .where(or_(m.record_id.in_(mine), m.user_id == user_id))
        .order_by(m.until_at.is_not(None), m.from_at.desc())
        .limit(500)
    )
    return [
        {
            "group": {"id": row.id, "name": row.display_name, "external_id": row.external_id},
            "source": {"key": row.key, "label": row.label} if row.key else None,
            "since": row.from_at,
            "until": row.until_at,
        }
        for row in connection.execute(statement)
    ]


def _groups_statement() -> Select[Any]:
    """Return the select of present groups, each with its source, how many it lists and how many assignments name it."""
    g, s = t.group.c, t.source.c
    size = group_rows.size_of(g.id)
    roles = (
        select(func.count()).select_from(t.assignment).where(t.assignment.c.group_id == g.id, t.assignment.c.removed_at.is_(None)).scalar_subquery()
    )
    return (
        select(g.id, g.display_name, g.external_id, g.modified_at, s.key, s.label, size.label("size"), roles.label("roles"))
        .outerjoin(t.source, s.id == g.source_id)
        .where(g.gone_at.is_(None))
    )


def groups(
    connection: Connection,
    ask: Ask,
    words: str | None,
    source_key: str | None,
    given: Mapping[str, int],
    *,
    mapped: bool | None = None,
) -> dict[str, Any]:
    """Return a page of groups by name.

    Args:
        words: looked for in the name, or one of its ids.
        source_key: only this source's.
        given: for a group id how many assignments name it, by itself or by a pattern.
        mapped: only groups that give something, or only those that give nothing.
    """
    g, statement = t.group.c, _groups_statement()
    if mapped is not None:
        known = list(given)
        statement = statement.where(g.id.in_(known) if mapped else g.id.not_in(known))
    if words:
        statement = statement.where(or_(contains(g.display_name_key, words), g.id == words, g.external_id == words))
    if source_key:
        statement = statement.where(t.source.c.key == source_key)
    return page(connection, statement, [g.display_name_key, g.id], ask, lambda row: {**group_line(row), "assignments": given.get(row.id, 0)})


def group_line(row: Any) -> dict[str, Any]:
    """Return a group as it stands in lists."""
    return {
        "id": row.id,
        "name": row.display_name,
        "external_id": row.external_id,
        "source": {"key": row.key, "label": row.label} if row.key else None,
        "members": row.size,
        "assignments": row.roles,
        "modified_at": row.modified_at,
    }


def group(connection: Connection, group_id: str) -> dict[str, Any] | None:
    """Return one group as it stands in lists, or None."""
    row = connection.execute(_groups_statement().where(t.group.c.id == group_id)).first()
    return group_line(row) if row else None


def group_detail(connection: Connection, group_id: str) -> dict[str, Any] | None:
    """Return one group with the groups that it lists itself, those that list it, and how many people are in it by any nesting; or None."""
    found = group(connection, group_id)
    if found is None:
        return None
    g, s, m = t.group.c, t.source.c, t.membership.c

    def nearby(other: Any, here: Any) -> list[dict[str, Any]]:
        statement = (
            select(g.id, g.display_name, s.key, s.label)
            .join(t.membership, other == g.id)
            .outerjoin(t.source, s.id == g.source_id)
            .where(here == group_id, m.until_at.is_(None), m.inner_group_id.is_not(None), g.gone_at.is_(None))
            .order_by(g.display_name_key, g.id)
            .limit(500)
        )
        return [
            {"id": row.id, "name": row.display_name, "source": {"key": row.key, "label": row.label} if row.key else None}
            for row in connection.execute(statement)
        ]

    channel = connection.execute(select(g.channel).where(g.id == group_id)).scalar()
    return {
        **found,
        "local": channel == LOCAL,
        "within": group_rows.how_many_within(connection, group_id),
        "inner": nearby(m.inner_group_id, m.group_id),
        "around": nearby(m.group_id, m.inner_group_id),
    }


def group_members(connection: Connection, group_id: str, ask: Ask) -> dict[str, Any]:
    """Return a page of the people whom a group lists."""
    u, listed = t.user.c, group_rows.listed([group_id])
    statement = select(u.id, u.user_name, u.display_name, u.email, u.active, u.gone_at, u.inactive_since, u.created_at, u.modified_at).join(
        listed, listed.c.user_id == u.id
    )
    return page(connection, statement, [u.display_name_key, u.id], ask, person_line)


def account_state(row: Any) -> str:
    """Return how an account stands: "agreed", or the state of the delivery that is open for it, or "due"."""
    if row.agreed_version >= row.due_version:
        return "left alone" if row.due["want"] == AS_IT_IS else "agreed"
    return row.delivery_state or "due"


def account_line(row: Any) -> dict[str, Any]:
    """Return an account as it stands in lists."""
    due = row.due
    shown = row.agreed if due["want"] == AS_IT_IS and row.agreed else due
    return {
        "id": row.account_id,
        "person": person_ref(row, "user_id"),
        "application": {"key": row.application_key, "label": row.application_label},
        "should_be": "absent" if due["want"] == ABSENT else "left alone" if due["want"] == AS_IT_IS else "active" if due["active"] else "inactive",
        "roles": [role["value"] for role in shown.get("roles", [])] if shown else [],
        "state": account_state(row),
        "due_version": row.due_version,
        "agreed_version": row.agreed_version,
        "due_since": row.due_since,
        "agreed_at": row.agreed_at,
        "remote_id": row.remote_id,
        "origin": row.origin,
        "delivery": {
            "id": row.delivery_id,
            "state": row.delivery_state,
            "message": row.message,
            "mend": row.mend,
            "next_attempt_at": row.next_attempt_at,
        }
        if row.delivery_id
        else None,
    }


def accounts_statement() -> Select[Any]:
    """Return the select of accounts with person, application and open delivery."""
    a, u, p, d = t.account.c, t.user.c, t.application.c, t.delivery.c
    return (
        select(
            a.id.label("account_id"),
            a.due,
            a.due_version,
            a.due_since,
            a.agreed,
            a.agreed_version,
            a.agreed_at,
            a.remote_id,
            a.origin,
            u.id.label("user_id"),
            u.display_name,
            u.user_name,
            p.key.label("application_key"),
            p.label.label("application_label"),
            d.id.label("delivery_id"),
            d.state.label("delivery_state"),
            d.message,
            d.mend,
            d.next_attempt_at,
        )
        .join(t.user, u.id == a.user_id)
        .join(t.application, p.id == a.application_id)
        .outerjoin(t.delivery, and_(d.account_id == a.id, d.closed_at.is_(None)))
    )


def accounts(
    connection: Connection, ask: Ask, application_key: str | None, user_id: str | None, state: str | None, words: str | None
) -> dict[str, Any]:
    """Return a page of accounts by the person's name."""
    a, u, d = t.account.c, t.user.c, t.delivery.c
    statement = accounts_statement()
    if application_key:
        statement = statement.where(t.application.c.key == application_key)
    if user_id:
        statement = statement.where(a.user_id == user_id)
    if words:
        statement = statement.where(or_(name_has(words), a.remote_id == words))
    if state == "agreed":
        statement = statement.where(a.agreed_version >= a.due_version)
    elif state == "due":
        statement = statement.where(a.agreed_version < a.due_version)
    elif state:
        statement = statement.where(d.state == state)
    return page(connection, statement, [u.display_name_key, a.id], ask, account_line)


def account(connection: Connection, account_id: str) -> dict[str, Any] | None:
    """Return one account, or None."""
    row = connection.execute(accounts_statement().where(t.account.c.id == account_id)).first()
    return {**account_line(row), "due": row.due, "agreed": row.agreed} if row else None


def access(
    connection: Connection,
    ask: Ask,
    application_key: str | None = None,
    role_key: str | None = None,
    user_id: str | None = None,
    group_id: str | None = None,
    words: str | None = None,
    *,
    ended: bool = False,
) -> dict[str, Any]:
    """Return a page of accesses by person, each with its reasons and the account that it leads to; ended ones if asked."""
    x, u, p, r = t.access.c, t.user.c, t.application.c, t.role.c
    statement = (
        select(
            x.id,
            x.reasons,
            x.from_at,
            x.until_at,
            u.id.label("user_id"),
            u.display_name,
            u.user_name,
            p.id.label("application_id"),
            p.key.label("application_key"),
            p.label.label("application_label"),
            r.key.label("role_key"),
            r.label.label("role_label"),
            r.rank,
        )
        .join(t.user, u.id == x.user_id)
        .join(t.application, p.id == x.application_id)
        .join(t.role, r.id == x.role_id)
        .where(x.until_at.is_not(None) if ended else x.until_at.is_(None))
    )
    if application_key:
        statement = statement.where(p.key == application_key)
    if role_key:
        statement = statement.where(r.key == role_key)
    if user_id:
        statement = statement.where(x.user_id == user_id)
    if group_id:
        named = select(t.assignment.c.role_id).where(t.assignment.c.group_id == group_id)
        statement = statement.where(x.role_id.in_(named))
    if words:
        statement = statement.where(name_has(words))
    if ended:
        found = page(connection, statement, [x.until_at, x.id], ask, _access_line, newest_first=True)
    else:
        found = page(connection, statement, [u.display_name_key, x.id], ask, _access_line)
    _join_accounts(connection, found["items"])
    _join_assignments(connection, found["items"])
    _join_seats(connection, found["items"])
    return found


def _access_line(row: Any) -> dict[str, Any]:
    return {
        "id": row.id,
        "person": person_ref(row, "user_id"),
        "application": {"key": row.application_key, "label": row.application_label},
        "role": {"key": row.role_key, "label": row.role_label, "rank": row.rank},
        "since": row.from_at,
        "until": row.until_at,
        "reasons": [
            {
                "kind": reason["kind"],
                "assignment": reason["assignment"],
                "rule": reason["rule"],
                "group": {"id": reason["group"], "name": reason["group_name"]} if reason["group"] else None,
                "source": {"key": reason["source"], "label": reason["source_label"]} if reason["source"] else None,
                "through": reason["through_names"],
                "since": reason["from"],
                "until": reason["until"],
                "by": None,
                "note": None,
            }
            for reason in row.reasons
        ],
        "account": None,
    }


def _join_accounts(connection: Connection, items: list[dict[str, Any]]) -> None:
    """Put beside each access the account that it leads to."""
    users = {item["person"]["id"] for item in items}
    if not users:
        return
    rows = connection.execute(accounts_statement().where(t.account.c.user_id.in_(users)))
    by_key = {(row.user_id, row.application_key): account_line(row) for row in rows}
    for item in items:
        item["account"] = by_key.get((item["person"]["id"], item["application"]["key"]))


def _join_seats(connection: Connection, items: list[dict[str, Any]]) -> None:
    """Put beside each access the seat that comes with it, or that it waits for."""
    s, p = t.seat.c, t.plan.c
    users = list({item["person"]["id"] for item in items})
    statement = (
        select(s.user_id, s.asked_at, s.from_at, p.key, p.label, t.application.c.key.label("application"))
        .join(t.plan, p.id == s.plan_id)
        .join(t.application, t.application.c.id == s.application_id)
        .where(s.user_id.in_(users), s.until_at.is_(None))
        .order_by(s.from_at.is_not(None))
    )
    found = {
        (row.user_id, row.application): {"plan": {"key": row.key, "label": row.label}, "asked_at": row.asked_at, "since": row.from_at}
        for row in connection.execute(statement)
    }
    for item in items:
        item["seat"] = None if item["until"] else found.get((item["person"]["id"], item["application"]["key"]))


def _join_assignments(connection: Connection, items: list[dict[str, Any]]) -> None:
    """Put into each reason who made its assignment, and the note."""
    ids = {reason["assignment"] for item in items for reason in item["reasons"]}
    if not ids:
        return
    a = t.assignment.c
    known = {row.id: row for row in connection.execute(select(a.id, a.created_by, a.note).where(a.id.in_(ids)))}
    for item in items:
        for reason in item["reasons"]:
            row = known.get(reason["assignment"])
            if row is not None:
                reason["by"], reason["note"] = row.created_by, row.note

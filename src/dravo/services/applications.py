"""Applications: their roles, what Dravo may do in them, and the connection to them."""

from __future__ import annotations

from typing import Any
from urllib.parse import urlsplit

from sqlalchemy import Connection, delete, func, insert, literal, select, update
from sqlalchemy.exc import IntegrityError

from dravo.core.accounts import LEAVING
from dravo.core.errors import AlreadyThere, InvalidInput, NotFound, StillInUse
from dravo.protocols.scim.checking import check_connection
from dravo.protocols.scim.outgoing import Connection as Outgoing
from dravo.protocols.scim.outgoing import mend_address
from dravo.services.auditing import record_change
from dravo.services.house import House
from dravo.services.permissions import Caller
from dravo.services.recalculating import CHUNK, work_through
from dravo.services.sources import check_key, check_label
from dravo.store import clock, groups
from dravo.store import tables as t
from dravo.store.applying import FAILED, HELD, WAITING
from dravo.store.catalogue import raise_revision
from dravo.store.identifiers import new_id
from dravo.store.pages import Ask, page

SETTINGS = (
    "switched_on", "create_accounts", "update_accounts", "adopt_by_user_name", "on_losing_access", "on_inactive", "on_gone", "at_a_time",
)  # fmt: skip


def add(house: House, caller: Caller, key: str, label: str, owner: str | None, *, tracked_only: bool) -> dict[str, Any]:
    """Add an application, as yet without roles or connection.

    Raises:
        InvalidInput, AlreadyThere.
    """
    now, application_id = clock.now(), new_id()
    row = {
        "id": application_id,
        "key": check_key(key),
        "label": check_label(label),
        "owner": owner,
        "revision": 1,
        "created_at": now,
        "tracked_only": tracked_only,
        "switched_on": False,
        "create_accounts": True,
        "update_accounts": True,
        "adopt_by_user_name": False,
        "on_losing_access": "deactivate",
        "on_inactive": "deactivate",
        "on_gone": "deactivate",
        "at_a_time": 4,
        "failures": 0,
    }
    try:
        with house.database.writing() as connection:
            connection.execute(insert(t.application).values(**row))
            raise_revision(connection)
            record_change(connection, house.keys, caller, "added application", "application", application_id, now, {"key": key, "label": label})
    except IntegrityError:
        raise AlreadyThere(f"There is an application with the key '{key}' already.", "Take another key.", "key") from None
    return one(house, key)


def by_key(connection: Connection, key: str) -> Any:
    """Return an application's row.

    Raises:
        NotFound: if there is none of that key.
    """
    row = connection.execute(select(t.application).where(t.application.c.key == key)).first()
    if row is None:
        raise NotFound(f"There is no application with the key '{key}'.", "See the list of applications for the keys there are.")
    return row


def _statement() -> Any:
    p, x, a, d = t.application.c, t.access.c, t.account.c, t.delivery.c
    people = select(func.count(x.user_id.distinct())).where(x.application_id == p.id, x.until_at.is_(None)).scalar_subquery()
    accounts = select(func.count()).select_from(t.account).where(a.application_id == p.id).scalar_subquery()

    def deliveries(state: str) -> Any:
        where = (d.application_id == p.id, d.closed_at.is_(None), d.state == state)
        return select(func.count()).select_from(t.delivery).where(*where).scalar_subquery().label(state)

    return select(t.application, people.label("people"), accounts.label("accounts"), deliveries(WAITING), deliveries(FAILED), deliveries(HELD))


def _line(row: Any) -> dict[str, Any]:
    return {
        "key": row.key,
        "label": row.label,
        "owner": row.owner,
        "tracked_only": row.tracked_only,
        "switched_on": row.switched_on,
        "state": _state(row),
        "people": row.people,
        "accounts": row.accounts,
        "waiting": row.waiting,
        "failed": row.failed + row.held,
        "answered_at": row.answered_at,
        "trouble": row.trouble,
        "mend": row.trouble_mend,
        "created_at": row.created_at,
    }


def _state(row: Any) -> str:
    if row.tracked_only:
        return "tracked only"
    if not row.base_url or not row.secret:
        return "not connected"
    if row.paused_at:
        return "paused"
    if not row.switched_on:
        return "switched off"
    return "not answering" if row.failures else "working"


def listing(house: House, ask: Ask) -> dict[str, Any]:
    """Return a page of applications by label."""
    with house.database.reading() as connection:
        return page(connection, _statement(), [t.application.c.label, t.application.c.id], ask, _line)


def one(house: House, key: str) -> dict[str, Any]:
    """Return one application with its roles, settings and connection; of its secret only that it is there.

    Raises:
        NotFound.
    """
    with house.database.reading() as connection:
        by_key(connection, key)
        row = connection.execute(_statement().where(t.application.c.key == key)).one()
        return {
            **_line(row),
            "roles": _roles(connection, row.id),
            "settings": {name: getattr(row, name) for name in SETTINGS},
            "connection": {
                "base_url": row.base_url,
                "has_secret": bool(row.secret),
                "checked_at": row.checked_at,
                "capabilities": row.capabilities,
                "paused_at": row.paused_at,
                "failures": row.failures,
                "retry_at": row.retry_at,
            },
        }


def _roles(connection: Connection, application_id: str) -> list[dict[str, Any]]:
    r, x = t.role.c, t.access.c
    people = select(func.count()).select_from(t.access).where(x.role_id == r.id, x.until_at.is_(None)).scalar_subquery()
    rows = connection.execute(select(t.role, people.label("people")).where(r.application_id == application_id).order_by(r.rank, r.key))
    return [{"key": row.key, "label": row.label, "rank": row.rank, "people": row.people} for row in rows]


def change(house: House, caller: Caller, key: str, label: str | None, owner: str | None, settings: dict[str, Any]) -> dict[str, Any]:
    """Change an application's label, owner or settings; whoever has an account there is worked out anew.

    Raises:
        InvalidInput, NotFound.
    """
    values = _checked(settings)
    if label is not None:
        values["label"] = check_label(label)
    if owner is not None:
        values["owner"] = owner.strip() or None
    now = clock.now()
    with house.database.writing() as connection:
        row = by_key(connection, key)
        if values.get("switched_on") and row.tracked_only:
            raise InvalidInput(f"'{row.label}' is only tracked.", "Its accounts are kept by hand; there is nothing to switch on.", "switched_on")
        before = {name: getattr(row, name) for name in values}
        changed = {name: value for name, value in values.items() if before[name] != value}
        if changed:
            connection.execute(update(t.application).where(t.application.c.id == row.id).values(**changed, revision=t.application.c.revision + 1))
            raise_revision(connection)
            mark_everyone_with_an_account(connection, row.id)
            _wake(connection, row.id)
            record_change(
                connection, house.keys, caller, "changed application", "application", row.id, now,
                {"key": key, "before": {name: before[name] for name in changed}, "after": changed},
            )  # fmt: skip
    work_through(house, CHUNK)
    return one(house, key)


def _checked(settings: dict[str, Any]) -> dict[str, Any]:
    values = {name: value for name, value in settings.items() if value is not None}
    for name, value in values.items():
        if name.startswith("on_") and value not in LEAVING:
            raise InvalidInput(f"'{value}' is not a setting for '{name}'.", f"It is one of: {', '.join(LEAVING)}.", name)
        if name == "at_a_time" and not 1 <= value <= 32:
            raise InvalidInput("Between 1 and 32 requests go at a time.", "Give a number in between.", name)
    return values


def mark_everyone_with_an_account(connection: Connection, application_id: str) -> None:
    """Mark whoever has an account or access in an application."""
    now = clock.now()
    with_account = select(t.account.c.user_id, literal(now)).where(t.account.c.application_id == application_id)
    with_access = (
        select(t.access.c.user_id, literal(now)).where(t.access.c.application_id == application_id, t.access.c.until_at.is_(None)).distinct()
    )
    groups.mark_selected(connection, with_account)
    groups.mark_selected(connection, with_access)


def _wake(connection: Connection, application_id: str) -> None:
    """What failed or was held under other settings is tried again."""
    connection.execute(
        update(t.delivery)
        .where(t.delivery.c.application_id == application_id, t.delivery.c.state.in_((FAILED, HELD)), t.delivery.c.closed_at.is_(None))
        .values(state=WAITING, next_attempt_at=clock.now(), message=None, mend=None)
    )


def remove(house: House, caller: Caller, key: str, confirmed: str | None) -> None:
    """Remove an application that nobody has access to; its history goes with it.

    Raises:
        StillInUse: if people have access; take the assignments away first, so that accounts are brought to their end.
        InvalidInput: if the label is not given to confirm.
    """
    with house.database.writing() as connection:
        row = by_key(connection, key)
        if confirmed != row.label:
            raise InvalidInput(f"Removing '{row.label}' ends its history too.", f"Give its label, '{row.label}', to confirm.", "confirm")
        used = select(t.assignment.c.id).where(t.assignment.c.application_id == row.id, t.assignment.c.removed_at.is_(None)).limit(1)
        if connection.execute(used).first():
            raise StillInUse(f"'{row.label}' has assignments.", "Take them away first; then its accounts are brought to their end.")
        unsettled = select(t.delivery.c.id).where(t.delivery.c.application_id == row.id, t.delivery.c.closed_at.is_(None)).limit(1)
        if connection.execute(unsettled).first():
            raise StillInUse(f"'{row.label}' still has deliveries to be done.", "Wait for them, or mend what holds them up.")
        of_application = select(t.delivery.c.id).where(t.delivery.c.application_id == row.id)
        connection.execute(delete(t.delivery_attempt).where(t.delivery_attempt.c.delivery_id.in_(of_application)))
        for table in (t.delivery, t.account, t.access, t.assignment, t.role):
            connection.execute(delete(table).where(table.c.application_id == row.id))
        connection.execute(delete(t.application).where(t.application.c.id == row.id))
        raise_revision(connection)
        record_change(connection, house.keys, caller, "removed application", "application", row.id, clock.now(), {"key": key, "label": row.label})


# Roles


def add_role(house: House, caller: Caller, key: str, role_key: str, label: str, rank: int) -> dict[str, Any]:
    """Add a role; a higher rank may do more.

    Raises:
        InvalidInput, NotFound, AlreadyThere.
    """
    now = clock.now()
    row = {"id": new_id(), "key": check_key(role_key), "label": check_label(label), "rank": rank}
    try:
        with house.database.writing() as connection:
            application = by_key(connection, key)
            connection.execute(insert(t.role).values(application_id=application.id, **row))
            raise_revision(connection)
            record_change(
                connection, house.keys, caller, "added role", "application", application.id, now, {"application": key, "role": role_key, "rank": rank}
            )
    except IntegrityError:
        raise AlreadyThere(f"'{key}' has a role '{role_key}' already.", "Take another key.", "key") from None
    return one(house, key)


def change_role(house: House, caller: Caller, key: str, role_key: str, label: str | None, rank: int | None) -> dict[str, Any]:
    """Give a role another label or rank; its key stays."""
    values: dict[str, Any] = {}
    if label is not None:
        values["label"] = check_label(label)
    if rank is not None:
        values["rank"] = rank
    with house.database.writing() as connection:
        application = by_key(connection, key)
        role = role_by_key(connection, application, role_key)
        if values:
            connection.execute(update(t.role).where(t.role.c.id == role.id).values(**values))
            raise_revision(connection)
            mark_everyone_with_an_account(connection, application.id)
            record_change(
                connection, house.keys, caller, "changed role", "application", application.id, clock.now(),
                {"application": key, "role": role_key, "after": values},
            )  # fmt: skip
    work_through(house, CHUNK)
    return one(house, key)


def remove_role(house: House, caller: Caller, key: str, role_key: str) -> dict[str, Any]:
    """Remove a role that was never given.

    Raises:
        StillInUse: if an assignment gives it, or somebody had it.
    """
    with house.database.writing() as connection:
        application = by_key(connection, key)
        role = role_by_key(connection, application, role_key)
        for table in (t.assignment, t.access):
            if connection.execute(select(table.c.id).where(table.c.role_id == role.id).limit(1)).first():
                raise StillInUse(f"'{role.label}' is given by an assignment, or was.", "Take its assignments away; the role stays for its history.")
        connection.execute(delete(t.role).where(t.role.c.id == role.id))
        raise_revision(connection)
        record_change(
            connection, house.keys, caller, "removed role", "application", application.id, clock.now(), {"application": key, "role": role_key}
        )
    return one(house, key)


def role_by_key(connection: Connection, application: Any, role_key: str) -> Any:
    """Return a role's row.

    Raises:
        NotFound: if the application has none of that key; the roles that it has are named.
    """
    row = connection.execute(select(t.role).where(t.role.c.application_id == application.id, t.role.c.key == role_key)).first()
    if row is None:
        keys = connection.execute(select(t.role.c.key).where(t.role.c.application_id == application.id).order_by(t.role.c.rank)).scalars()
        known = ", ".join(keys) or "none yet"
        raise NotFound(f"'{application.label}' has no role '{role_key}'.", f"Its roles are: {known}.", "role")
    return row


# Connection


def connect(house: House, caller: Caller, key: str, base_url: str, token: str | None) -> dict[str, Any]:
    """Say where an application's SCIM service is, and the token for it. Another host clears the token.

    Raises:
        InvalidInput: for an address that cannot be used, or a missing token.
    """
    mended = mend_address(base_url)
    with house.database.writing() as connection:
        row = by_key(connection, key)
        if row.tracked_only:
            raise InvalidInput(f"'{row.label}' is only tracked.", "Its accounts are kept by hand, so it has no connection.")
        moved = row.base_url is None or _origin(row.base_url) != _origin(mended)
        if token:
            secret = house.keys.encrypt(token.strip())
        elif moved or not row.secret:
            raise InvalidInput(
                "The token of the application is missing.", "Give it with the address: a secret stays with the host it was given for.", "token"
            )
        else:
            secret = row.secret
        connection.execute(
            update(t.application)
            .where(t.application.c.id == row.id)
            .values(
                base_url=mended, secret=secret, capabilities=None, checked_at=None, failures=0, retry_at=None,
                paused_at=None, trouble=None, trouble_mend=None, revision=t.application.c.revision + 1,
            )
        )  # fmt: skip
        _wake(connection, row.id)
        record_change(
            connection, house.keys, caller, "connected application", "application", row.id, clock.now(),
            {"key": key, "before": row.base_url, "after": mended, "token": "changed" if token else "kept"},
        )  # fmt: skip
    return one(house, key)


def _origin(address: str) -> tuple[str, str]:
    parts = urlsplit(address)
    return parts.scheme, parts.netloc


def outgoing(house: House, row: Any) -> Outgoing:
    """Return the connection to an application, secret included."""
    return Outgoing(row.base_url, house.keys.decrypt(row.secret))


def check(house: House, caller: Caller, key: str) -> dict[str, Any]:
    """Try the connection step by step, and keep what the application says that it can do.

    Returns:
        {"ok", "steps": [{"name", "outcome", "message", "mend"}], "capabilities"}.
    """
    with house.database.reading() as connection:
        row = by_key(connection, key)
    if not row.base_url or not row.secret:
        raise InvalidInput(f"'{row.label}' is not connected yet.", "Give its address and token first.")
    result = check_connection(outgoing(house, row))
    now = clock.now()
    with house.database.writing() as connection:
        values: dict[str, Any] = {"checked_at": now, "capabilities": result["capabilities"]}
        if result["ok"]:
            values |= {"failures": 0, "retry_at": None, "paused_at": None, "trouble": None, "trouble_mend": None, "answered_at": now}
        connection.execute(update(t.application).where(t.application.c.id == row.id, t.application.c.revision == row.revision).values(**values))
        record_change(connection, house.keys, caller, "checked connection", "application", row.id, now, {"key": key, "ok": result["ok"]})
    return result


def pause(house: House, caller: Caller, key: str, *, paused: bool) -> dict[str, Any]:
    """Stop delivering to an application, or go on; what is due waits."""
    now = clock.now()
    with house.database.writing() as connection:
        row = by_key(connection, key)
        values = {
            "paused_at": now if paused else None,
            "trouble": f"Paused by {caller.name}." if paused else None,
            "trouble_mend": "Resume it when it may go on." if paused else None,
            "failures": 0,
            "retry_at": None,
        }
        connection.execute(update(t.application).where(t.application.c.id == row.id).values(**values))
        if not paused:
            _wake(connection, row.id)
        record_change(
            connection, house.keys, caller, "paused application" if paused else "resumed application", "application", row.id, now, {"key": key}
        )
    return one(house, key)

"""Applications: their roles, what Dravo may do in them, and the connection to them."""

from __future__ import annotations

from typing import Any
from urllib.parse import urlsplit

from sqlalchemy import Connection, delete, func, insert, literal, select, update
from sqlalchemy.exc import IntegrityError

from dravo.core.endings import ending
from dravo.core.errors import AlreadyThere, InvalidInput, NotFound, StillInUse
from dravo.core.instants import Instant
from dravo.protocols.scim.capabilities import read_capabilities
from dravo.protocols.scim.checking import check_connection
from dravo.protocols.scim.outgoing import check_url, mend_address
from dravo.services import delivering, delivery_settings, group_delivering, plans, reaching
from dravo.services.auditing import record_change
from dravo.services.house import House
from dravo.services.named import application_by_key
from dravo.services.permissions import Caller
from dravo.services.recalculating import CHUNK, work_through
from dravo.services.sources import check_key, check_label
from dravo.services.talking import Talker, There
from dravo.store import clock, groups
from dravo.store import tables as t
from dravo.store.applying import FAILED, HELD, WAITING
from dravo.store.catalogue import raise_revision
from dravo.store.identifiers import new_id
from dravo.store.pages import Ask, page


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


def _statement() -> Any:
    p, x, a, d = t.application.c, t.access.c, t.account.c, t.delivery.c
    people = select(func.count(x.user_id.distinct())).where(x.application_id == p.id, x.until_at.is_(None)).scalar_subquery()
    accounts = select(func.count()).select_from(t.account).where(a.application_id == p.id).scalar_subquery()

    def deliveries(state: str) -> Any:
        where = (d.application_id == p.id, d.closed_at.is_(None), d.state == state)
        return select(func.count()).select_from(t.delivery).where(*where).scalar_subquery().label(state)

    drifting = select(func.count()).select_from(t.drift).where(t.drift.c.application_id == p.id, t.drift.c.state == "open").scalar_subquery()
    return select(
        t.application,
        plans.waiting_for_seats(p.id).label("waiting_for_seats"),
        plans.short_plans(p.id).label("short_plans"),
        drifting.label("drifting"),
        _rows_amiss(p.id).label("rows_amiss"),
        people.label("people"),
        accounts.label("accounts"),
        deliveries(WAITING),
        deliveries(FAILED),
        deliveries(HELD),
    )


def _rows_amiss(application_id: Any) -> Any:
    """Return how many rows of an application's mapping name a group that is gone or lists nobody, for a column with its id."""
    a = t.assignment.c
    where = (a.application_id == application_id, a.removed_at.is_(None), groups.reaches_nobody())
    return select(func.count()).select_from(t.assignment).join(t.group, t.group.c.id == a.group_id).where(*where).scalar_subquery()


def _line(row: Any) -> dict[str, Any]:
    return {
        "key": row.key,
        "label": row.label,
        "owner": row.owner,
        "address": row.address,
        "hidden": row.hidden,
        "tracked_only": row.tracked_only,
        "switched_on": row.switched_on,
        "state": _state(row),
        "people": row.people,
        "accounts": row.accounts,
        "waiting": row.waiting,
        "failed": row.failed + row.held,
        "drifting": row.drifting,
        "rows_amiss": row.rows_amiss,
        "waiting_for_seats": row.waiting_for_seats,
        "short_plans": row.short_plans,
        "answered_at": row.answered_at,
        "secret_ends_at": ending(row.secret_expires_at, clock.now()) if row.secret else None,
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


def listing(house: House, ask: Ask, keys: frozenset[str] | None = None) -> dict[str, Any]:
    """Return a page of applications by label; only those of some keys, if they are said."""
    statement = _statement()
    if keys is not None:
        statement = statement.where(t.application.c.key.in_(keys))
    with house.database.reading() as connection:
        return page(connection, statement, [t.application.c.label, t.application.c.id], ask, _line)


def one(house: House, key: str) -> dict[str, Any]:
    """Return one application with its roles, settings and connection; of its secret only that it is there.

    Raises:
        NotFound.
    """
    with house.database.reading() as connection:
        application_by_key(connection, key)
        row = connection.execute(_statement().where(t.application.c.key == key)).one()
        return {
            **_line(row),
            "roles": _roles(connection, row.id),
            "plans": plans.listing(connection, row.id),
            "settings": delivery_settings.shown(row),
            "policy": _policy(connection, row),
            "connection": {
                "base_url": row.base_url,
                "has_secret": bool(row.secret),
                "auth": row.auth or {"kind": "bearer"},
                "secret_expires_at": row.secret_expires_at,
                "checked_at": row.checked_at,
                "capabilities": read_capabilities(row.capabilities).document() if row.capabilities else None,
                "paused_at": row.paused_at,
                "failures": row.failures,
                "retry_at": row.retry_at,
            },
        }


def _policy(connection: Connection, row: Any) -> dict[str, Any]:
    """Return how access is decided, the default role by its key."""
    default = connection.execute(select(t.role.c.key).where(t.role.c.id == row.default_role_id)).scalar()
    return {"open_to": row.open_to, "if_nothing": row.if_nothing, "default_role": default, "several": row.several, "first": row.first}


def _roles(connection: Connection, application_id: str) -> list[dict[str, Any]]:
    r, x = t.role.c, t.access.c
    people = select(func.count()).select_from(t.access).where(x.role_id == r.id, x.until_at.is_(None)).scalar_subquery()
    rows = connection.execute(select(t.role, people.label("people")).where(r.application_id == application_id).order_by(r.rank, r.key))
    return [{"key": row.key, "label": row.label, "rank": row.rank, "people": row.people} for row in rows]


def change(house: House, caller: Caller, key: str, about: dict[str, Any], settings: dict[str, Any]) -> dict[str, Any]:
    """Change what is said of an application, or its settings: with these, whoever has an account there is worked out anew.

    Args:
        about: "label", "owner", "address" (where people open it), "hidden" (not shown among their applications); what is None stays.
        settings: as `delivery_settings` has them.

    Raises:
        InvalidInput, NotFound.
    """
    now = clock.now()
    with house.database.writing() as connection:
        row = application_by_key(connection, key)
        values = delivery_settings.checked(connection, row, settings)
        works_out = any(getattr(row, name) != value for name, value in values.items())
        values |= _about(about)
        before = {name: getattr(row, name) for name in values}
        changed = {name: value for name, value in values.items() if before[name] != value}
        if changed:
            connection.execute(update(t.application).where(t.application.c.id == row.id).values(**changed, revision=t.application.c.revision + 1))
            raise_revision(connection)
            if works_out:
                mark_everyone_with_an_account(connection, row.id)
                _wake(connection, row.id)
                group_delivering.wake_all(connection, row.id, now)
            told = {name: value for name, value in changed.items() if name != "reconcile_next_at"}
            record_change(
                connection, house.keys, caller, "changed application", "application", row.id, now,
                {"key": key, "before": {name: before[name] for name in told}, "after": told},
            )  # fmt: skip
    work_through(house, CHUNK)
    return one(house, key)


def _about(about: dict[str, Any]) -> dict[str, Any]:
    values: dict[str, Any] = {}
    if about.get("label") is not None:
        values["label"] = check_label(about["label"])
    if about.get("owner") is not None:
        values["owner"] = about["owner"].strip() or None
    if about.get("address") is not None:
        # It becomes a link in somebody's browser: nothing but a page by HTTP.
        values["address"] = check_url(about["address"], "address") if about["address"].strip() else None
    if about.get("hidden") is not None:
        values["hidden"] = about["hidden"]
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


def _mark_those_in_patterns(connection: Connection, application_id: str) -> None:
    """Mark whoever a pattern can touch: which roles it can give, and which of them is the highest, has changed."""
    a = t.assignment.c
    patterned = select(a.source_id).where(a.application_id == application_id, a.pattern.is_not(None), a.removed_at.is_(None))
    groups.mark_selected(connection, groups.users_in_groups_of(patterned, literal(clock.now())))


def _wake(connection: Connection, application_id: str) -> None:
    """What failed or was held under other settings is tried again."""
    connection.execute(
        update(t.delivery)
        .where(
            t.delivery.c.application_id == application_id,
            t.delivery.c.state.in_((FAILED, HELD)),
            t.delivery.c.closed_at.is_(None),
            func.coalesce(t.delivery.c.kind, "") != delivering.UNKNOWN,
            t.delivery.c.held_at.is_(None),
        )
        .values(state=WAITING, next_attempt_at=clock.now(), message=None, mend=None)
    )
    group_delivering.wake_failed(connection, application_id, clock.now())


def remove(house: House, caller: Caller, key: str, confirmed: str | None) -> None:
    """Remove an application that nobody has access to; its history goes with it.

    Raises:
        StillInUse: if people have access; take the assignments away first, so that accounts are brought to their end.
        InvalidInput: if the label is not given to confirm.
    """
    with house.database.writing() as connection:
        row = application_by_key(connection, key)
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
        over = select(t.delivered_group.c.id).where(t.delivered_group.c.application_id == row.id)
        connection.execute(delete(t.delivered_member).where(t.delivered_member.c.delivered_group_id.in_(over)))
        connection.execute(delete(t.operator_application).where(t.operator_application.c.application_id == row.id))
        for table in (t.review_row, t.delivered_group, t.drift, t.run, t.delivery, t.account, t.seat, t.kept, t.access, t.assignment, t.plan, t.role):
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
            application = application_by_key(connection, key)
            connection.execute(insert(t.role).values(application_id=application.id, **row))
            raise_revision(connection)
            reaching.confirm_present(connection, application.id)
            _mark_those_in_patterns(connection, application.id)
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
        application = application_by_key(connection, key)
        role = role_by_key(connection, application, role_key)
        if values:
            connection.execute(update(t.role).where(t.role.c.id == role.id).values(**values))
            raise_revision(connection)
            reaching.confirm_present(connection, application.id)
            mark_everyone_with_an_account(connection, application.id)
            _mark_those_in_patterns(connection, application.id)
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
        application = application_by_key(connection, key)
        role = role_by_key(connection, application, role_key)
        for table in (t.assignment, t.access):
            if connection.execute(select(table.c.id).where(table.c.role_id == role.id).limit(1)).first():
                raise StillInUse(f"'{role.label}' is given by an assignment, or was.", "Take its assignments away; the role stays for its history.")
        if application.default_role_id == role.id:
            raise StillInUse(f"'{role.label}' is the default role.", "Choose another default role first.")
        connection.execute(delete(t.role).where(t.role.c.id == role.id))
        reaching.confirm_present(connection, application.id)
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


def connect(
    house: House, caller: Caller, key: str, base_url: str, token: str | None, auth: dict[str, Any] | None = None, expires_at: Instant | None = None
) -> dict[str, Any]:
    """Say where an application's SCIM service is, and how to sign in there. Another host, or another way of signing in, clears the secret.

    Args:
        token: the bearer token, the password (basic) or the client's secret; None keeps the one that is there.
        auth: None for a bearer token; {"kind": "basic", "user"}, or {"kind": "client credentials", "token_url", "client_id", "scope"}.
        expires_at: when the secret ends, if that is known.

    Raises:
        InvalidInput: for an address that cannot be used, or a missing token.
    """
    mended, way = mend_address(base_url), _way(auth)
    with house.database.writing() as connection:
        row = application_by_key(connection, key)
        if row.tracked_only:
            raise InvalidInput(f"'{row.label}' is only tracked.", "Its accounts are kept by hand, so it has no connection.")
        moved = row.base_url is None or _origin(row.base_url) != _origin(mended) or _secret_goes_to(row.auth) != _secret_goes_to(way)
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
                base_url=mended, secret=secret, auth=way, capabilities=None, checked_at=None, failures=0, retry_at=None,
                paused_at=None, trouble=None, trouble_mend=None, revision=t.application.c.revision + 1,
                secret_expires_at=expires_at if token or expires_at else row.secret_expires_at,
            )
        )  # fmt: skip
        _wake(connection, row.id)
        record_change(
            connection, house.keys, caller, "connected application", "application", row.id, clock.now(),
            {"key": key, "before": row.base_url, "after": mended, "signed in by": (way or {}).get("kind", "bearer"),
             "token": "changed" if token else "kept"},
        )  # fmt: skip
    return one(house, key)


def _way(auth: dict[str, Any] | None) -> dict[str, Any] | None:
    """Return how to sign in, checked; None for a bearer token."""
    given = {name: value for name, value in (auth or {}).items() if value}
    kind = given.get("kind", "bearer")
    if kind == "bearer":
        return None
    if kind == "basic":
        if not given.get("user") or ":" in given["user"]:
            raise InvalidInput("The user name for signing in is missing, or has a colon.", "Give the name that belongs to the password.", "user")
        return {"kind": kind, "user": given["user"]}
    if kind != "client credentials":
        raise InvalidInput(f"'{kind}' is not a way of signing in.", "It is bearer, basic or client credentials.", "kind")
    if not given.get("client_id"):
        raise InvalidInput("The client id is missing.", "The application's authorization server gives it with the secret.", "client_id")
    found = {"kind": kind, "token_url": check_url(given.get("token_url", ""), "token_url"), "client_id": given["client_id"].strip()}
    return {**found, "scope": given["scope"].strip()} if given.get("scope") else found


def _secret_goes_to(auth: dict[str, Any] | None) -> tuple[str, ...]:
    given = auth or {}
    return given.get("kind", "bearer"), *(_origin(given["token_url"]) if "token_url" in given else ())


def _origin(address: str) -> tuple[str, str]:
    parts = urlsplit(address)
    return parts.scheme, parts.netloc


def check(house: House, caller: Caller, key: str, *, writing: bool = False) -> dict[str, Any]:
    """Try the connection step by step, and keep what the application says that it can do.

    Args:
        writing: whether to try with a test person, who is removed afterwards.

    Returns:
        {"ok", "steps": [{"name", "outcome", "message", "mend"}], "capabilities"}.
    """
    with house.database.reading() as connection:
        row = application_by_key(connection, key)
    if not row.base_url or not row.secret:
        raise InvalidInput(f"'{row.label}' is not connected yet.", "Give its address and token first.")
    there = There(row.id, row.base_url, row.secret, row.auth)
    talker = Talker(house)
    try:
        result = check_connection(talker.client, row.base_url, lambda: talker.connection(there), writing=writing)
    finally:
        talker.close()
    now = clock.now()
    with house.database.writing() as connection:
        values: dict[str, Any] = {"checked_at": now}
        if result["capabilities"]:
            values["capabilities"] = result["capabilities"]
        if result["ok"]:
            values |= {"failures": 0, "retry_at": None, "paused_at": None, "trouble": None, "trouble_mend": None, "answered_at": now}
        connection.execute(update(t.application).where(t.application.c.id == row.id, t.application.c.revision == row.revision).values(**values))
        details = {"key": key, "ok": result["ok"], "with a test person": writing}
        record_change(connection, house.keys, caller, "checked connection", "application", row.id, now, details)
    return result


def pause(house: House, caller: Caller, key: str, *, paused: bool) -> dict[str, Any]:
    """Stop delivering to an application, or go on; what is due waits."""
    now = clock.now()
    with house.database.writing() as connection:
        row = application_by_key(connection, key)
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

"""Operators: who may run Dravo, with which permissions, and for which applications."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import structlog
from sqlalchemy import Connection, delete, insert, or_, select, update
from sqlalchemy.exc import IntegrityError

from dravo.core.errors import AlreadyExists, InvalidInput, NotFound, StillInUse
from dravo.core.identity.names import user_name_key
from dravo.services.context import AppContext
from dravo.services.lookups import application_by_key, check_label
from dravo.services.security import second_factor
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import AUDITOR, HELP_DESK, KINDS, OWNER, SUPER_ADMINISTRATOR, Caller
from dravo.services.security.secrets import hash_password, made_password
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.ids import new_id
from dravo.store.pagination import PageRequest, page

log = structlog.get_logger("operators")
SYSTEM = Caller("", "the command line", SUPER_ADMINISTRATOR)


@dataclass(frozen=True)
class NewOperator:
    """An operator to create.

    Attributes:
        name: the operator's name, unique in any letter case.
        kind: one of `KINDS`.
        applications: the keys of the applications of an application owner.
        masked: whether users' attributes are masked; for help desk and auditors.
    """

    name: str
    kind: str
    applications: Sequence[str] = ()
    masked: bool = False


def add(
    ctx: AppContext,
    caller: Caller,
    operator: NewOperator,
    password: str | None = None,
) -> dict[str, Any]:
    """Create an operator; without a password, generate one and return it, the only time that it is shown.

    Raises:
        InvalidInput, AlreadyExists, NotFound.
    """
    name, kind = check_label(operator.name), operator.kind
    applications, masked = operator.applications, operator.masked
    if kind not in KINDS:
        raise InvalidInput(
            f"'{kind}' is not a valid kind of operator.", f"Use one of: {', '.join(KINDS)}.", "kind"
        )
    if (kind == OWNER) != bool(applications):
        raise InvalidInput(
            "Only an application owner has applications, and needs at least one.",
            "Set `applications`, or choose another kind.",
            "applications",
        )
    if masked and kind not in (HELP_DESK, AUDITOR):
        raise InvalidInput(
            f"Attributes cannot be masked for the kind {kind}.",
            "Use `masked` with help_desk or auditor.",
            "masked",
        )
    chosen = password or made_password()
    now = clock.now()
    row: dict[str, Any] = {
        "id": new_id(),
        "name": name,
        "name_key": user_name_key(name),
        "kind": kind,
        "masked": masked,
        "password_hash": hash_password(chosen),
        "created_at": now,
    }
    try:
        with ctx.database.writing() as connection:
            connection.execute(insert(t.operator).values(**row))
            for key in dict.fromkeys(applications):
                of = application_by_key(connection, key).id
                connection.execute(
                    insert(t.operator_application).values(operator_id=row["id"], application_id=of)
                )
            details = {
                "name": name,
                "kind": kind,
                **({"applications": [*applications]} if applications else {}),
                **({"masked": True} if masked else {}),
            }
            record_change(
                connection,
                ctx.keys,
                caller,
                now,
                AuditEvent("created operator", "operator", row["id"], details=details),
            )
    except IntegrityError:
        raise AlreadyExists(f"An operator '{name}' exists already.", "Choose another name.", "name") from None
    return {**one(ctx, row["id"]), "password": None if password else chosen}


def _line(connection: Connection, row: Any) -> dict[str, Any]:
    owned = applications_of(connection, row)
    return {
        "id": row.id,
        "name": row.name,
        "kind": row.kind,
        "masked": row.masked,
        "applications": sorted(owned or ()),
        "created_at": row.created_at,
        "disabled_at": row.disabled_at,
        "second_factor": row.factor_secret is not None,
        "only_by_source": row.only_by_source,
    }


def applications_of(connection: Connection, row: Any) -> frozenset[str] | None:
    """Return the keys of the applications of an application owner; None for all others."""
    if row.kind != OWNER:
        return None
    o, p = t.operator_application.c, t.application.c
    keys = connection.execute(
        select(p.key).join(t.operator_application, o.application_id == p.id).where(o.operator_id == row.id)
    ).scalars()
    return frozenset(keys)


def list_operators(ctx: AppContext, page_request: PageRequest) -> dict[str, Any]:
    """Return a page of operators by name."""
    with ctx.database.reading() as connection:
        return page(
            connection,
            select(t.operator),
            [t.operator.c.name_key, t.operator.c.id],
            page_request,
            lambda row: _line(connection, row),
        )


def one(ctx: AppContext, operator_id: str) -> dict[str, Any]:
    """Return one operator.

    Raises:
        NotFound.
    """
    with ctx.database.reading() as connection:
        row = connection.execute(select(t.operator).where(t.operator.c.id == operator_id)).first()
        if row is None:
            raise NotFound(f"There is no operator with the ID '{operator_id}'.")
        return _line(connection, row)


def disable(ctx: AppContext, caller: Caller, operator_id: str) -> dict[str, Any]:
    """Shut an operator out: sessions end, tokens stop working. The last super administrator stays.

    Raises:
        NotFound, StillInUse.
    """
    now = clock.now()
    with ctx.database.writing() as connection:
        row = connection.execute(select(t.operator).where(t.operator.c.id == operator_id)).first()
        if row is None:
            raise NotFound(f"There is no operator with the ID '{operator_id}'.")
        o = t.operator.c
        # Anyone who comes in by a source alone counts only with recovery codes: a source can fail.
        gets_in = or_(o.only_by_source.is_(False), o.id.in_(second_factor.who_recovers()))
        super_admins = select(o.id).where(
            o.kind == SUPER_ADMINISTRATOR, o.disabled_at.is_(None), o.id != operator_id, gets_in
        )
        if row.kind == SUPER_ADMINISTRATOR and connection.execute(super_admins.limit(1)).first() is None:
            raise StillInUse(
                "This is the last super administrator who can sign in with a password.",
                "Create another super administrator first.",
            )
        connection.execute(update(t.operator).where(t.operator.c.id == operator_id).values(disabled_at=now))
        connection.execute(delete(t.operator_session).where(t.operator_session.c.operator_id == operator_id))
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent("disabled operator", "operator", operator_id, details={"name": row.name}),
        )
    return one(ctx, operator_id)

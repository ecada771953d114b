"""Operators: who may run Dravo, with which permissions, and for which applications."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, Protocol

import structlog
from sqlalchemy import Connection
from sqlalchemy.exc import IntegrityError

from dravo.core.errors import AlreadyExists, InvalidInput, NotFound, StillInUse
from dravo.core.identity.names import user_name_key
from dravo.services.context import AppContext
from dravo.services.lookups import application_by_key, check_label
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import AUDITOR, HELP_DESK, KINDS, OWNER, SUPER_ADMINISTRATOR, Caller
from dravo.services.security.secrets import hash_password, made_password
from dravo.store import clock
from dravo.store.ids import new_id
from dravo.store.operators import operators as operator_rows
from dravo.store.operators import sessions as session_rows
from dravo.store.operators.operators import Operator
from dravo.store.pagination import Page, PageRequest

log = structlog.get_logger("operators")
SYSTEM = Caller("", "the command line", SUPER_ADMINISTRATOR)


@dataclass
class OperatorLine:
    """An operator."""

    id: str
    name: str
    kind: str
    masked: bool
    applications: list[str]
    created_at: str
    second_factor: bool
    only_by_source: bool
    disabled_at: str | None


@dataclass
class OperatorWithPassword(OperatorLine):
    """An operator with the generated password, shown once; None if the password was given."""

    password: str | None = field(repr=False)


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
) -> OperatorWithPassword:
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
            owned = [application_by_key(connection, key).id for key in dict.fromkeys(applications)]
            operator_rows.insert_operator(connection, row, owned)
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
    return OperatorWithPassword(**vars(one(ctx, row["id"])), password=None if password else chosen)


def _line(connection: Connection, row: Operator) -> OperatorLine:
    owned = applications_of(connection, row)
    return OperatorLine(
        id=row.id,
        name=row.name,
        kind=row.kind,
        masked=row.masked,
        applications=sorted(owned or ()),
        created_at=row.created_at,
        disabled_at=row.disabled_at,
        second_factor=row.factor_secret is not None,
        only_by_source=row.only_by_source,
    )


class _KnownOperator(Protocol):
    """What is needed of an operator to find their applications."""

    @property
    def id(self) -> str:
        """The ID of the operator."""

    @property
    def kind(self) -> str:
        """The kind of the operator."""


def applications_of(connection: Connection, row: _KnownOperator) -> frozenset[str] | None:
    """Return the keys of the applications of an application owner; None for all others."""
    return operator_rows.application_keys(connection, row.id) if row.kind == OWNER else None


def list_operators(ctx: AppContext, page_request: PageRequest) -> Page[OperatorLine]:
    """Return a page of operators by name."""
    with ctx.database.reading() as connection:
        return operator_rows.list_operators(connection, page_request, lambda row: _line(connection, row))


def one(ctx: AppContext, operator_id: str) -> OperatorLine:
    """Return one operator.

    Raises:
        NotFound.
    """
    with ctx.database.reading() as connection:
        return _line(connection, known(connection, operator_id))


def known(connection: Connection, operator_id: str) -> Operator:
    """Return the row of an operator.

    Raises:
        NotFound.
    """
    row = operator_rows.get(connection, operator_id)
    if row is None:
        raise NotFound(f"There is no operator with the ID '{operator_id}'.")
    return row


def disable(ctx: AppContext, caller: Caller, operator_id: str) -> OperatorLine:
    """Disable an operator: sessions end, and tokens stop working. The last super administrator stays.

    Raises:
        NotFound, StillInUse.
    """
    now = clock.now()
    with ctx.database.writing() as connection:
        row = known(connection, operator_id)
        if row.kind == SUPER_ADMINISTRATOR and not operator_rows.has_other_of_kind(
            connection, operator_id, SUPER_ADMINISTRATOR
        ):
            raise StillInUse(
                "This is the last super administrator who can sign in with a password.",
                "Create another super administrator first.",
            )
        operator_rows.update_operator(connection, operator_id, disabled_at=now)
        session_rows.delete_of_operator(connection, operator_id)
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent("disabled operator", "operator", operator_id, details={"name": row.name}),
        )
    return one(ctx, operator_id)

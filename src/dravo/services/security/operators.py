"""Operators: who may run Dravo, with which permissions, and for which applications."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any, Protocol

import structlog
from sqlalchemy import Connection
from sqlalchemy.exc import IntegrityError

from dravo.core.errors import AlreadyExists, InvalidInput, NotFound, StillInUse
from dravo.core.identity.names import user_name_key
from dravo.core.notifications.event_kinds import OPERATOR_CREATED
from dravo.core.notifications.reporting import Condition
from dravo.services.context import AppContext
from dravo.services.lookups import application_by_key, check_label
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.operator_kinds import (
    LIMITED_VIEWS,
    MASKED,
    OWNERS,
    NewOperator,
    OperatorEdit,
    check_view,
    checked_address,
    checked_areas,
)
from dravo.services.security.permissions import OWNER, SUPER_ADMINISTRATOR, Caller
from dravo.services.security.secrets import digest_password, hash_password, made_password
from dravo.store import clock
from dravo.store.ids import new_id
from dravo.store.notifications import events
from dravo.store.operators import operators as operator_rows
from dravo.store.operators import sessions as session_rows
from dravo.store.operators.operators import Operator
from dravo.store.pagination import Page, PageRequest

log = structlog.get_logger("operators")
# What is changed about an operator, as the audit log names it.
EDITED = ("name", "kind", "email", *MASKED, "hidden_areas", "applications")
SYSTEM = Caller("", "the command line", SUPER_ADMINISTRATOR)


@dataclass
class OperatorLine:
    """An operator; `applications` of an application owner, with those of `owner_of`."""

    id: str
    name: str
    kind: str
    email: str | None
    masked: bool
    masked_names: bool
    masked_networks: bool
    hidden_areas: list[str]
    applications: list[str]
    owner_of: list[str]
    created_at: str
    second_factor: bool
    only_by_source: bool
    disabled_at: str | None


@dataclass
class OperatorWithPassword(OperatorLine):
    """An operator with the generated password, shown once; None if the password was given."""

    password: str | None = field(repr=False)


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
    name = check_label(operator.name)
    check_view(operator)
    chosen = password or made_password()
    now = clock.now()
    row: dict[str, Any] = {
        "id": new_id(),
        "name": name,
        "name_key": user_name_key(name),
        "kind": operator.kind,
        **{name: getattr(operator, name) for name in MASKED},
        "hidden_areas": checked_areas(operator.hidden_areas),
        "email": checked_address(operator.email),
        "password_hash": hash_password(password, name) if password else digest_password(chosen),
        "created_at": now,
    }
    with ctx.database.writing() as connection, _unique_name(name):
        operator_rows.insert_operator(connection, row, _application_ids(connection, operator.applications))
        details = {
            name: value
            for name, value in vars(_line(connection, known(connection, row["id"]))).items()
            if name in EDITED and value
        }
        event = AuditEvent("created operator", "operator", row["id"], details=details)
        record_change(connection, ctx.keys, caller, now, event)
        told = Condition(
            kind=OPERATOR_CREATED,
            subject_id=row["id"],
            subject=name,
            title=f"Operator {name} created",
            text=f"Created by {caller.name}, with the role {operator.kind.replace('_', ' ')}.",
            path="/settings/operators",
        )
        events.happened(connection, told, now)
    return OperatorWithPassword(**vars(one(ctx, row["id"])), password=None if password else chosen)


@contextmanager
def _unique_name(name: str) -> Iterator[None]:
    try:
        yield
    except IntegrityError:
        raise AlreadyExists(f"An operator '{name}' exists already.", "Choose another name.", "name") from None


def _application_ids(connection: Connection, keys: Sequence[str]) -> list[str]:
    return [application_by_key(connection, key).id for key in dict.fromkeys(keys)]


def change(ctx: AppContext, caller: Caller, operator_id: str, edit: OperatorEdit) -> OperatorLine:
    """Change an operator. What the new kind has no use for is cleared: applications, masking, hidden areas.

    Permissions follow at once, in running sessions and for API tokens too.

    Raises:
        InvalidInput, AlreadyExists, NotFound; StillInUse: for the last super administrator, and for the owner
            of an application whose new kind cannot own one.
    """
    with ctx.database.writing() as connection:
        row = known(connection, operator_id)
        before = _line(connection, row)
        wanted = _edited(before, edit)
        check_view(wanted)
        if wanted.kind != SUPER_ADMINISTRATOR:
            _check_not_last(connection, row)
        if wanted.kind not in OWNERS and before.owner_of:
            raise StillInUse(
                f"{row.name} is the owner of {', '.join(before.owner_of)}, which needs the kind "
                f"{', '.join(OWNERS[:-1])} or {OWNERS[-1]}.",
                "Choose another owner on the page of the application first.",
            )
        name = check_label(wanted.name)
        values = {
            "name": name,
            "name_key": user_name_key(name),
            "kind": wanted.kind,
            **{name: getattr(wanted, name) for name in MASKED},
            "hidden_areas": checked_areas(wanted.hidden_areas),
            "email": checked_address(wanted.email),
        }
        with _unique_name(name):
            operator_rows.update_operator(connection, operator_id, **values)
        if edit.applications is not None or wanted.kind != OWNER:
            ids = _application_ids(connection, wanted.applications)
            operator_rows.replace_applications(connection, operator_id, ids)
        after = _line(connection, known(connection, operator_id))
        changed = [name for name in EDITED if getattr(before, name) != getattr(after, name)]
        if changed:
            details = {
                "name": row.name,
                "before": {name: getattr(before, name) for name in changed},
                "after": {name: getattr(after, name) for name in changed},
            }
            event = AuditEvent("changed operator", "operator", operator_id, details=details)
            record_change(connection, ctx.keys, caller, clock.now(), event)
    return after


def _edited(before: OperatorLine, edit: OperatorEdit) -> NewOperator:
    """Return how an operator becomes; a value that the kind has no use for is kept only if it was given."""
    kind = edit.kind if edit.kind is not None else before.kind

    def limited(given: Any, former: Any, nothing: Any) -> Any:
        return given if given is not None else (former if kind in LIMITED_VIEWS else nothing)

    return NewOperator(
        name=edit.name if edit.name is not None else before.name,
        kind=kind,
        applications=edit.applications or (),
        masked=limited(edit.masked, before.masked, nothing=False),
        masked_names=limited(edit.masked_names, before.masked_names, nothing=False),
        masked_networks=limited(edit.masked_networks, before.masked_networks, nothing=False),
        hidden_areas=limited(edit.hidden_areas, before.hidden_areas, nothing=()),
        email=edit.email if edit.email is not None else before.email or "",
    )


def _line(connection: Connection, row: Operator) -> OperatorLine:
    return OperatorLine(
        id=row.id,
        name=row.name,
        kind=row.kind,
        email=row.email,
        masked=row.masked,
        masked_names=row.masked_names,
        masked_networks=row.masked_networks,
        hidden_areas=row.hidden_areas or [],
        applications=sorted(applications_of(connection, row) or ()),
        owner_of=operator_rows.owned_keys(connection, row.id),
        created_at=row.created_at,
        disabled_at=row.disabled_at,
        second_factor=row.has_factor,
        only_by_source=row.only_by_source,
    )


def view_of(row: Any) -> dict[str, Any]:
    """Return what limits the view of an operator, as fields of `Caller`."""
    return {
        **{name: getattr(row, name) for name in MASKED},
        "hidden_areas": frozenset(row.hidden_areas or ()),
    }


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


def owner_named(connection: Connection, name: str) -> Operator:
    """Return the operator who is to own an application, by name.

    Raises:
        NotFound; InvalidInput: for a disabled operator, or one of another kind.
    """
    row = operator_rows.by_name(connection, user_name_key(name.strip()))
    if row is None:
        raise NotFound(
            f"There is no operator '{name.strip()}'.",
            "Create the operator first, or leave the owner empty. A note can name any other person or team.",
            "owner",
        )
    if row.disabled_at is not None:
        raise InvalidInput(
            f"The operator '{row.name}' is disabled.", "Enable the operator, or choose another one.", "owner"
        )
    if row.kind not in OWNERS:
        raise InvalidInput(
            f"'{row.name}' has the kind {row.kind}, which cannot own an application.",
            f"Choose an operator of the kind {', '.join(OWNERS[:-1])} or {OWNERS[-1]}.",
            "owner",
        )
    return row


def _check_not_last(connection: Connection, row: Operator) -> None:
    if row.kind == SUPER_ADMINISTRATOR and not operator_rows.has_other_of_kind(
        connection, row.id, SUPER_ADMINISTRATOR
    ):
        raise StillInUse(
            "This is the last super administrator who can sign in with a password.",
            "Create another super administrator first.",
        )


def disable(ctx: AppContext, caller: Caller, operator_id: str) -> OperatorLine:
    """Disable an operator: sessions end, and tokens stop working. The last super administrator stays.

    Raises:
        NotFound, StillInUse.
    """
    now = clock.now()
    with ctx.database.writing() as connection:
        row = known(connection, operator_id)
        _check_not_last(connection, row)
        operator_rows.update_operator(connection, operator_id, disabled_at=now)
        session_rows.delete_of_operator(connection, operator_id)
        event = AuditEvent("disabled operator", "operator", operator_id, details={"name": row.name})
        record_change(connection, ctx.keys, caller, now, event)
    return one(ctx, operator_id)


def enable(ctx: AppContext, caller: Caller, operator_id: str) -> OperatorLine:
    """Enable a disabled operator, with the password, the second factor and the tokens of before.

    Raises:
        NotFound.
    """
    with ctx.database.writing() as connection:
        row = known(connection, operator_id)
        if row.disabled_at is not None:
            operator_rows.update_operator(connection, operator_id, disabled_at=None)
            event = AuditEvent("enabled operator", "operator", operator_id, details={"name": row.name})
            record_change(connection, ctx.keys, caller, clock.now(), event)
    return one(ctx, operator_id)

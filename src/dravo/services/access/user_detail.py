"""The attributes of a user with the sources they come from."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from dravo.core.instants import Instant
from dravo.core.scim.schemas import ENTERPRISE_URN
from dravo.services.context import AppContext
from dravo.services.lookups import find_user
from dravo.services.security import masking
from dravo.store import clock, recompute_marks
from dravo.store.pagination import PageRequest
from dravo.store.queries import access as access_queries
from dravo.store.queries import accounts as account_queries
from dravo.store.queries import groups as group_queries
from dravo.store.queries import users as user_queries
from dravo.store.queries.access import AccessFilter, AccessLine
from dravo.store.queries.accounts import AccountLine
from dravo.store.queries.groups import UserGroup
from dravo.store.queries.references import KeyAndLabel, UserRef
from dravo.store.queries.users import User, UserLine, UserRecord
from dravo.store.sources import sources as source_rows
from dravo.store.users import managers


@dataclass(frozen=True)
class UserAttribute:
    """A merged attribute of a user with its source."""

    name: str
    value: str
    source: KeyAndLabel | None


@dataclass(frozen=True)
class RecordAttribute:
    """An attribute as a source reports it."""

    name: str
    value: str


@dataclass(frozen=True)
class UserDetailRecord:
    """A source record of a user with its attributes, masked for operators who may not see them."""

    id: str
    source: KeyAndLabel
    connection_type: str
    external_id: str | None
    user_name: str | None
    active: bool
    created_at: Instant
    modified_at: Instant
    deleted_at: Instant | None
    left_out: str | None
    waiting: str | None
    idle: bool
    attributes: list[RecordAttribute]


@dataclass(frozen=True)
class UserDetailMark:
    """The mark of a user by an operator.

    Attributes:
        applies: whether the time of the mark has come.
        sources_disagree: whether a source reports the user as active although the mark applies.
    """

    status: str
    from_at: Instant
    note: str | None
    by: str
    at: Instant
    applies: bool
    sources_disagree: bool


@dataclass(frozen=True)
class UserDetail(UserLine):
    """A user with all details.

    Attributes:
        ended: former access.
        manager: the user that the manager attribute names, if that is certain.
    """

    attributes: list[UserAttribute]
    records: list[UserDetailRecord]
    groups: list[UserGroup]
    access: list[AccessLine]
    ended: list[AccessLine]
    accounts: list[AccountLine]
    being_recomputed: bool
    mark: UserDetailMark | None
    manager: UserRef | None


def user(ctx: AppContext, name: str) -> UserDetail:
    """Return all about one user: attributes with their sources, records, groups, access and accounts.

    Values that the present caller may not see are masked.

    Raises:
        NotFound.
        InvalidInput: if several users have that ID, user name, email or external ID.
    """
    with ctx.database.reading() as connection:
        row = find_user(connection, name)
        labels = source_rows.keys_and_labels(connection, list({*row.value_sources.values()}))
        most = PageRequest(count=200)
        accounts = account_queries.accounts(connection, most, None, row.id, None, None)
        line = user_queries.user_line(row)
        records = user_queries.records_of(connection, row.id)
        if masking.hidden():
            line = replace(line, email=masking.email(line.email))
        return UserDetail(
            **vars(line),
            attributes=[
                UserAttribute(name, _masked(name, value), labels.get(row.value_sources.get(path, "")))
                for path, name, value in _flat(masking.person(row.attributes))
            ],
            records=[_record_of(each) for each in records],
            groups=group_queries.memberships_of(connection, row.id),
            access=access_queries.access(connection, most, AccessFilter(user_id=row.id)).items,
            ended=access_queries.access(connection, most, AccessFilter(user_id=row.id, ended=True)).items,
            accounts=masking.accounts(accounts.items),
            being_recomputed=recompute_marks.is_marked(connection, row.id),
            mark=_mark_of(row, records),
            manager=None
            if masking.hidden()
            else managers.manager_of(connection, row.attributes, row.value_sources),
        )


def _masked(name: str, value: str) -> str:
    return masking.HIDDEN if masking.is_masked(name) else value


def _record_of(record: UserRecord) -> UserDetailRecord:
    columns = {name: value for name, value in vars(record).items() if name != "data"}
    if masking.hidden():
        columns["external_id"] = masking.HIDDEN if record.external_id else None
    if masking.names_hidden():
        columns["user_name"] = masking.HIDDEN if record.user_name else None
    attributes = [
        RecordAttribute(name, _masked(name, value)) for _, name, value in _flat(masking.person(record.data))
    ]
    return UserDetailRecord(**columns, attributes=attributes)


def _mark_of(row: User, records: Sequence[UserRecord]) -> UserDetailMark | None:
    if row.mark is None or row.mark_from_at is None or row.marked_at is None:
        return None
    applies = row.mark_from_at <= clock.now()
    disagree = applies and any(each.active for each in records)
    return UserDetailMark(
        row.mark, row.mark_from_at, row.mark_note, row.marked_by or "", row.marked_at, applies, disagree
    )


def _flat(attributes: Mapping[str, Any]) -> list[tuple[str, str, str]]:
    """Return attributes as (path of provenance, name for users, text)."""
    lines: list[tuple[str, str, str]] = []
    for name, value in attributes.items():
        if name == ENTERPRISE_URN:
            lines.extend((f"{name}:{part}", part, _text(inner)) for part, inner in value.items())
        elif isinstance(value, dict):
            lines.extend((name, f"{name}.{part}", _text(inner)) for part, inner in value.items())
        else:
            lines.append((name, name, _text(value)))
    return lines


def _text(value: Any) -> str:
    if isinstance(value, list):
        return ", ".join(_text(each) for each in value)
    if isinstance(value, dict):
        shown = str(
            value.get("value") or value.get("formatted") or "; ".join(str(each) for each in value.values())
        )
        return f"{shown} ({value['type']})" if value.get("type") else shown
    return "yes" if value is True else "no" if value is False else str(value)

"""Merges records into one user: each attribute comes from the source of highest priority that has a value."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from typing import Any

from dravo.core.identity.records import SIGN_IN, UserRecord
from dravo.core.scim.schemas import ENTERPRISE_URN

OWN_TO_A_RECORD = frozenset({"externalId", "groups", "active"})


@dataclass(frozen=True)
class ManagerReference:
    """The manager of a user as a source names users: `value` means something in that source only."""

    source_id: str
    value: str


@dataclass(frozen=True)
class MergedUser:
    """A user merged from records.

    Attributes:
        attributes: a SCIM User, without what belongs to a single record.
        given_by: by attribute ("title", "urn:...:User:department"), the ID of the source that gave it.
        active: whether a record reports the user as active.
        gone: whether all records are deleted: a leaver.
    """

    attributes: Mapping[str, Any]
    value_sources: Mapping[str, str]
    active: bool
    gone: bool

    @property
    def manager(self) -> ManagerReference | None:
        """The manager as the source of the value names them; None without one."""
        return manager_reference(self.attributes, self.value_sources)


def manager_reference(
    attributes: Mapping[str, Any], value_sources: Mapping[str, str]
) -> ManagerReference | None:
    """Return the manager in the attributes of a user (RFC 7643, section 4.3); None without one.

    Args:
        attributes: the merged attributes.
        value_sources: by attribute, the ID of the source that gave it.
    """
    extension = attributes.get(ENTERPRISE_URN)
    manager = extension.get("manager") if isinstance(extension, Mapping) else None
    value = manager.get("value") if isinstance(manager, Mapping) else manager
    source_id = value_sources.get(f"{ENTERPRISE_URN}:manager")
    if not isinstance(value, str) or not value or source_id is None:
        return None
    return ManagerReference(source_id, value)


NOBODY: frozenset[str] = frozenset()


def merge(
    records: Iterable[UserRecord],
    precedence: Mapping[str, int],
    vetoing: frozenset[str] = NOBODY,
    quiet: frozenset[str] = NOBODY,
) -> MergedUser:
    """Return the user of some records.

    Inactive records give no attributes while an active one exists. Deleted records give some only while there
    is no other, so that a leaver can be recognized. A sign-in proves who a user is, not that the user still
    belongs to the organization: where the source reports the user as inactive or deleted by another
    connection type, its sign-in record counts the same.

    Args:
        records: all records of the user, at least one.
        precedence: by source ID, its priority; the lowest number wins.
        vetoing: IDs of sources with `deactivation_wins`.
        quiet: IDs of sources that give no attributes of users whom another source reports.
    """
    ranked = sorted(
        records,
        key=lambda record: (
            precedence.get(record.source_id, 0),
            record.connection_type == SIGN_IN,
            record.id,
        ),
    )
    if len(ranked) > 1 and any(record.connection_type == SIGN_IN for record in ranked):
        ranked = _as_their_source_has_them(ranked)
    speaking = (
        [record for record in ranked if record.active]
        or [record for record in ranked if not record.gone]
        or ranked
    )
    if quiet:
        speaking = [record for record in speaking if record.source_id not in quiet] or speaking
    vetoed = any(record.source_id in vetoing and not record.active for record in ranked) if vetoing else False
    attributes: dict[str, Any] = {}
    value_sources: dict[str, str] = {}
    for record in speaking:
        for name, value in record.data.items():
            if name in OWN_TO_A_RECORD:
                continue
            if name == ENTERPRISE_URN:
                extension = attributes.setdefault(name, {})
                new = {part: inner for part, inner in value.items() if part not in extension}
                extension |= new
                value_sources |= {f"{name}:{part}": record.source_id for part in new}
            elif name not in attributes:
                attributes[name] = value
                value_sources[name] = record.source_id
    return MergedUser(
        attributes,
        value_sources,
        any(record.active for record in ranked) and not vetoed,
        all(record.gone for record in ranked),
    )


def _as_their_source_has_them(records: list[UserRecord]) -> list[UserRecord]:
    """Return records, those of a sign-in as active and as present as the same source has the user by its
    other connection types.
    """
    others: dict[str, list[UserRecord]] = {}
    for record in records:
        if record.connection_type != SIGN_IN:
            others.setdefault(record.source_id, []).append(record)

    def seen(record: UserRecord) -> UserRecord:
        same = others.get(record.source_id) if record.connection_type == SIGN_IN else None
        if not same or any(each.active for each in same):
            return record
        gone = all(each.gone for each in same)
        return replace(record, gone=record.gone or gone, data={**record.data, "active": False})

    return [seen(record) for record in records]

"""The manager of a user, as the source of the value names users (RFC 7643, section 4.3)."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlalchemy import Connection, exists, select, union

from dravo.core.identity.merging import ManagerReference, manager_reference
from dravo.core.identity.names import fold, user_name_key
from dravo.core.identity.records import IMPORT, INBOUND_SCIM, LOCAL, SIGN_IN
from dravo.store import tables as t
from dravo.store.queries.references import UserRef, user_ref

# Named, so that the indexes are used that begin with source and connection type.
_TYPES = (INBOUND_SCIM, IMPORT, SIGN_IN, LOCAL)


def manager_of(
    connection: Connection, attributes: Mapping[str, Any], value_sources: Mapping[str, str]
) -> UserRef | None:
    """Return the manager of a user; None if there is none, or if it is not certain who it is.

    Args:
        attributes: the attributes of the user.
        value_sources: by attribute, the ID of the source that gave it.
    """
    reference = manager_reference(attributes, value_sources)
    user_id = None if reference is None else resolve(connection, reference)
    if user_id is None:
        return None
    u = t.user.c
    return user_ref(
        connection.execute(select(u.id, u.display_name, u.user_name).where(u.id == user_id)).one()
    )


def resolve(connection: Connection, reference: ManagerReference) -> str | None:
    """Return the ID of the user whom a source means as a manager; None if it is not certain who it is.

    The value names a record of the same source: by ID, external ID, locator (such as a DN) or user name.
    Records of other sources are not looked at: an ID means something in its own source only. Of local users,
    the value is the ID of a user.
    """
    source_id, value = reference.source_id, reference.value
    r, u, s = t.record.c, t.user.c, t.source.c
    present = (
        r.source_id == source_id,
        r.deleted_at.is_(None),
        r.undecided.is_(False),
        r.user_id.is_not(None),
    )
    typed = (*present, r.connection_type.in_(_TYPES))
    found = union(
        select(r.user_id).where(*present, r.id == value),
        select(r.user_id).where(*typed, r.native_id == value),
        select(r.user_id).where(*typed, r.external_id == value),
        select(r.user_id).where(*present, r.reference.in_((value, fold(value)))),
        select(r.user_id).where(*typed, r.user_name_key == user_name_key(value)),
        # Local users name any user, by the ID that Dravo gave.
        select(u.id).where(u.id == value, exists().where(s.id == source_id, s.connection_type == LOCAL)),
    )
    users = connection.execute(found.limit(2)).scalars().all()
    return users[0] if len(users) == 1 else None

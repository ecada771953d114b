"""Whether an existing account of an application may be adopted by the email address of a user."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlalchemy import Connection

from dravo.core.identity.names import fold
from dravo.core.identity.records import LOCAL
from dravo.core.provisioning.accounts import scim_body
from dravo.core.provisioning.matching import EMAILS, values_of
from dravo.store.imports import matching as record_matching
from dravo.store.queries import users as user_queries
from dravo.store.queries.users import User
from dravo.store.sources import sources as source_rows


def is_own_email(connection: Connection, user_id: str, desired: Mapping[str, Any]) -> bool:
    """Return whether the email address that is sent for a user proves who the user is.

    A source can report any address for its users. So the address counts if the source owns its domain, or if
    an operator entered it for a local user. An address that an expression computed does not count.
    """
    row = user_queries.by_ids(connection, [user_id]).get(user_id)
    sent = values_of(scim_body(desired), EMAILS)[:1]
    if row is None or not sent or sent[0] not in values_of(row.attributes, EMAILS):
        return False
    return _is_proved(connection, row, sent[0])


def owns_email(connection: Connection, user_id: str, address: str) -> bool:
    """Return whether an email address that the user has proves who the user is: as `is_own_email`."""
    row = user_queries.by_ids(connection, [user_id]).get(user_id)
    return (
        row is not None
        and fold(address) in values_of(row.attributes, EMAILS)
        and _is_proved(connection, row, address)
    )


def _is_proved(connection: Connection, row: User, address: str) -> bool:
    if EMAILS not in row.value_sources:
        return False
    source = source_rows.by_id(connection, row.value_sources[EMAILS])
    if source.connection_type == LOCAL:
        return True
    owned = record_matching.domains(connection).get(source.id, frozenset())
    return fold(address.rpartition("@")[2]) in owned

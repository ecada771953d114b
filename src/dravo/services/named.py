"""Finds applications and sources by their keys, and says so where there is none."""

from __future__ import annotations

from typing import Any

from sqlalchemy import Connection, select

from dravo.core.errors import InvalidInput, NotFound
from dravo.core.records import LOCAL
from dravo.store import tables as t


def application_by_key(connection: Connection, key: str) -> Any:
    """Return an application's row.

    Raises:
        NotFound: if there is none of that key.
    """
    row = connection.execute(select(t.application).where(t.application.c.key == key)).first()
    if row is None:
        raise NotFound(f"There is no application with the key '{key}'.", "See the list of applications for the keys there are.")
    return row


def pushing_source(connection: Connection, key: str) -> Any:
    """Return the row of a source that calls our SCIM service.

    Raises:
        NotFound; InvalidInput: if it is the house's own.
    """
    row = source_by_key(connection, key)
    if row.channel == LOCAL:
        raise InvalidInput(f"'{row.label}' is what operators enter here; nobody else is connected to it.", "Add a source for another system.")
    return row


def source_by_key(connection: Connection, key: str, field: str | None = None) -> Any:
    """Return a source's row; `field` is the input that named it, if it was one of several.

    Raises:
        NotFound: if there is none of that key.
    """
    row = connection.execute(select(t.source).where(t.source.c.key == key)).first()
    if row is None:
        raise NotFound(f"There is no source with the key '{key}'.", "See the list of sources for the keys there are.", field)
    return row

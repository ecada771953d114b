"""The organization as a source: local users and groups belong to it.

It is created when it is first needed.
"""

from __future__ import annotations

from sqlalchemy import Connection

from dravo.core.identity.records import LOCAL
from dravo.services.context import AppContext
from dravo.store import clock
from dravo.store.ids import new_id
from dravo.store.snapshots.config import raise_revision
from dravo.store.sources import sources as source_rows

# Values of any source come before local values.
LAST = 1_000


def local_source_in(connection: Connection) -> str:
    """Return the ID of the organization's own source, which exists since the first local user or group."""
    found = source_rows.first_of_type(connection, LOCAL)
    if found is None:
        raise LookupError("there is no local user or group")
    return found


def local_source(ctx: AppContext) -> str:
    """Return the id of the organization's own source."""
    with ctx.database.reading() as connection:
        found = source_rows.first_of_type(connection, LOCAL)
    if found is not None:
        return found
    with ctx.database.writing() as connection:
        found = source_rows.first_of_type(connection, LOCAL)
        if found is None:
            found = new_id()
            taken = source_rows.keys_that_start_with(connection, LOCAL)
            key = next(
                each
                for number in range(len(taken) + 1)
                if (each := f"{LOCAL}-{number}" if number else LOCAL) not in taken
            )
            row = {
                "id": found,
                "key": key,
                "label": "Local",
                "connection_type": LOCAL,
                "priority": LAST,
                "created_at": clock.now(),
            }
            source_rows.insert_source(connection, row)
            raise_revision(connection)
    return found

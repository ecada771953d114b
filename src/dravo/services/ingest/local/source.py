"""The organization as a source: local users and groups belong to it.

It is created when it is first needed.
"""

from __future__ import annotations

from sqlalchemy import insert, select

from dravo.core.identity.records import LOCAL
from dravo.services.context import AppContext
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.ids import new_id
from dravo.store.snapshots.config import raise_revision

# Values of any source come before local values.
LAST = 1_000


def local_source(ctx: AppContext) -> str:
    """Return the id of the organization's own source."""
    s = t.source.c
    known = select(s.id).where(s.connection_type == LOCAL)
    with ctx.database.reading() as connection:
        found: str | None = connection.execute(known).scalar()
    if found is not None:
        return found
    with ctx.database.writing() as connection:
        found = connection.execute(known).scalar()
        if found is None:
            found = new_id()
            taken = set(connection.execute(select(s.key).where(s.key.startswith(LOCAL))).scalars())
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
            connection.execute(insert(t.source).values(**row))
            raise_revision(connection)
    return found

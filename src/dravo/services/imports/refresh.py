"""Refreshes one user from the directory of a source."""

from __future__ import annotations

from typing import Any

from sqlalchemy import select

from dravo.core.errors import AlreadyExists, InvalidInput, NotFound
from dravo.core.identity.names import fold
from dravo.protocols.directory.reader import is_made, made_entries
from dravo.services.context import AppContext
from dravo.services.imports import config as import_config
from dravo.services.imports.runs import one_run
from dravo.services.ingest.bulk_groups import BulkGroups
from dravo.services.ingest.bulk_users import BulkUsers
from dravo.services.ingest.run_log import IMPORT, is_under_way, note_counts, small_run
from dravo.services.security.audit_log import record_change
from dravo.services.security.permissions import Caller
from dravo.services.sources import policy as source_policies
from dravo.store import clock
from dravo.store import tables as t

# One person at once


def refresh(ctx: AppContext, caller: Caller, key: str, user_id: str) -> dict[str, Any]:
    """Read one person of a source anew, now.

    Raises:
        NotFound: if the source has said nothing of this person, or has them no more.
    """
    now = clock.now()
    r = t.record.c
    with ctx.database.reading() as connection:
        source, row = source_policies.import_of(connection, key)
        where = (r.source_id == source.id, r.connection_type == IMPORT, r.user_id == user_id, r.gone_at.is_(None))
        record = connection.execute(select(t.record).where(*where)).first()
        if is_under_way(connection, source.id):
            raise AlreadyExists(f"A run of '{source.label}' is under way.", "It brings everybody up to date; wait for its end.")
    if record is None:
        raise NotFound(f"'{source.label}' says nothing of this person.", "Choose a source that they are known by.")
    if not row.enabled:
        raise InvalidInput(f"'{source.label}' is in preparation.", "Put it in force first.", "source")
    policy = source_policies.import_policy(source, row.kind)
    reader = import_config.reader_of(ctx, source, row, policy)
    try:
        entry = reader.one(record.native_id)
        if entry is None:
            raise NotFound(f"'{source.label}' has them no more.", "They leave with the next run that reads everybody.")
        listed = reader.groups_of(entry)
    finally:
        reader.close()
    with small_run(ctx, source.id, caller.name) as run_id:
        people = BulkUsers(ctx, source, policy, run_id)
        people.take([entry])
        people.finish()
        groups = BulkGroups(ctx, people)
        made = made_entries({fold(name): (name, [entry.reference]) for name in policy.made_groups(entry.attributes)})
        if listed is not None or policy.makes_groups:
            groups.of_one(record.id, [*(listed or ()), *made], lambda native_id: listed is not None or is_made(native_id))
        note_counts(ctx, run_id, {"read": 1, **people.counts, **groups.counts})
    with ctx.database.writing() as connection:
        record_change(connection, ctx.keys, caller, "refreshed a person", "user", user_id, now, {"source": key})
    return one_run(ctx, run_id)

"""Refreshes one user from the directory of a source."""

from __future__ import annotations

from dravo.core.errors import AlreadyExists, InvalidInput, NotFound
from dravo.core.identity.names import fold
from dravo.protocols.directory.reader import is_made, made_entries
from dravo.services.context import AppContext
from dravo.services.imports import config as import_config
from dravo.services.imports.runs import ImportRun, one_run
from dravo.services.ingest.bulk_groups import BulkGroups
from dravo.services.ingest.bulk_users import BulkUsers
from dravo.services.ingest.run_log import note_counts, small_run
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.services.sources import policy as source_policies
from dravo.store import clock
from dravo.store.imports import records as imported_records
from dravo.store.queries import runs as run_queries

# Refresh of one user


def refresh(ctx: AppContext, caller: Caller, key: str, user_id: str) -> ImportRun:
    """Import one user of a source, now.

    Raises:
        NotFound: if the source never reported the user, or no longer does.
    """
    now = clock.now()
    with ctx.database.reading() as connection:
        source, row = source_policies.import_of(connection, key)
        record = imported_records.record_of_user(connection, source.id, user_id)
        if run_queries.is_open_for_source(connection, source.id):
            raise AlreadyExists(
                f"An import run of '{source.label}' is in progress.",
                "Wait for the run to end. It refreshes all users.",
            )
    if record is None:
        raise NotFound(
            f"'{source.label}' has no record of this user.", "Choose a source that has a record of the user."
        )
    if not row.enabled:
        raise InvalidInput(
            f"The import of '{source.label}' is disabled.", "Enable the import first.", "source"
        )
    policy = source_policies.import_policy(source, row.kind)
    reader = import_config.reader_of(ctx, source, row, policy)
    try:
        entry = reader.one(record.native_id)
        if entry is None:
            raise NotFound(
                f"'{source.label}' no longer reports this user.",
                "The user becomes a leaver at the next full run.",
            )
        listed = reader.groups_of(entry)
    finally:
        reader.close()
    with small_run(ctx, source.id, caller.name) as run_id:
        users = BulkUsers(ctx, source, policy, run_id)
        users.take([entry])
        users.finish()
        groups = BulkGroups(ctx, users)
        made = made_entries(
            {fold(name): (name, [entry.reference]) for name in policy.made_groups(entry.attributes)}
        )
        if listed is not None or policy.makes_groups:
            groups.of_one(
                record.id,
                [*(listed or ()), *made],
                lambda native_id: listed is not None or is_made(native_id),
            )
        note_counts(ctx, run_id, {"read": 1, **users.counts, **groups.counts})
    with ctx.database.writing() as connection:
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent("refreshed a user", "user", user_id, details={"source": key}),
        )
    return one_run(ctx, run_id)

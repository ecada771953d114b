"""Ingests users of a source whose policy decides: what it sends is stored, then the policy is applied."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from dravo.core.errors import NotFound, StalePreview
from dravo.core.identity.acceptance import CHANGE, DELETION, ERASED, PENDING, StoredStanding, standing
from dravo.core.identity.records import INBOUND_SCIM, UserRecord
from dravo.core.scim.resources import unique_values
from dravo.core.scim.versions import entity_tag
from dravo.services.ingest.attempts import IngestAttempts
from dravo.services.ingest.erasure import is_erased
from dravo.services.ingest.inbound.policy_application import PolicyApplication, note_of
from dravo.services.ingest.inbound.record_plans import PLAIN
from dravo.services.ingest.types import IngestChange, IngestOptions, IngestResult
from dravo.services.security.secrets import Keys
from dravo.store import clock, memberships, records
from dravo.store.database import Database
from dravo.store.imports import conflicts as stored_conflicts
from dravo.store.received import members
from dravo.store.received import records as received
from dravo.store.received.records import ReceivedRecord
from dravo.store.snapshots.config import ConfigCache, check_revision


class StoredUsers(IngestAttempts):
    """Stores the users of inbound SCIM, and applies the policy of their source."""

    def __init__(self, database: Database, catalogue: ConfigCache, keys: Keys | None = None) -> None:
        super().__init__(database, catalogue, INBOUND_SCIM, keys)
        self.policy = PolicyApplication(database, catalogue)

    def has(self, source_id: str, record_id: str) -> bool:
        """Whether a source has a record."""
        with self.database.reading() as connection:
            return received.record(connection, source_id, record_id) is not None

    def create(
        self, source_id: str, record_id: str, data: dict[str, Any], manner: IngestOptions
    ) -> IngestResult:
        """Store a new record with its ID, in one attempt."""
        now = clock.now()
        unique = unique_values(data, manner.shapes.user)
        catalogue = self.catalogue.latest(self.database)
        self._check_not_retired(catalogue, source_id)
        inbound = catalogue.inbound.get(source_id, PLAIN)
        erased = source_id in catalogue.erased and self._is_erased(source_id, data)
        before = StoredStanding(left_out=ERASED if erased else None)
        found = standing(inbound, catalogue.sources.get(source_id, ""), data, (), before)
        accepted = found.left_out is None
        change = IngestChange("user", record_id, None, data, catalogue=catalogue, note=note_of(found))
        write_trace = manner.prepare(change) if not accepted else lambda _: None
        with self.database.writing() as connection:
            check_revision(connection, catalogue.revision)
            record = UserRecord(record_id, source_id, INBOUND_SCIM, data, None)
            # An accepted record counts once the policy is applied, which follows at once.
            records.insert_record(connection, record, now, found.left_out or PENDING)
            if unique:
                records.claim(connection, record_id, source_id, unique)
            if accepted:
                received.mark(connection, source_id, [record_id], now)
            write_trace(connection)
        if accepted:
            self.policy.apply_one(source_id, record_id, None, data, manner)
        return IngestResult(record_id, data, 1, now, now)

    def _is_erased(self, source_id: str, data: dict[str, Any]) -> bool:
        if self.keys is None:
            return False
        with self.database.reading() as connection:
            return is_erased(connection, self.keys, source_id, data)

    def change(
        self,
        source_id: str,
        record_id: str,
        change: Callable[[dict[str, Any]], dict[str, Any]],
        manner: IngestOptions,
        *,
        gone: bool,
    ) -> IngestResult:
        """Store a changed or deleted record, in one attempt.

        Raises:
            NotFound: if the source has no such user.
        """
        now, shape = clock.now(), manner.shapes.user
        with self.database.reading() as connection:
            row = received.record(connection, source_id, record_id)
            if row is None:
                raise NotFound(f"This source has no user with the ID '{record_id}'.")
            listed = members.groups_of_records(connection, [record_id])[record_id]
        if manner.condition:
            manner.condition.check(entity_tag(row.version, listed))
        data = change(row.data)
        if data == row.data and not gone:
            return IngestResult(record_id, data, row.version, row.created_at, row.modified_at, listed)
        catalogue = self.catalogue.latest(self.database)
        waits = row.user_id is not None and (not gone or row.counts)
        with self.database.writing() as connection:
            check_revision(connection, catalogue.revision)
            if not received.store(
                connection, row, self._columns(row, data, gone=gone, waits=waits), data, now
            ):
                raise StalePreview("The record changed in the meantime.")
            if shape.unique and (gone or unique_values(data, shape) != unique_values(row.data, shape)):
                records.claim(connection, record_id, source_id, [] if gone else unique_values(data, shape))
            if gone and not waits:
                memberships.end_memberships_of_record(connection, record_id, now)
                stored_conflicts.end_conflicts(connection, source_id, "user", [record_id])
            received.mark(connection, source_id, [record_id], now)
        self.policy.apply_one(source_id, record_id, row.data, None if gone else data, manner)
        return IngestResult(record_id, data, row.version + 1, row.created_at, now, listed)

    def _columns(
        self, row: ReceivedRecord, data: dict[str, Any], *, gone: bool, waits: bool
    ) -> dict[str, Any]:
        """Return the columns by which a record is found, and those that keep the user in use for now."""
        name, external, email, emails = records.found_by(data)
        now = clock.now()
        columns: dict[str, Any] = {
            "user_name_key": name,
            "external_id": external,
            "email_key": email,
            "more_emails": emails,
            "deleted_at": now if gone else None,
        }
        if waits:
            columns |= {"in_use": row.user, "waiting": DELETION if gone else CHANGE}
        elif row.user_id is not None:
            columns |= {"in_use": row.user}
        return columns

"""Entries of a directory or file as records to plan."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

from dravo.core.identity.names import fold, lookalike_key
from dravo.core.identity.records import Searchable, searchable
from dravo.protocols.directory.reader import Entry
from dravo.store.imports.records import Known, NewRecord


@dataclass(frozen=True)
class ParsedEntry:
    """A parsed entry: the user that it describes, and the existing record, if any."""

    entry: Entry
    data: dict[str, Any]
    digest: str
    known: Known | None
    row: Any = None

    @cached_property
    def found(self) -> Searchable:
        """The values by which the record is found."""
        return searchable(self.data)

    @cached_property
    def keys(self) -> set[str]:
        """Values that must be unique in a batch: the user name, and for a new user the email address."""
        found = self.found
        email = {f"email:{fold(found.email)}"} if found.email and self.row is None else set()
        return {*(f"name:{name}" for name in self.names), *email}

    @cached_property
    def names(self) -> set[str]:
        """The user name as it is compared, and a name that looks the same."""
        return {self.found.user_name_key, lookalike_key(self.found.user_name) or self.found.user_name_key}

    @property
    def same(self) -> bool:
        """Whether the entry equals what was known."""
        return self.row is not None and self.row.deleted_at is None and self.row.data == self.data

    @cached_property
    def asks_for_name(self) -> bool:
        """Whether the entry takes a user name that its record did not have."""
        return (
            self.row is None
            or self.row.deleted_at is not None
            or self.row.user_name_key != self.found.user_name_key
        )

    def record(self, record_id: str, user_id: str) -> NewRecord:
        """Return the record as it is written."""
        version = self.row.version if self.row is not None else 0
        entry = self.entry
        return NewRecord(
            record_id,
            user_id,
            entry.native_id,
            entry.reference,
            self.digest,
            entry.attributes,
            self.data,
            version,
            self.found,
        )

"""Entries of directories and lines of files as conditions see them: any attribute, with texts as values."""

from __future__ import annotations

from functools import cached_property

from dravo.core.identity.names import fold
from dravo.core.scim.schemas import Attribute, ResourceType, Schema


class _AnyName(dict[str, Attribute]):
    """Attributes by name, created when they are first needed."""

    def get(self, name: str, default: Attribute | None = None) -> Attribute | None:  # type: ignore[override]
        key = fold(name)
        if key not in self:
            self[key] = Attribute(key, multi_valued=True)
        return self[key]


class EntryType(ResourceType):
    """The type of an entry: its attributes are whatever its source has."""

    @cached_property
    def by_name(self) -> dict[str, Attribute]:
        """All attributes that a condition names."""
        return _AnyName()


ENTRY_TYPE = EntryType(
    "Entry", "/", Schema("urn:dravo:entry", "Entry", "A record of a directory or file", ())
)

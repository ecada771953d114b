"""Applications and sources by ID, as rules and events name them."""

from __future__ import annotations

from collections.abc import Mapping

from sqlalchemy import Connection

from dravo.store.notifications import rules
from dravo.store.queries.references import KeyAndLabel


class SubjectNames:
    """Keys and labels of all applications and sources."""

    def __init__(self, connection: Connection) -> None:
        self.applications = _by_id(rules.applications(connection))
        self.sources = _by_id(rules.sources(connection))

    def application(self, application_id: str | None) -> KeyAndLabel | None:
        """Return an application; None for None, and for one that was deleted."""
        return self.applications.get(application_id or "")

    def source(self, source_id: str | None) -> KeyAndLabel | None:
        """Return a source; None for None, and for one that was deleted."""
        return self.sources.get(source_id or "")


def _by_id(rows: Mapping[str, tuple[str, str]]) -> dict[str, KeyAndLabel]:
    return {each: KeyAndLabel(*names) for each, names in rows.items()}

"""What one running process of the service holds: the records, the key, and what is kept in memory."""

from __future__ import annotations

from pathlib import Path

from dravo.services.secrets import Keys
from dravo.store.catalogue import CatalogueCache
from dravo.store.database import Database


class House:
    """One data folder, opened."""

    def __init__(self, folder: Path, readers: int = 8) -> None:
        folder.mkdir(parents=True, exist_ok=True)
        self.folder = folder
        self.database = Database(folder, readers)
        self.database.migrate()
        self.keys = Keys(folder)
        self.catalogue = CatalogueCache()
        # Raised whenever a push token is made or revoked, so that what is remembered of tokens is forgotten.
        self.doors = 0

    def close(self) -> None:
        """Close the records."""
        self.database.close()

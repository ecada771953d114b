"""What a process of the service works with: the records, the encryption key, and caches."""

from __future__ import annotations

from pathlib import Path

from dravo.core.scim.schemas import SchemaSet
from dravo.services import data_folder
from dravo.services.security.secrets import Keys
from dravo.store.database import FILE_NAME, Database
from dravo.store.queries import scim_requests
from dravo.store.snapshots.config import ConfigCache


class AppContext:
    """One data folder, opened."""

    def __init__(self, folder: Path, readers: int = 8, *, durable: bool = True) -> None:
        data_folder.secure(folder)
        self.folder = folder
        # The public address of the service, without a slash at its end; links in emails begin with it.
        self.public_url = ""
        new = not (folder / FILE_NAME).exists()
        # Before anything is written into a folder without its key.
        self.keys = Keys(folder, new=new)
        self.database = Database(folder, readers, durable=durable)
        self.database.migrate()
        self.catalogue = ConfigCache()
        self.traces = scim_requests.background_writer(self.database)
        # Raised whenever a SCIM token is created or revoked, so that cached tokens are read again.
        self.token_revision = 0
        # Schemas of sources, by source and its extension schemas.
        self.schemas: dict[tuple[str, tuple[str, ...]], SchemaSet] = {}

    def close(self) -> None:
        """Close the records, after writing what waits."""
        self.traces.close()
        self.database.close()

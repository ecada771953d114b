"""The uploaded CSV files of a source."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from dravo.core.instants import instant
from dravo.protocols.directory.csv_table import FILES
from dravo.services.context import AppContext

FOLDER = "files"


@dataclass
class ImportFile:
    """A file of a source."""

    name: str
    size: int
    changed_at: str


def folder_of(ctx: AppContext, source_id: str) -> Path:
    """Return the folder with the files of a source."""
    return ctx.folder / FOLDER / source_id


def files(ctx: AppContext, source_id: str) -> list[ImportFile]:
    """Return the uploaded files of a source: name, size and time."""
    folder = folder_of(ctx, source_id)
    found = []
    for name in FILES:
        file = folder / f"{name}.csv"
        if file.exists():
            stat = file.stat()
            found.append(
                ImportFile(
                    name=f"{name}.csv",
                    size=stat.st_size,
                    changed_at=instant(datetime.fromtimestamp(stat.st_mtime, UTC)),
                )
            )
    return found

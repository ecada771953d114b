"""The uploaded CSV files of a source."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from dravo.core.instants import instant
from dravo.protocols.directory.csv_files import FILES
from dravo.services.context import AppContext

FOLDER = "files"


def folder_of(ctx: AppContext, source_id: str) -> Path:
    """Return the folder with the files of a source."""
    return ctx.folder / FOLDER / source_id


def files(ctx: AppContext, source_id: str) -> list[dict[str, Any]]:
    """Return the uploaded files of a source: name, size and time."""
    folder = folder_of(ctx, source_id)
    found = []
    for name in FILES:
        file = folder / f"{name}.csv"
        if file.exists():
            stat = file.stat()
            found.append(
                {
                    "name": f"{name}.csv",
                    "size": stat.st_size,
                    "changed_at": instant(datetime.fromtimestamp(stat.st_mtime, UTC)),
                }
            )
    return found

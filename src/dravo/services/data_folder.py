"""Keeps the data folder private to the user that runs the service."""

from __future__ import annotations

import os
import stat
from pathlib import Path

import structlog

from dravo.core.errors import DravoError

# For files and folders that a command of Dravo creates.
PRIVATE_UMASK = 0o077

log = structlog.get_logger("data folder")


class FolderNotOwned(DravoError):
    """The data folder belongs to another user of the machine."""

    code = "folder_not_owned"


def secure(folder: Path) -> None:
    """Create a data folder, or withdraw other users' permissions on it and on the files directly in it.

    Links are not followed. Repaired files are one line in the log.

    Raises:
        FolderNotOwned: if the folder belongs to another user.
    """
    folder.mkdir(mode=0o700, parents=True, exist_ok=True)
    found = folder.stat()
    if found.st_uid != os.geteuid():
        raise FolderNotOwned(
            f"The data folder '{folder}' belongs to user ID {found.st_uid}, but Dravo runs as user ID "
            f"{os.geteuid()}.",
            "Run Dravo as the owner of the folder, or change the owner of the folder and its files.",
        )
    repaired = [path.name for path in (folder, *folder.iterdir()) if _close(path)]
    if repaired:
        log.warning(
            "withdrew other users' permissions on the data folder", folder=str(folder), files=repaired
        )


def _close(path: Path) -> bool:
    """Withdraw other users' permissions on one file or folder; return whether there were any."""
    found = path.lstat()
    mode = stat.S_IMODE(found.st_mode)
    if (
        not mode & PRIVATE_UMASK
        or not (stat.S_ISREG(found.st_mode) or stat.S_ISDIR(found.st_mode))
        or found.st_uid != os.geteuid()
    ):
        return False
    path.chmod(mode & ~PRIVATE_UMASK)
    return True

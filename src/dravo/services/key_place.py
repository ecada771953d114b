"""Where the key of an installation is; apart from `secrets`, so that asking costs no import of cryptography."""

from __future__ import annotations

import os
from pathlib import Path

KEY_FILE = "keys"
KEY_VARIABLE = "DRAVO_KEY"


def has_key(folder: Path) -> bool:
    """Return whether a data folder has its key, or the environment holds it."""
    return bool(os.environ.get(KEY_VARIABLE)) or (folder / KEY_FILE).exists()

"""`dravo source retire` and `dravo source restore`."""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.access.assignment import show_effects
from dravo.cli.output import command, show_json
from dravo.client import Dravo


def add_verbs(verbs: Any) -> None:
    """Add the commands to those of sources."""
    retire = command(
        verbs,
        "retire",
        _retire,
        "retire a source: its users become leavers unless other sources report them",
        [
            "dravo source retire volunteers --preview",
            'dravo source retire volunteers --confirm "Volunteers\' register"',
        ],
    )
    retire.add_argument("key", help="key of the source")
    retire.add_argument("--preview", action="store_true", help="show what would change, and change nothing")
    retire.add_argument("--confirm", metavar="LABEL", help="label of the source; required")
    restore = command(
        verbs,
        "restore",
        _restore,
        "restore a retired source with its users, groups and memberships",
        ["dravo source restore volunteers"],
    )
    restore.add_argument("key", help="key of the source")


def _retire(given: argparse.Namespace, dravo: Dravo) -> None:
    if given.preview:
        show_effects(given, dravo.sources.preview_retiring(given.key))
        return
    done = dravo.sources.retire(given.key, confirm=given.confirm)
    if given.json:
        show_json(done)
        return
    print(f"Retired '{done['key']}', which reported {done['users']:,} users.")


def _restore(given: argparse.Namespace, dravo: Dravo) -> None:
    done = dravo.sources.restore(given.key)
    if given.json:
        show_json(done)
        return
    print(
        f"Restored '{done['key']}' with {done['users']:,} users. Create a token, or enable its import or "
        "sign-in again."
    )

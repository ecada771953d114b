"""`dravo source retire`, `restore`, `hand-over` and `undo-hand-over`."""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.access.assignment import show_effects
from dravo.cli.output import command, facts, moment, show_json, table
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
    moved = command(
        verbs,
        "hand-over",
        _hand_over,
        "hand the users of a source over to another source, first those of a pilot group",
        [
            "dravo source hand-over contractors staff --preview",
            "dravo source hand-over contractors staff --group Electricians --confirm Contractors",
            "dravo source hand-over contractors staff --confirm Contractors",
        ],
    )
    moved.add_argument("key", help="key of the old source")
    moved.add_argument("to", help="key of the new source")
    moved.add_argument(
        "--group", help="pilot group, by name or ID (default: all users, and the old source is retired)"
    )
    moved.add_argument("--preview", action="store_true", help="show what would change, and change nothing")
    moved.add_argument("--confirm", metavar="LABEL", help="label of the old source; required")
    state = command(verbs, "hand-over-state", _hand_over_state, "show the last hand-over of a source")
    state.add_argument("key", help="key of the old source")
    undone = command(
        verbs,
        "undo-hand-over",
        _undo_hand_over,
        "take a hand-over back: the old source counts again",
        ["dravo source undo-hand-over contractors"],
    )
    undone.add_argument("key", help="key of the old source")


def _retire(given: argparse.Namespace, dravo: Dravo) -> None:
    if given.preview:
        show_effects(given, dravo.sources.preview_retiring(given.key))
        return
    done = dravo.sources.retire(given.key, confirm=given.confirm)
    if given.json:
        show_json(done)
        return
    print(f"Retired '{done['key']}', which reported {done['users']:,} users.")


_OUTCOMES = {
    "matched": "reported by both sources",
    "linked": "linked to a record of the new source",
    "unmatched": "no record at the new source: leaves",
    "matched_twice": "matches several records: decide first",
}


def _hand_over(given: argparse.Namespace, dravo: Dravo) -> None:
    if not given.preview:
        _show_state(given, dravo.sources.hand_over(given.key, given.to, given.group, confirm=given.confirm))
        return
    impact = dravo.sources.preview_hand_over(given.key, given.to, given.group)
    if given.json:
        show_json(impact)
        return
    table(
        {"User": lambda row: row["name"], "Outcome": lambda row: _OUTCOMES[row["outcome"]]}, impact["users"]
    )
    if impact["groups"]:
        print()
        table(
            {
                "Group": lambda row: row["name"],
                "Same name at the new source": lambda row: "yes" if row["counterpart"] else "no",
                "Assignments": lambda row: row["assignments"],
            },
            impact["groups"],
        )
    print()
    show_effects(given, impact["effects"])


def _undo_hand_over(given: argparse.Namespace, dravo: Dravo) -> None:
    _show_state(given, dravo.sources.undo_hand_over(given.key))


def _show_state(given: argparse.Namespace, found: Any) -> None:
    if given.json:
        show_json(found)
        return
    facts(
        {
            "New source": found["to"],
            "Status": found["status"],
            "Users": f"{found['users']:,}",
            "Changed (UTC)": f"{moment(found['changed_at'])} by {found['changed_by']}",
        }
    )


def _restore(given: argparse.Namespace, dravo: Dravo) -> None:
    done = dravo.sources.restore(given.key)
    if given.json:
        show_json(done)
        return
    print(
        f"Restored '{done['key']}' with {done['users']:,} users. Create a token, or enable its import or "
        "sign-in again."
    )


def _hand_over_state(given: argparse.Namespace, dravo: Dravo) -> None:
    state = dravo.sources.hand_over_state(given.key)
    if given.json:
        show_json(state)
        return
    facts(
        {
            "Status": state["status"],
            "To": state["to"],
            "Users": state["users"],
            "Started (UTC)": moment(state["started_at"]),
            "Changed (UTC)": moment(state["changed_at"]),
            "By": state["changed_by"],
        }
    )

"""`dravo task`: provisioning tasks."""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.errors import FAILED
from dravo.cli.output import command, facts, noun, show_json
from dravo.client import Dravo


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "task", "provisioning tasks")
    summary = command(
        verbs,
        "summary",
        _summary,
        "count what is pending, and wait until nothing is",
        ["dravo task summary", "dravo task summary --application plant-records --wait 120"],
    )
    summary.add_argument("--application", metavar="KEY", help="count one application (default: all)")
    summary.add_argument(
        "--wait", type=_seconds, default=0.0, metavar="SECONDS", help="wait until nothing is pending; exit code 1 if something still is (default 0)"
    )


def _seconds(text: str) -> float:
    """Return a number of seconds.

    Raises:
        ArgumentTypeError: if it is none, or negative.
    """
    try:
        seconds = float(text)
    except ValueError:
        seconds = -1.0
    if not 0 <= seconds < float("inf"):
        raise argparse.ArgumentTypeError(f"'{text}' is not a number of seconds; write for example 60")
    return seconds


def _summary(given: argparse.Namespace, dravo: Dravo) -> int:
    summary = dravo.provisioning.summary(given.application, wait=given.wait)
    if given.json:
        show_json(summary)
    else:
        facts(
            {
                "Users being recomputed": summary["recomputing"],
                "Waiting": summary["waiting"],
                "Stopped": f"{summary['stopped']} (their application is disabled, not connected or paused)" if summary["stopped"] else 0,
                "Failed": summary["failed"],
                "Held": summary["held"],
                "Unresolved": summary["unresolved"],
            }
        )
        print("Nothing is pending." if summary["settled"] else "Provisioning is still pending.")
    return FAILED if given.wait and not summary["settled"] else 0

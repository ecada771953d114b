"""`dravo application set-status`: disabled, pilot group, enabled, or enabled from a later time."""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.access.assignment import show_effects
from dravo.cli.applications.application_settings import show_application
from dravo.cli.output import command
from dravo.client import Dravo


def add_set_status(verbs: Any) -> None:
    """Add the command to those of applications."""
    parser = command(
        verbs,
        "set-status",
        _set_status,
        "disable provisioning, enable it for a pilot group, or enable it for everyone",
        [
            "dravo application set-status plant-records pilot --pilot-group Herbarium --preview",
            "dravo application set-status plant-records enabled",
            "dravo application set-status plant-records disabled --enabled-from 2031-04-02T06:00:00Z",
        ],
    )
    parser.add_argument("key", help="key of the application")
    parser.add_argument("status", choices=("disabled", "pilot", "enabled"), help="new status")
    parser.add_argument(
        "--pilot-group",
        metavar="GROUP",
        help="group whose members alone are provisioned in a pilot: ID, external ID or complete name "
        "(default: the present pilot group)",
    )
    parser.add_argument("--source", metavar="KEY", help="source of the pilot group")
    parser.add_argument(
        "--enabled-from", metavar="TIME", help="time at which a disabled application is enabled for everyone"
    )
    parser.add_argument("--preview", action="store_true", help="show what would change, and change nothing")


def _set_status(given: argparse.Namespace, dravo: Dravo) -> None:
    wish = {"pilot_group": given.pilot_group, "source": given.source, "enabled_from": given.enabled_from}
    if given.preview:
        show_effects(given, dravo.applications.preview_status(given.key, given.status, **wish))
        return
    show_application(given, dravo.applications.set_status(given.key, given.status, **wish))

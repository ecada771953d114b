"""Ingests one user or group of a source at a time."""

from __future__ import annotations

from dravo.services.ingest.group_intake import GroupIntake
from dravo.services.ingest.user_intake import UserIntake


class Intake(UserIntake, GroupIntake):
    """Ingests what one connection type of a source reports about its users and groups."""

"""Limits on removals: how many go without approval, and when an operator types a name to confirm."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlalchemy import Connection

from dravo.core.errors import DravoError
from dravo.core.provisioning.removal_limit import Limits
from dravo.services import settings
from dravo.store.queries import access as access_queries


class NeedsConfirmation(DravoError):
    """A serious change: the label of the application has to be typed."""

    code = "needs_confirmation"
    status = 409


def limits(values: Mapping[str, Any]) -> Limits:
    """Return the removal limits from the settings."""
    return Limits(
        values["removal_limit_number"], values["removal_limit_percent"], values["removal_limit_minimum"]
    )


def check_confirmed(label: str, confirmed: str | None) -> None:
    """Check that the label of an application was typed.

    Raises:
        NeedsConfirmation.
    """
    if confirmed != label:
        raise NeedsConfirmation(
            "This change needs a confirmation.",
            f"Type the name of the application, '{label}', to confirm.",
            "confirm",
        )


def confirmation_reason(connection: Connection, application_id: str, taken: int, top_gained: int) -> str:
    """Return why a change needs a confirmation, or "".

    Args:
        application_id: the application.
        taken: how many users lose access there.
        top_gained: how many users get the highest role there.
    """
    if not taken and not top_gained:
        return ""
    values = settings.read(connection)
    allowed = limits(values).allowed(access_queries.number_of_users(connection, application_id))
    if taken > allowed:
        return f"This change removes access from {taken:,} users. More than {allowed:,} need a confirmation."
    least = values["highest_role_confirmation"]
    if top_gained >= least:
        if top_gained == 1:
            return "This change gives the highest role to 1 more user, which needs a confirmation."
        needs = "This needs" if least == 1 else f"From {least:,} users on, this needs"
        return f"This change gives the highest role to {top_gained:,} more users. {needs} a confirmation."
    return ""

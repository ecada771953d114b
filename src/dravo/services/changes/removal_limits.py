"""Limits on removals: how many go without approval, and when an operator types a name to confirm."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlalchemy import Connection, func, select, true, union

from dravo.core.errors import DravoError
from dravo.core.provisioning.removal_limit import Limits
from dravo.services import settings
from dravo.store import tables as t


class NeedsConfirmation(DravoError):
    """A serious change: the label of the application has to be typed."""

    code = "needs_confirmation"
    status = 409


def limits(values: Mapping[str, Any]) -> Limits:
    """Return the removal limits from the settings."""
    return Limits(
        values["removal_limit_number"], values["removal_limit_percent"], values["removal_limit_minimum"]
    )


def present_in(connection: Connection, application_id: str) -> int:
    """Return how many users an application has, including those who are losing access; former users do not
    count.
    """
    d, x = t.task.c, t.access.c
    having = select(x.user_id).where(x.application_id == application_id, x.until_at.is_(None))
    losing = select(d.user_id).where(
        d.application_id == application_id, d.removes == true(), d.closed_at.is_(None)
    )
    return int(
        connection.execute(select(func.count()).select_from(union(having, losing).subquery())).scalar_one()
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
    allowed = limits(values).allowed(present_in(connection, application_id))
    if taken > allowed:
        return f"This change removes access from {taken:,} users. More than {allowed:,} need a confirmation."
    most = values["highest_role_limit"]
    if top_gained > most:
        return (
            f"This change gives the highest role to {top_gained:,} more users. More than {most:,} "
            "need a confirmation."
        )
    return ""

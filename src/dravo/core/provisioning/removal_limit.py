"""Removal limits: removals above a number or a share wait for an operator.

A removal takes something from a user in an application: a role, the active status, or the account.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from dravo.core.provisioning.accounts import ABSENT, PRESENT, role_keys


@dataclass(frozen=True)
class Limits:
    """How many removals need no approval within the time window.

    Attributes:
        number: the largest number, however many users there are.
        share: the largest percentage of the users.
        least: a number that never needs approval: among few users each leaver is a large share.
    """

    number: int
    share: int
    least: int

    def allowed(self, population: int) -> int:
        """Return how many removals need no approval among a number of accounts or users."""
        return max(self.least, min(self.number, population * self.share // 100))


def takes_away(had: Mapping[str, Any] | None, due: Mapping[str, Any]) -> bool:
    """Whether bringing an account to its desired state takes something from the user.

    Args:
        had: the state that was applied last; None for a new account.
        due: as `desired_account` returns it.
    """
    if had is None or had["want"] != PRESENT:
        return False
    if due["want"] == ABSENT:
        return True
    if due["want"] != PRESENT:
        return False
    if had["active"] and not due["active"]:
        return True
    # Another value of the same role takes nothing away.
    return bool({*role_keys(had)} - {*role_keys(due)})

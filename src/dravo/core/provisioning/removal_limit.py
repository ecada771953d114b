"""How much may be removed at once: removals beyond a number or a share wait for an operator.

A removal is what takes something from a user in an application: a role, the activity of an account, or the
account itself.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from dravo.core.provisioning.accounts import ABSENT, PRESENT


@dataclass(frozen=True)
class Limits:
    """How many removals go by themselves in a rolling window.

    Attributes:
        number: so many at the most, however large the population is.
        share: so many in a hundred of the population at the most.
        least: so many always go: in a small population each leaver is a large share.
    """

    number: int
    share: int
    least: int

    def allowed(self, population: int) -> int:
        """Return how many removals may go among so many accounts or users."""
        return max(self.least, min(self.number, population * self.share // 100))


def takes_away(had: Mapping[str, Any] | None, due: Mapping[str, Any]) -> bool:
    """Whether bringing an account to what is due takes something from the user.

    Args:
        had: what was last agreed to stand in the application, as it was due then; None if nothing ever was.
        due: as `due_account` makes it.
    """
    if had is None or had["want"] != PRESENT:
        return False
    if due["want"] == ABSENT:
        return True
    if due["want"] != PRESENT:
        return False
    if had["active"] and not due["active"]:
        return True
    return bool({role["value"] for role in had["roles"]} - {role["value"] for role in due["roles"]})

"""Marks of operators: a user is inactive or has left, whatever the sources report."""

from __future__ import annotations

from dataclasses import dataclass, replace

from dravo.core.identity.merging import MergedUser
from dravo.core.instants import Instant

INACTIVE, LEFT = "inactive", "left"
STATUSES = (INACTIVE, LEFT)


@dataclass(frozen=True)
class UserMark:
    """A mark of a user.

    Attributes:
        status: "inactive" or "left".
        from_at: the time from which the mark applies.
    """

    status: str
    from_at: Instant

    def applies(self, now: Instant) -> bool:
        """Whether the mark applies already."""
        return self.from_at <= now


def apply_mark(user: MergedUser, mark: UserMark | None, now: Instant) -> MergedUser:
    """Return a user as the mark has it; it wins over all sources."""
    if mark is None or not mark.applies(now):
        return user
    return replace(user, active=False, gone=user.gone or mark.status == LEFT)

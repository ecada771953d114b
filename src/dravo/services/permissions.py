"""Who may do what: each operation names one permission, each kind of operator has some."""

from __future__ import annotations

from dataclasses import dataclass

from dravo.core.errors import NotPermitted

CHIEF, ADMINISTRATOR = "chief", "administrator"
KINDS = (CHIEF, ADMINISTRATOR)

READ = frozenset({"sources.read", "people.read", "applications.read", "access.read", "deliveries.read", "audit.read", "activity.read", "own.read"})
CHANGE = frozenset(
    {"sources.change", "applications.change", "assignments.change", "deliveries.change", "own.change", "settings.change", "guard.release"}
)
RUN = frozenset({"operators.read", "operators.change"})
PERMISSIONS = READ | CHANGE | RUN

_OF_KIND = {CHIEF: READ | CHANGE | RUN, ADMINISTRATOR: READ | CHANGE}


@dataclass(frozen=True)
class Caller:
    """Who is asking: an operator, by a session or by one of their tokens (`scope` "read" or "write")."""

    operator_id: str
    name: str
    kind: str
    scope: str = "write"
    session: str | None = None

    @property
    def permissions(self) -> frozenset[str]:
        """What the caller may do: never more than the operator, and only reading with a token for reading."""
        of_kind = _OF_KIND.get(self.kind, frozenset())
        if self.scope == "read":
            return frozenset(each for each in of_kind if each.endswith(".read"))
        return of_kind

    def require(self, permission: str) -> None:
        """Make sure that the caller has a permission.

        Raises:
            NotPermitted: if not.
        """
        if permission not in self.permissions:
            reason = "with a token for reading only" if self.scope == "read" else f"as {self.kind}"
            raise NotPermitted(f"This needs the permission '{permission}', which you do not have {reason}.", "Ask a chief operator.")

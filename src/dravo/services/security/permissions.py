"""Permissions: each operation names one, and each kind of operator has some. Application owners have theirs
for their own applications only.
"""

from __future__ import annotations

from dataclasses import dataclass

from dravo.core.errors import NotPermitted
from dravo.core.instants import Instant

SUPER_ADMINISTRATOR, ADMINISTRATOR, HELP_DESK, AUDITOR, OWNER = (
    "super_administrator",
    "administrator",
    "help_desk",
    "auditor",
    "application_owner",
)
KINDS = (SUPER_ADMINISTRATOR, ADMINISTRATOR, HELP_DESK, AUDITOR, OWNER)

OWN = frozenset({"own.read", "own.change"})
# Needed to see user attributes beyond names and user names, and to search and ask by them; operators with
# masked attributes or names do not have it.
ATTRIBUTES = "attributes.read"
# Events and messages name users and contain their addresses, so that masked operators do not see them.
NOTIFICATIONS = "notifications.read"
REQUESTS, SIGN_INS, AUDIT = "requests.read", "sign_ins.read", "audit.read"
# What the view of an operator can leave out, with the permission that each area needs.
AREAS = {"requests": REQUESTS, "sign_ins": SIGN_INS, "audit": AUDIT}
READ = frozenset(
    {
        "sources.read",
        REQUESTS,
        SIGN_INS,
        "users.read",
        ATTRIBUTES,
        "applications.read",
        "access.read",
        "tasks.read",
        AUDIT,
        "activity.read",
        NOTIFICATIONS,
    }
)
CHANGE = frozenset(
    {
        "sources.change",
        "users.change",
        "groups.change",
        "applications.change",
        "assignments.change",
        "tasks.change",
        "tasks.retry",
        "reviews.change",
        "settings.change",
        "notifications.change",
        "holds.approve",
        # To mark accounts as done that operators manage by hand.
        "accounts.change",
        # For the token of an application with its own sign-in form.
        "passwords.check",
    }
)
RUN = frozenset({"operators.read", "operators.change"})
PERMISSIONS = READ | CHANGE | RUN | OWN

_OF_KIND = {
    SUPER_ADMINISTRATOR: PERMISSIONS,
    ADMINISTRATOR: PERMISSIONS - RUN,
    HELP_DESK: OWN | READ - {AUDIT, NOTIFICATIONS} | {"tasks.retry"},
    AUDITOR: OWN | READ,
    OWNER: OWN
    | {
        "applications.read",
        "users.read",
        "access.read",
        "tasks.read",
        "activity.read",
        "assignments.change",
        "accounts.change",
    },
}


@dataclass(frozen=True)
class Caller:
    """The operator who calls, by a session or by an API token (`scope` "read" or "write").

    Attributes:
        applications: keys of the applications of an application owner; None for all applications.
        masked, masked_names, masked_networks: whether attributes of users, their names, or network addresses
            are hidden from the operator.
        hidden_areas: what the operator's view leaves out, of `AREAS`.
        unfinished: whether the operator must set up a second factor first.
        token_id, token_ends: the API token in use and its expiry; None with a session.
        limited_to: the permissions of the token; None for no limit.
    """

    operator_id: str
    name: str
    kind: str
    scope: str = "write"
    session: str | None = None
    applications: frozenset[str] | None = None
    masked: bool = False
    masked_names: bool = False
    masked_networks: bool = False
    hidden_areas: frozenset[str] = frozenset()
    unfinished: bool = False
    token_id: str | None = None
    token_ends: Instant | None = None
    limited_to: frozenset[str] | None = None

    @property
    def permissions(self) -> frozenset[str]:
        """The permissions of the caller: those of the operator, and only reading with a token of scope
        "read".
        """
        of_kind = _OF_KIND.get(self.kind, frozenset())
        if self.masked or self.masked_names:
            of_kind = of_kind - {ATTRIBUTES, NOTIFICATIONS, "notifications.change"}
        of_kind = of_kind - {AREAS[each] for each in self.hidden_areas}
        if self.limited_to is not None:
            of_kind = of_kind & self.limited_to
        if self.scope == "read":
            return frozenset(each for each in of_kind if each.endswith(".read"))
        return of_kind

    def require(self, permission: str) -> None:
        """Check that the caller has a permission.

        Raises:
            NotPermitted.
        """
        if permission not in self.permissions:
            raise NotPermitted(
                f"This needs the permission '{permission}', which you do not have "
                f"{self._why(permission)}.{self._limit_of_view(permission)}",
                "Ask a super administrator for access.",
            )

    def _limit_of_view(self, permission: str) -> str:
        of_names = permission in (ATTRIBUTES, NOTIFICATIONS, "notifications.change")
        if (self.masked or self.masked_names) and of_names:
            return f" {'User attributes' if self.masked else 'Names of users'} are masked for you."
        hidden = any(AREAS[each] == permission for each in self.hidden_areas)
        return " This area is hidden from you." if hidden else ""

    def _why(self, permission: str) -> str:
        if self.limited_to is not None and permission not in self.limited_to:
            return "with a token that is limited to other permissions"
        return "with a read-only token" if self.scope == "read" else f"as {self.kind}"

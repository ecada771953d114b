"""Source records: what a source reported about one user, unchanged, with the values that are searched and
shown.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from dravo.core.identity.names import fold, user_name_key

# The connection type of local users and groups.
LOCAL = "local"
# Users and groups that scheduled imports report.
IMPORT = "import"
# The connection type of records from sign-ins.
SIGN_IN = "sign_in"
# The connection type of records that a source sends.
INBOUND_SCIM = "inbound_scim"


@dataclass(frozen=True)
class UserRecord:
    """What one source last reported about one user.

    Attributes:
        id: the ID of the record; for inbound SCIM also of the resource.
        source_id: the source.
        connection_type: "inbound_scim", "import", "sign_in" or "local".
        data: the SCIM User, with names as in the schema.
        user_id: the linked user, or None.
        gone: whether the source deleted the record.
        undecided: whether an operator has to decide first if the record belongs to an existing user; until
            then it gives no access.
    """

    id: str
    source_id: str
    connection_type: str
    data: Mapping[str, Any]
    user_id: str | None
    gone: bool = False
    undecided: bool = False

    @property
    def active(self) -> bool:
        """Whether the source reports the user as active; the default is yes (RFC 7643, section 4.1.1, leaves
        it open).
        """
        return not self.gone and self.data.get("active", True) is not False


@dataclass(frozen=True)
class Searchable:
    """The values by which a record or user is found and listed, folded for comparing."""

    user_name: str
    user_name_key: str
    external_id: str | None
    display_name: str
    email: str | None
    emails: tuple[str, ...] = ()


def searchable(data: Mapping[str, Any]) -> Searchable:
    """Return the values by which a SCIM User is found."""
    user_name = str(data.get("userName", ""))
    given = data.get("emails") or ()
    emails = (
        tuple(dict.fromkeys([fold(str(each["value"])) for each in given if each.get("value")]))
        if given
        else ()
    )
    return Searchable(
        user_name,
        user_name_key(user_name),
        data.get("externalId"),
        display_name(data),
        primary_email(data),
        emails,
    )


def display_name(data: Mapping[str, Any]) -> str:
    """Return the displayed name: displayName, else the formatted name, else given and family name, else
    userName.
    """
    name = data.get("name") or {}
    parts = " ".join(part for part in (name.get("givenName"), name.get("familyName")) if part)
    return str(data.get("displayName") or name.get("formatted") or parts or data.get("userName", ""))


def primary_email(data: Mapping[str, Any]) -> str | None:
    """Return the primary email address, else the first one, else None."""
    emails = [element for element in data.get("emails") or [] if element.get("value")]
    primary = next((element for element in emails if element.get("primary")), emails[0] if emails else None)
    return str(primary["value"]) if primary else None


def changes(before: Mapping[str, Any], after: Mapping[str, Any]) -> dict[str, list[Any]]:
    """Return the differences of two SCIM Users: for each attribute its value before and after."""
    found: dict[str, list[Any]] = {}
    for name in dict.fromkeys((*before, *after)):
        one, other = before.get(name), after.get(name)
        if one == other:
            continue
        if name.startswith("urn:"):
            found.update({f"{name}:{part}": pair for part, pair in changes(one or {}, other or {}).items()})
        else:
            found[name] = [one, other]
    return found

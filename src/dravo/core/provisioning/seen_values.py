"""Roles, entitlements and groups that an application has, collected from its accounts and groups."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import asdict, dataclass
from typing import Any

ROLES, ENTITLEMENTS, GROUPS = "roles", "entitlements", "groups"
ATTRIBUTES = (ROLES, ENTITLEMENTS, GROUPS)
# Maximum number of values of one attribute. An attribute with more of them does not carry roles.
MOST = 500
LONGEST = 500


@dataclass(frozen=True)
class SeenValue:
    """A value that an application has.

    Attributes:
        attribute: "roles", "entitlements" or "groups".
        value: the value, or the name of the group.
        label: its display name, or "".
        accounts: the number of accounts that were seen with it; of a group, its number of members.
    """

    attribute: str
    value: str
    label: str
    accounts: int

    def document(self) -> dict[str, Any]:
        """Return the value as it is stored."""
        return asdict(self)


def collect(accounts: Iterable[Mapping[str, Any]], groups: Iterable[Mapping[str, Any]]) -> list[SeenValue]:
    """Return the values of accounts, and the names of groups, the most frequent first.

    Args:
        accounts, groups: SCIM resources of the application; what is not as in RFC 7643 is skipped.
    """
    numbers: dict[tuple[str, str], int] = {}
    labels: dict[tuple[str, str], str] = {}
    for account in accounts:
        for attribute in (ROLES, ENTITLEMENTS):
            held: set[str] = set()
            for value, label in _values(account.get(attribute)):
                held.add(value)
                labels[attribute, value] = labels.get((attribute, value)) or label
            for value in held:
                numbers[attribute, value] = numbers.get((attribute, value), 0) + 1
    for group in groups:
        name, members = group.get("displayName"), group.get("members")
        if isinstance(name, str) and 0 < len(name) <= LONGEST:
            numbers[GROUPS, name] = len(members) if isinstance(members, list) else 0
            labels[GROUPS, name] = ""
    found = [
        SeenValue(attribute, value, labels[attribute, value], number)
        for (attribute, value), number in numbers.items()
    ]
    found.sort(key=lambda each: (ATTRIBUTES.index(each.attribute), -each.accounts, each.value))
    return [
        each
        for attribute in ATTRIBUTES
        for each in [one for one in found if one.attribute == attribute][:MOST]
    ]


def _values(given: Any) -> Iterable[tuple[str, str]]:
    """Return (value, display name) of a multi-valued attribute, of objects or of plain texts."""
    for each in given if isinstance(given, list) else [given]:
        value, label = each, None
        if isinstance(each, Mapping):
            value, label = each.get("value"), each.get("display")
        if isinstance(value, str) and 0 < len(value) <= LONGEST:
            yield value, label[:LONGEST] if isinstance(label, str) else ""


def read(stored: Sequence[Mapping[str, Any]] | None) -> list[SeenValue]:
    """Return stored values."""
    return [SeenValue(**each) for each in stored or ()]

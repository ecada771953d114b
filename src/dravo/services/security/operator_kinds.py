"""What an operator may be: kinds, what is masked, hidden areas, applications and an address."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from dravo.core.errors import InvalidInput
from dravo.protocols.smtp import check_address
from dravo.services.security.permissions import (
    ADMINISTRATOR,
    AREAS,
    AUDITOR,
    HELP_DESK,
    KINDS,
    OWNER,
    SUPER_ADMINISTRATOR,
)

# The kinds whose view can be limited, and those that can own an application.
LIMITED_VIEWS = (HELP_DESK, AUDITOR)
# What can be masked, each by itself.
MASKED = {"masked": "Attributes", "masked_names": "Names", "masked_networks": "Network addresses"}
OWNERS = (SUPER_ADMINISTRATOR, ADMINISTRATOR, OWNER)


@dataclass(frozen=True)
class NewOperator:
    """An operator to create.

    Attributes:
        name: the operator's name, unique in any letter case.
        kind: one of `KINDS`.
        applications: the keys of the applications of an application owner.
        masked, masked_names, masked_networks: whether users' attributes, their names, or network addresses
            are masked; for help desk and auditors.
        hidden_areas: what the operator's view leaves out, of `AREAS`; for help desk and auditors.
        email: the address for notices, or "".
    """

    name: str
    kind: str
    applications: Sequence[str] = ()
    masked: bool = False
    masked_names: bool = False
    masked_networks: bool = False
    hidden_areas: Sequence[str] = ()
    email: str = ""


@dataclass(frozen=True)
class OperatorEdit:
    """Changes to an operator, as in `NewOperator`; None keeps a value, and an empty email deletes it."""

    name: str | None = None
    kind: str | None = None
    applications: Sequence[str] | None = None
    masked: bool | None = None
    masked_names: bool | None = None
    masked_networks: bool | None = None
    hidden_areas: Sequence[str] | None = None
    email: str | None = None


def check_view(operator: NewOperator) -> None:
    """Check that what an operator sees fits the kind.

    Raises:
        InvalidInput.
    """
    kind = operator.kind
    if kind not in KINDS:
        raise InvalidInput(
            f"'{kind}' is not a valid kind of operator.", f"Use one of: {', '.join(KINDS)}.", "kind"
        )
    if operator.applications and kind != OWNER:
        raise InvalidInput(
            "Only an application owner has applications.",
            "Leave `applications` empty, or choose the kind application_owner.",
            "applications",
        )
    for name, what in MASKED.items():
        if getattr(operator, name) and kind not in LIMITED_VIEWS:
            raise InvalidInput(
                f"{what} cannot be masked for the kind {kind}.",
                f"Use `{name}` with help_desk or auditor.",
                name,
            )
    if operator.hidden_areas and kind not in LIMITED_VIEWS:
        raise InvalidInput(
            f"Areas cannot be hidden from the kind {kind}.",
            "Use `hidden_areas` with help_desk or auditor.",
            "hidden_areas",
        )


def checked_areas(given: Sequence[str]) -> list[str] | None:
    """Return hidden areas, each once; None for none.

    Raises:
        InvalidInput.
    """
    for each in given:
        if each not in AREAS:
            raise InvalidInput(
                f"'{each}' is not an area that can be hidden.", f"Use: {', '.join(AREAS)}.", "hidden_areas"
            )
    return [each for each in AREAS if each in given] or None


def checked_address(given: str) -> str | None:
    """Return an address for notices; None for an empty one.

    Raises:
        InvalidInput.
    """
    return check_address(given.strip(), "email") if given.strip() else None

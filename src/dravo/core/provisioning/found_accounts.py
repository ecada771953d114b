"""Accounts that a reconciliation found in an application and that belong to no user: what a policy does with
them.

A policy never gives the highest role of an application, and never creates a user who would get more than the
role of the account: an administrator of that application could hand it out otherwise. What it cannot do, it
leaves to operators, with the reason.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from dravo.core.provisioning.matching import EMAILS, USER_NAME, values_of

WAIT, ADOPT, CREATE_USERS, IGNORE = "wait", "adopt", "create_users", "ignore"
POLICIES = (WAIT, ADOPT, CREATE_USERS, IGNORE)

LINK, ASSIGN, CREATE, LEAVE = "link", "assign_and_link", "create_user", "leave"


@dataclass(frozen=True)
class Candidate:
    """A user whom an account may belong to.

    Attributes:
        user_id: the ID of the user.
        name: the name of the user, for operators.
        active: whether the user is active.
        has_access: whether the user should have an active account in the application.
        linked: whether the user has another account there.
        own_email: whether the email address proves who the user is.
    """

    user_id: str
    name: str
    active: bool
    has_access: bool
    linked: bool
    own_email: bool


@dataclass(frozen=True)
class FoundAccount:
    """What is done with a found account.

    Attributes:
        action: `LINK`, `ASSIGN` (give the user the role of the account, then link), `CREATE` or `LEAVE`.
        user: the user to link, or None.
        message, hint: why it is left to operators.
    """

    action: str
    user: Candidate | None = None
    message: str = ""
    hint: str = ""


@dataclass(frozen=True)
class Matches:
    """The users who match an account, by one attribute."""

    attribute: str
    users: Sequence[Candidate] = ()


def decide(there: Mapping[str, Any], matches: Iterable[Matches], *, may_create: bool) -> FoundAccount:
    """Return what is done with a found account.

    Args:
        there: the account as the application lists it.
        matches: by each attribute of the setting, the users who match.
        may_create: whether a user is created where none matches.
    """
    if there.get("active") is False:
        return _left("The account is inactive.", "Activate it in the application, or ignore it.")
    if there.get("externalId"):
        return _left(
            "The account has another external ID.",
            "Another system manages it. Remove the external ID in the application, or ignore it.",
        )
    found: dict[str, Candidate] = {}
    for each in matches:
        for user in each.users:
            if each.attribute != EMAILS or user.own_email:
                found[user.user_id] = user
    if not found:
        if may_create:
            return FoundAccount(CREATE)
        return _left("No user matches the account.", "Link it to a user, create a user for it, or ignore it.")
    if len(found) > 1:
        names = ", ".join(sorted(each.name for each in found.values())[:5])
        return _left(f"Several users match the account: {names}.", "Link it to one of these users.")
    (user,) = found.values()
    if not user.active:
        return _left(
            f"{user.name} is inactive.", "Remove the account in the application, or ignore it.", user
        )
    if user.linked:
        return _left(
            f"{user.name} has another account in the application.",
            "A user can have one account. Delete one of the two in the application.",
            user,
        )
    return FoundAccount(LINK if user.has_access else ASSIGN, user)


def _left(message: str, hint: str, user: Candidate | None = None) -> FoundAccount:
    return FoundAccount(LEAVE, user, message, hint)


def searched(there: Mapping[str, Any], adopt_by: Sequence[str]) -> dict[str, list[str]]:
    """Return the texts by which the user of an account is found, by attribute: without a setting, its user
    name.
    """
    return {each: texts for each in adopt_by or (USER_NAME,) if (texts := values_of(there, each))}

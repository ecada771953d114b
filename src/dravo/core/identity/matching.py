"""Decides to which user a record belongs: linked permanently by (source, connection type, ID); the first link
by the source's match rule, if that is safe.

No record becomes another user by a name or an email address: what is not safe waits for an operator.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from dravo.core.identity.names import fold, lookalike_key
from dravo.core.identity.records import searchable
from dravo.core.identity.source_policy import ASK, BY_EMAIL, SourcePolicy

OPERATOR, LEAVER, TWO_RECORDS, NAME_KNOWN, EMAIL_KNOWN, RENAMED, GROUP_NAME, LOOKS_ALIKE = (
    "operator",
    "leaver",
    "two_records",
    "name_known",
    "email_known",
    "renamed",
    "group_name",
    "lookalike",
)


@dataclass(frozen=True)
class Binding:
    """The user of a record; `new` for a user who is created now."""

    user_id: str
    new: bool


@dataclass(frozen=True)
class Candidate:
    """A user with the user name or the email address of an unlinked record.

    Attributes:
        user_id: the ID of the user.
        user_name_key: the folded user name.
        email: the email address.
        gone: whether the user has left.
        operator: whether an operator has one of these names.
        here: whether the same source has a record of the user: of this connection type (True) or another one
            (False); None without one.
        name_counts, email_counts: whether the user name or the email is good for matching: this source, an
            operator, or a source that owns the domain reported it.
    """

    user_id: str
    user_name_key: str
    email: str | None
    gone: bool = False
    operator: bool = False
    here: bool | None = None
    name_counts: bool = False
    email_counts: bool = False


@dataclass(frozen=True)
class Conflict:
    """Why a record cannot be linked, or changed, without an operator's decision; and the users concerned."""

    kind: str
    candidates: tuple[str, ...]
    message: str


def bind(bound_to: str | None, new_user_id: str) -> Binding:
    """Return the user of a record that needs no match rule: the linked user, else a new one.

    Args:
        bound_to: the user to which (source, connection type, ID) is linked, or None.
        new_user_id: the ID for a new user.
    """
    if bound_to is not None:
        return Binding(bound_to, new=False)
    return Binding(new_user_id, new=True)


def match(
    data: Mapping[str, Any], candidates: Sequence[Candidate], policy: SourcePolicy, new_user_id: str
) -> Binding | Conflict:
    """Return the user of an unlinked record.

    Args:
        data: the SCIM User of the record.
        candidates: all users with its user name, a user name that looks the same, or its email address.
        policy: the source policy.
        new_user_id: the ID for a new user.
    """
    if not candidates:
        return Binding(new_user_id, new=True)
    found = searchable(data)
    ids = tuple(each.user_id for each in candidates)
    named = [each for each in candidates if each.user_name_key == found.user_name_key]
    first = (named or candidates)[0]
    if any(each.operator for each in candidates):
        return Conflict(
            OPERATOR,
            ids,
            f"An operator has the user name '{found.user_name}'. Dravo never links records to "
            "operators automatically.",
        )
    if (alike := lookalike_key(found.user_name)) and any(each.user_name_key == alike for each in candidates):
        return Conflict(
            LOOKS_ALIKE, ids, f"The user name '{found.user_name}' looks like that of another user."
        )
    if first.gone:
        what = f"the user name '{found.user_name}'" if named else f"the email address '{found.email}'"
        return Conflict(
            LEAVER, ids, f"A leaver had {what}. The new user does not inherit the leaver's access."
        )
    if first.here:
        return Conflict(
            TWO_RECORDS,
            ids,
            f"Another record of this source already matches the same user by {_by(named, found)}.",
        )
    if len(candidates) == 1 and _is_safe(first, found.email, named, policy):
        return Binding(first.user_id, new=False)
    unsure = (
        ""
        if len(candidates) > 1 or first.email_counts
        else " No source that owns the email domain has confirmed it."
    )
    if named:
        return Conflict(
            NAME_KNOWN, ids, f"Another user already has the user name '{found.user_name}'.{unsure}"
        )
    return Conflict(EMAIL_KNOWN, ids, f"Another user already has the email address '{found.email}'.{unsure}")


def _by(named: Sequence[Candidate], found: Any) -> str:
    return f"the user name '{found.user_name}'" if named else f"the email address '{found.email}'"


def _is_safe(
    candidate: Candidate, email: str | None, named: Sequence[Candidate], policy: SourcePolicy
) -> bool:
    """Whether a record may be linked to its only candidate."""
    if candidate.here is False and named:
        # The same source reports both through two connection types, with one user name.
        return True
    # Otherwise another source could set a new user's email on one of its own users and take over the new
    # user's access.
    if policy.match == ASK or not policy.owns(candidate.email) or not candidate.email_counts:
        return False
    if policy.match == BY_EMAIL:
        return email is not None and candidate.email is not None and fold(email) == fold(candidate.email)
    return bool(named) and candidate.name_counts and (email is None or policy.owns(email))

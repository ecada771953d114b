"""Accounts that operators manage by hand, because their application is tracked only: what is to be done to an
account, and how a list of the application's accounts differs from the desired ones.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from dravo.core.errors import InvalidInput, did_you_mean
from dravo.core.identity.names import fold
from dravo.core.provisioning.accounts import ABSENT, PRESENT

CREATE, CHANGE, DEACTIVATE, DELETE = "create", "change", "deactivate", "delete"
ACTIONS = (CREATE, CHANGE, DEACTIVATE, DELETE)

SAME, MISSING, UNEXPECTED, ROLES, STATUS = "same", "missing", "unexpected", "roles", "status"
KINDS = (MISSING, UNEXPECTED, ROLES, STATUS, SAME)

# The headings of a list of accounts, by the column that they mean.
HEADINGS: Mapping[str, tuple[str, ...]] = {
    "user_name": (
        "user name",
        "username",
        "user_name",
        "login",
        "login name",
        "account",
        "user id",
        "userid",
    ),
    "email": ("email", "e-mail", "mail", "email address", "e-mail address", "emails"),
    "roles": ("roles", "role", "permission", "permissions", "profile", "profiles"),
    "active": ("active", "status", "state", "enabled"),
}
INACTIVE_WORDS = frozenset({"no", "false", "0", "inactive", "disabled", "deactivated", "locked", "suspended"})


def action_of(last: Mapping[str, Any] | None, desired: Mapping[str, Any]) -> str | None:
    """Return what an operator has to do to an account; None for nothing.

    Args:
        last: the state that the account was last known to have, None for no account.
        desired: the state to reach, as `desired_account` returns it.
    """
    exists = last is not None and last["want"] == PRESENT
    if desired["want"] == ABSENT:
        return DELETE if exists else None
    if desired["want"] != PRESENT or (last is not None and exists and same_account(last, desired)):
        return None
    if not exists or last is None:
        return CREATE if desired["active"] else None
    return DEACTIVATE if last["active"] and not desired["active"] else CHANGE


def same_account(one: Mapping[str, Any], other: Mapping[str, Any]) -> bool:
    """Return whether two states are the same for an operator, who enters no external ID."""
    return all(
        _entered(one).get(name) == _entered(other).get(name) for name in ("active", "roles", "user", "plan")
    )


def _entered(state: Mapping[str, Any]) -> dict[str, Any]:
    user = {name: value for name, value in state.get("user", {}).items() if name != "externalId"}
    return {**state, "user": user}


@dataclass(frozen=True)
class DesiredAccount:
    """An account as it should be in the application, for the comparison with its list.

    Attributes:
        account_id: the ID of the account here.
        user: the name of the user, for operators.
        user_name, email: as the application may list them.
        roles: by the key of each role, the texts by which the application may name it.
        labels: the labels of the roles, for operators.
        active: whether the account should be active.
    """

    account_id: str
    user: str
    user_name: str
    email: str
    roles: Mapping[str, frozenset[str]]
    labels: str
    active: bool


@dataclass(frozen=True)
class ListedAccount:
    """A line of the application's list; `roles` and `active` are None if the list does not have them."""

    line: int
    user_name: str
    email: str
    roles: tuple[str, ...] | None
    active: bool | None


@dataclass(frozen=True)
class Comparison:
    """One account in both lists or in one of them.

    Attributes:
        kind: one of `KINDS`.
        account_id: the ID of the account here, or None.
        line: the line of the list, or None.
        name: the name of the user, or the user name in the list.
        desired, listed: the roles or the activity in both, in words.
    """

    kind: str
    account_id: str | None
    line: int | None
    name: str
    desired: str
    listed: str


def read_columns(headings: Sequence[str], named: Mapping[str, str]) -> dict[str, str]:
    """Return the heading of each known column.

    Args:
        headings: the first line of the list, folded.
        named: for a column of `HEADINGS` the heading that an operator chose.

    Raises:
        InvalidInput: for an unknown heading, or a list without user names and email addresses.
    """
    found: dict[str, str] = {}
    for column, usual in HEADINGS.items():
        if named.get(column, "").strip():
            wanted = fold(named[column].strip())
            if wanted not in headings:
                raise InvalidInput(
                    f"The list has no column '{named[column]}'.", did_you_mean(wanted, headings), "columns"
                )
            found[column] = wanted
        elif (heading := next((each for each in usual if each in headings), None)) is not None:
            found[column] = heading
    if not found.keys() & {"user_name", "email"}:
        raise InvalidInput(
            "The list has no column with user names or email addresses.",
            f"Name the column. The columns of the list are: {', '.join(headings)}.",
            "columns",
        )
    return found


def read_listed(
    rows: Iterable[tuple[int, Mapping[str, str]]], columns: Mapping[str, str]
) -> list[ListedAccount]:
    """Return the accounts of a list; lines without a user name and email address are left out.

    Args:
        rows: (line number, cells by heading), without empty cells.
        columns: as `read_columns` returns them.
    """
    found = []
    for number, cells in rows:
        user_name, email = (cells.get(columns.get(each, ""), "") for each in ("user_name", "email"))
        if not user_name and not email:
            continue
        roles = tuple(_roles_of(cells.get(columns["roles"], ""))) if "roles" in columns else None
        status = cells.get(columns["active"]) if "active" in columns else None
        active = None if status is None else fold(status) not in INACTIVE_WORDS
        found.append(ListedAccount(number, user_name, email, roles, active))
    return found


def _roles_of(cell: str) -> Iterable[str]:
    sign = next((each for each in (";", "|", ",") if each in cell), None)
    return (each.strip() for each in (cell.split(sign) if sign else [cell]) if each.strip())


def compare_lists(desired: Sequence[DesiredAccount], listed: Sequence[ListedAccount]) -> list[Comparison]:
    """Return how the application's list differs from the desired accounts, each account once.

    An account is found by its user name; one without a match, by an email address that only one account has.
    """
    by_name: dict[str, DesiredAccount] = {}
    by_email: dict[str, DesiredAccount | None] = {}
    for each in desired:
        by_name.setdefault(fold(each.user_name), each)
        if each.email:
            email = fold(each.email)
            by_email[email] = None if email in by_email else each
    found: list[Comparison] = []
    seen: set[str] = set()
    for line in listed:
        # Email addresses are sometimes listed as user names.
        candidates = (
            by_name.get(fold(line.user_name)),
            by_email.get(fold(line.email)) if line.email else None,
            by_email.get(fold(line.user_name)) if line.user_name else None,
            by_name.get(fold(line.email)) if line.email else None,
        )
        account = next((each for each in candidates if each and each.account_id not in seen), None)
        if account is None:
            if line.active is not False:
                roles = ", ".join(line.roles or ())
                found.append(
                    Comparison(UNEXPECTED, None, line.line, line.user_name or line.email, "no account", roles)
                )
            continue
        seen.add(account.account_id)
        found.append(_compared(account, line))
    for each in desired:
        if each.account_id not in seen and each.active:
            found.append(Comparison(MISSING, each.account_id, None, each.user, each.labels, "no account"))
    return sorted(found, key=lambda each: (KINDS.index(each.kind), fold(each.name), each.line or 0))


def _compared(account: DesiredAccount, line: ListedAccount) -> Comparison:
    def result(kind: str, desired: str, listed: str) -> Comparison:
        return Comparison(kind, account.account_id, line.line, account.user, desired, listed)

    if not account.active:
        # Without a column for the status, each listed account counts as active.
        if line.active is not False:
            return result(STATUS, "inactive", "active")
        return result(SAME, "inactive", "inactive")
    if line.active is False:
        return result(STATUS, "active", "inactive")
    if line.roles is None:
        return result(SAME, account.labels, "")
    given = {fold(each) for each in line.roles}
    known = {fold(text) for texts in account.roles.values() for text in texts}
    agrees = given <= known and all(
        any(fold(text) in given for text in texts) for texts in account.roles.values()
    )
    return result(SAME if agrees else ROLES, account.labels, ", ".join(line.roles))

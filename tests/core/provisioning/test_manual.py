"""Accounts that are managed by hand: what is to be done, and lists of an application's accounts."""

from __future__ import annotations

from typing import Any

import pytest

from dravo.core.errors import InvalidInput
from dravo.core.provisioning.manual import (
    DesiredAccount,
    action_of,
    compare_lists,
    read_columns,
    read_listed,
)


def state(*roles: str, active: bool = True, **user: Any) -> dict[str, Any]:
    """Return a state of an account."""
    return {
        "want": "present",
        "active": active,
        "roles": [{"value": role, "display": role.title()} for role in roles],
        "user": {"userName": "ada", "externalId": "1", **user},
    }


ABSENT = {"want": "absent"}


@pytest.mark.parametrize(
    ("last", "desired", "action"),
    [
        (None, state("clerk"), "create"),
        (ABSENT, state("clerk"), "create"),
        (None, state(active=False), None),
        (None, ABSENT, None),
        (state("clerk"), ABSENT, "delete"),
        (ABSENT, ABSENT, None),
        (state("clerk"), state(active=False), "deactivate"),
        (state(active=False), state("clerk"), "change"),
        (state("clerk"), state("head"), "change"),
        (state("clerk"), state("clerk", title="Botanist"), "change"),
        (state("clerk"), state("clerk", externalId="2"), None),
        (state("clerk"), {"want": "as it is"}, None),
    ],
)
def test_the_action_follows_from_the_last_and_the_desired_state(
    last: dict[str, Any] | None, desired: dict[str, Any], action: str | None
) -> None:
    assert action_of(last, desired) == action


def account(user_name: str, *roles: str, active: bool = True, email: str | None = None) -> DesiredAccount:
    texts = {role: frozenset({role, f"ROLE_{role.upper()}"}) for role in roles}
    email = f"{user_name}@fernhollow.example" if email is None else email
    return DesiredAccount(user_name, user_name.title(), user_name, email, texts, ", ".join(roles), active)


def listed(*lines: dict[str, str]) -> list[Any]:
    headings = ["login", "mail", "role", "status"]
    return read_listed(enumerate(lines, 2), read_columns(headings, {}))


def compared(desired: list[DesiredAccount], *lines: dict[str, str]) -> list[tuple[str, str, str, str]]:
    found = compare_lists(desired, listed(*lines))
    return [(each.kind, each.name, each.desired, each.listed) for each in found]


def test_each_account_is_compared_once_by_user_name_or_email() -> None:
    desired = [
        account("ada", "clerk"),
        account("bob", "clerk", "head"),
        account("cai", "clerk"),
        account("dee", active=False),
        account("eli", active=False),
        account("fay", "clerk"),
    ]
    assert compared(
        desired,
        {"login": "ADA", "role": "ROLE_CLERK", "status": "active"},
        {"login": "bob@fernhollow.example", "role": "clerk", "status": "yes"},
        {"login": "x17", "mail": "Cai@Fernhollow.example", "role": "Clerk; head"},
        {"login": "dee", "role": "", "status": "locked"},
        {"login": "eli", "role": "", "status": "active"},
        {"login": "zoe", "role": "head", "status": "active"},
        {"login": "former", "role": "head", "status": "Disabled"},
        {"role": "head"},
    ) == [
        ("missing", "Fay", "clerk", "no account"),
        ("unexpected", "zoe", "no account", "head"),
        ("roles", "Bob", "clerk, head", "clerk"),
        ("roles", "Cai", "clerk", "Clerk, head"),
        ("status", "Eli", "inactive", "active"),
        ("same", "Ada", "clerk", "ROLE_CLERK"),
        ("same", "Dee", "inactive", "inactive"),
    ]


def test_an_email_of_two_users_identifies_neither() -> None:
    desired = [
        account("ada", "clerk", email="desk@fernhollow.example"),
        account("bob", email="desk@fernhollow.example"),
    ]
    kinds = [kind for kind, *_ in compared(desired, {"login": "desk@fernhollow.example", "role": "clerk"})]
    assert kinds == ["missing", "missing", "unexpected"]


def test_without_a_column_for_roles_only_the_accounts_are_compared() -> None:
    columns = read_columns(["user name"], {})
    found = compare_lists([account("ada", "clerk")], read_listed([(2, {"user name": "ada"})], columns))
    assert [(each.kind, each.listed) for each in found] == [("same", "")]


def test_columns_are_found_by_usual_names_or_named() -> None:
    assert read_columns(["id", "e-mail", "profile"], {}) == {"email": "e-mail", "roles": "profile"}
    assert read_columns(["kennung", "rolle"], {"user_name": "Kennung", "roles": "ROLLE"}) == {
        "user_name": "kennung",
        "roles": "rolle",
    }


@pytest.mark.parametrize(
    ("headings", "named", "words", "hint"),
    [
        (["id", "since"], {}, "no column with user names", "id, since"),
        (["login"], {"roles": "rolse"}, "no column 'rolse'", "Use one of: login."),
        (["login", "roles"], {"roles": "rolse"}, "no column 'rolse'", "Did you mean 'roles'?"),
    ],
)
def test_a_list_that_names_no_user_is_refused(
    headings: list[str], named: dict[str, str], words: str, hint: str
) -> None:
    with pytest.raises(InvalidInput, match=words) as told:
        read_columns(headings, named)
    assert hint in told.value.hint

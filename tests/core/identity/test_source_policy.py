"""What a source's answers make of what it says."""

from __future__ import annotations

import unicodedata
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dravo.core.errors import InvalidInput
from dravo.core.expressions import ENTRY, SCIM_USER, ExpressionError, compile_expression
from dravo.core.identity.merging import merge
from dravo.core.identity.names import fold
from dravo.core.identity.policy_reading import read_policy
from dravo.core.identity.records import UserRecord, changes
from dravo.core.identity.source_policy import GroupChoice, Refused, SourcePolicy
from dravo.core.scim.resources import read_resource
from dravo.core.scim.schemas import ENTERPRISE_URN, USER

ROWS = (
    ("userName", "uid then first"),
    ("displayName", "cn"),
    ("name.familyName", "sn"),
    ('emails[type eq "work"].value', "mail"),
    (f"{ENTERPRISE_URN}:department", "ou"),
    ("active", 'false when [employeeType eq "left"] else true'),
)
ENTRY_OF_UNA = {
    "uid": ["una", "u.kerrigan"],
    "cn": ["Una Kerrigan"],
    "sn": ["Kerrigan"],
    "mail": ["una@fernhollow.example"],
    "ou": ["Estates"],
}


def document(**more: Any) -> dict[str, Any]:
    rows = more.pop("rows", ROWS)
    return {"attributes": [{"attribute": attribute, "expression": text} for attribute, text in rows], **more}


def test_an_entry_becomes_a_user_as_a_pushed_one_is() -> None:
    user = read_policy(document(), ENTRY).user(ENTRY_OF_UNA)
    assert user == {
        "userName": "una",
        "displayName": "Una Kerrigan",
        "name": {"familyName": "Kerrigan"},
        "active": True,
        "emails": [{"type": "work", "value": "una@fernhollow.example"}],
        ENTERPRISE_URN: {"department": "Estates"},
    }
    assert read_resource(user, USER) == user
    assert read_policy(document(), ENTRY).user({**ENTRY_OF_UNA, "employeetype": ["LEFT"]})["active"] is False


def test_missing_values_are_omitted_and_a_missing_user_name_refused() -> None:
    policy = read_policy(document(), ENTRY)
    assert policy.user({"uid": ["una"]}) == {"userName": "una", "active": True}
    for entry in ({}, {"uid": []}, {"uid": [""]}):
        with pytest.raises(Refused, match="user name"):
            policy.user(entry)


@pytest.mark.parametrize(
    ("value", "told"), [("x" * 70_000, "longer"), ("a\x00b", "' contains invalid characters")]
)
def test_values_other_than_text_are_refused(value: str, told: str) -> None:
    for rows in (ROWS, ROWS[:2]):
        with pytest.raises(Refused, match=told):
            read_policy(document(rows=rows), ENTRY).user({**ENTRY_OF_UNA, "cn": [value]})


@given(
    st.dictionaries(
        st.sampled_from(["uid", "cn", "sn", "mail", "ou", "employeetype"]),
        st.lists(st.text(max_size=20), max_size=3),
    )
)
def test_the_quick_and_the_checked_path_agree(entry: dict[str, list[str]]) -> None:
    texts = SourcePolicy(attributes=ROWS[:5])
    try:
        quick = texts.user(entry)
    except Refused:
        return
    assert read_resource(quick, USER) == quick


def test_scope_is_checked_on_the_mapped_user() -> None:
    policy = read_policy(document(users='department eq "Estates"'), ENTRY)
    assert policy.lets_in(policy.user(ENTRY_OF_UNA), "estates")
    assert not policy.lets_in(policy.user({**ENTRY_OF_UNA, "ou": ["Herbarium"]}), "estates")


@pytest.mark.parametrize(
    ("given_", "field", "told"),
    [
        ({"match": "guess"}, "match", "' is not a valid value for '"),
        ({"match": "email"}, "domains", "domains"),
        ({"domains": ["fernhollow"]}, "domains", "not a domain"),
        ({"domains": ["a@b.example"]}, "domains", "not a domain"),
        ({"users": "title eq"}, "users", "The scope is invalid:"),
        (
            {"users": 'groups.value eq "x"'},
            "users",
            "The scope cannot use groups, because users are read before groups.",
        ),
        ({"groups": {"which": "named"}}, "groups", "The list of groups is empty."),
        ({"groups": {"which": "pattern", "pattern": "("}}, "groups", "The pattern is invalid:"),
        ({"groups": {"which": "pattern", "pattern": ""}}, "groups", "empty"),
        ({"groups": {"which": "some"}}, "groups", "' is not a valid value for '"),
        ({"rows": (("displayName", "cn"),)}, "attributes", "The expression for userName is missing"),
        ({"rows": (*ROWS, ("USERNAME", "cn"))}, "attributes", "has two expressions"),
        ({"rows": (("userName", "uid then"),)}, "attributes", "The expression is invalid"),
        ({"rows": (("userName", "uid"), ("groups", "cn"))}, "attribute", "cannot have an expression"),
        ({"rows": (("userName", "uid"), ("password", "cn"))}, "attribute", "cannot have an expression"),
    ],
)
def test_invalid_policies_are_explained_with_their_field(
    given_: dict[str, Any], field: str, told: str
) -> None:
    with pytest.raises(InvalidInput, match=told) as wrong:
        read_policy(document(**given_), ENTRY)
    assert wrong.value.field == field


def test_answers_are_kept_as_they_were_read() -> None:
    given_ = document(
        match="email",
        domains=["Fernhollow.Example "],
        users="title pr",
        groups={"which": "named", "names": ["A", "A", " b "]},
        pilot="A",
    )
    policy = read_policy(given_, ENTRY)
    assert policy.domains == ("fernhollow.example",) and policy.groups.names == ("A", "b")
    assert read_policy(policy.document(), ENTRY) == policy
    assert policy.digest != read_policy({**policy.document(), "users": ""}, ENTRY).digest


def test_accepted_groups_are_selected() -> None:
    assert GroupChoice().takes("Anything") and not GroupChoice("none").takes("Anything")
    named = GroupChoice("named", ("Tree Surgeons", "7C1E"))
    assert named.takes("tree surgeons") and named.takes("Other", "7c1e") and not named.takes("Tree")
    pattern = GroupChoice("pattern", pattern="^Tree")
    assert pattern.takes("Trees") and not pattern.takes("Old Trees")


def test_expressions_over_entries_know_names_of_any_kind_in_any_letter_case() -> None:
    entry = {
        "givenname": ["Ada"],
        "first name": ["Ada"],
        "mail": ["a@x.example", "b@x.example"],
        "x-rank": ["3"],
    }
    for text, result in (
        ("GIVENNAME", "Ada"),
        ('attribute "First Name" then upper', "ADA"),
        ("mail", ["a@x.example", "b@x.example"]),
        ("mail then last", "b@x.example"),
        ("x-rank then as number", 3),
        ("\"{givenName}-{attribute 'x-rank'}\"", "Ada-3"),
        ("nothing", None),
        ('"staff" when [mail ew "b@x.example"]', "staff"),
        ('"staff" when [not (mail pr)]', None),
    ):
        assert compile_expression(text, ENTRY).result(entry) == result, text
    assert compile_expression('attribute "First Name"', ENTRY).uses == {"first name"}
    for text, told in (
        ('mail[type eq "work"]', "The attribute of an entry has no sub-attributes."),
        ('attribute ""', "missing"),
        ("mail then nowhere", "The expression is invalid"),
    ):
        with pytest.raises(ExpressionError, match=told):
            compile_expression(text, ENTRY)
    with pytest.raises(ExpressionError, match="directories and files"):
        compile_expression('attribute "x"', SCIM_USER)


def record(source: str, active: bool = True, gone: bool = False, **data: Any) -> UserRecord:
    return UserRecord(
        f"{source}-record", source, "import", {"userName": "una", "active": active, **data}, "u", gone
    )


def test_whose_word_counts() -> None:
    staff, estates = record("staff", title="Lead"), record("estates", title="Tree surgeon", nickName="U")
    order = {"staff": 1, "estates": 2}
    merged = merge([estates, staff], order)
    assert (merged.attributes["title"], merged.attributes["nickName"], merged.value_sources["nickName"]) == (
        "Lead",
        "U",
        "estates",
    )
    assert merge([estates, staff], {"staff": 2, "estates": 1}).attributes["title"] == "Tree surgeon"
    # Quiet: it says nothing of somebody whom another source knows, and all of those whom it alone knows.
    assert "nickName" not in merge([estates, staff], order, quiet=frozenset({"estates"})).attributes
    assert merge([estates], order, quiet=frozenset({"estates"})).attributes["nickName"] == "U"
    # A deactivation wins: its inactive counts, and so does that it has them no more.
    away = record("estates", active=False)
    assert (
        merge([away, staff], order).active
        and not merge([away, staff], order, vetoing=frozenset({"estates"})).active
    )
    left = record("estates", gone=True)
    assert not merge([left, staff], order, vetoing=frozenset({"estates"})).active
    assert merge([left, staff], order, vetoing=frozenset({"staff"})).active


def test_differences_between_users_are_listed_by_attribute() -> None:
    before = {
        "userName": "una",
        "title": "Gardener",
        ENTERPRISE_URN: {"department": "Estates", "employeeNumber": "7"},
    }
    after = {
        "userName": "una",
        "nickName": "U",
        ENTERPRISE_URN: {"department": "Herbarium", "employeeNumber": "7"},
    }
    assert changes(before, after) == {
        "title": ["Gardener", None],
        f"{ENTERPRISE_URN}:department": ["Estates", "Herbarium"],
        "nickName": [None, "U"],
    }
    assert changes(before, before) == {}


@given(st.text(st.characters(codec="ascii"), max_size=30), st.text(max_size=30))
def test_folding_is_the_same_for_ascii_as_for_all(plain: str, any_text: str) -> None:
    # ASCII takes a shorter way, which must give what the whole way gives.
    assert fold(plain) == fold(plain.upper()) == unicodedata.normalize("NFC", plain).casefold()
    assert fold(fold(any_text)) == fold(any_text)
    assert fold(unicodedata.normalize("NFD", any_text)) == fold(unicodedata.normalize("NFC", any_text))


def test_groups_from_values_and_source_are_listed_once() -> None:
    policy = read_policy(
        document(groups_from=["ou", '"Site {l}"', "roles"], gives=["Estates users", "estates"]), ENTRY
    )
    entry = {**ENTRY_OF_UNA, "roles": ["Night watch", " estates users ", "Night watch", ""]}
    assert policy.made_groups(entry) == ["Estates users", "estates", "Night watch"]
    assert policy.makes_groups and {"ou", "l", "roles"} <= policy.uses
    assert read_policy(policy.document(), ENTRY) == policy
    assert not read_policy(document(), ENTRY).makes_groups


@pytest.mark.parametrize(
    ("given_", "at"), [({"groups_from": ["ou then"]}, "groups_from"), ({"gives": ["x" * 201]}, "gives")]
)
def test_groups_that_cannot_be_created_are_reported(given_: dict[str, Any], at: str) -> None:
    with pytest.raises(InvalidInput) as told:
        read_policy(document(**given_), ENTRY)
    assert told.value.field == at and told.value.hint

from __future__ import annotations

from typing import Any

from dravo.core.identity.matching import Binding, bind
from dravo.core.identity.merging import merge
from dravo.core.identity.names import fold
from dravo.core.identity.records import UserRecord, display_name, primary_email
from dravo.core.scim.schemas import ENTERPRISE_URN


def record(source: str, gone: bool = False, **data: Any) -> UserRecord:
    return UserRecord(f"r-{source}", source, "inbound_scim", {"userName": "ada", **data}, "u", gone)


def test_each_attribute_is_taken_from_the_first_source_with_a_value() -> None:
    staff = record("staff", title="Botanist", **{ENTERPRISE_URN: {"department": "Herbarium"}})
    estates = record(
        "estates",
        title="Keeper",
        locale="en-GB",
        **{ENTERPRISE_URN: {"division": "Plants", "department": "x"}},
    )
    user = merge([estates, staff], {"staff": 1, "estates": 2})
    assert user.attributes["title"] == "Botanist"
    assert user.attributes["locale"] == "en-GB"
    assert user.attributes[ENTERPRISE_URN] == {"department": "Herbarium", "division": "Plants"}
    assert user.value_sources["title"] == "staff"
    assert user.value_sources[f"{ENTERPRISE_URN}:division"] == "estates"


def test_an_inactive_record_says_nothing_while_an_active_one_exists() -> None:
    user = merge(
        [record("staff", title="Old", active=False), record("estates", title="New")],
        {"staff": 1, "estates": 2},
    )
    assert (user.active, user.attributes["title"]) == (True, "New")


def test_a_user_leaves_with_the_last_record() -> None:
    gone = record("staff", gone=True, title="Botanist")
    assert merge([gone], {}).gone
    assert not merge([gone, record("estates", active=False)], {}).gone
    assert not merge([gone], {}).active
    assert merge([gone], {}).attributes["title"] == "Botanist"


def test_a_record_that_says_nothing_of_activity_is_active() -> None:
    assert merge([record("staff")], {}).active


def test_a_source_s_own_id_is_not_the_user_s() -> None:
    assert "externalId" not in merge([record("staff", externalId="fb-1")], {}).attributes


def test_names_link_no_existing_user() -> None:
    assert bind(None, "new") == Binding("new", new=True)
    assert bind("old", "new") == Binding("old", new=False)


def test_the_name_shown_is_the_best_there_is() -> None:
    assert display_name({"userName": "ada", "displayName": "Ada F."}) == "Ada F."
    assert display_name({"userName": "ada", "name": {"givenName": "Ada", "familyName": "Fern"}}) == "Ada Fern"
    assert display_name({"userName": "ada"}) == "ada"
    assert primary_email({"emails": [{"value": "a"}, {"value": "b", "primary": True}]}) == "b"
    assert primary_email({}) is None
    assert fold("Wis\u0301niarska") == fold("WIŚNIARSKA")

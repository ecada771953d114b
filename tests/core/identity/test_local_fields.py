"""The fields of a local user become a SCIM User, and the same fields again."""

from __future__ import annotations

from dataclasses import asdict, replace

from hypothesis import given
from hypothesis import strategies as st

from dravo.core.identity.local_fields import (
    TEXT_FIELDS,
    LocalFields,
    as_resource,
    fields_given,
    from_resource,
)
from dravo.core.scim.resources import read_resource
from dravo.core.scim.schemas import ENTERPRISE_URN, STANDARD

WORDS = st.text("abc äß'7", max_size=8).map(str.strip)


@given(st.fixed_dictionaries(dict.fromkeys(TEXT_FIELDS, WORDS)), st.booleans())
def test_all_fields_are_kept(texts: dict[str, str], active: bool) -> None:
    wish = fields_given({**texts, "user_name": f"x{texts['user_name']}", "active": active})
    stored = {**read_resource(as_resource(wish), STANDARD.user), "active": wish.active}
    made = " ".join(filter(None, (wish.given_name, wish.family_name)))
    expected = replace(wish, display_name="") if wish.display_name == made else wish
    assert from_resource(stored) == expected


def test_each_field_has_a_place_of_its_own() -> None:
    texts = {name: f"value of {name}" for name in TEXT_FIELDS}
    resource = as_resource(fields_given(texts))
    assert asdict(from_resource(resource)) == {**texts, "active": True}
    assert resource[ENTERPRISE_URN]["manager"] == {"value": "value of manager"}
    assert {each["type"] for each in resource["phoneNumbers"]} == {"work", "mobile"}


def test_what_is_empty_is_left_out() -> None:
    assert as_resource(LocalFields(user_name="ida", given_name="Ida", family_name="Vosper")) == {
        "userName": "ida",
        "displayName": "Ida Vosper",
        "name": {"givenName": "Ida", "familyName": "Vosper"},
    }

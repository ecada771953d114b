"""Lists of an application's accounts, searched by attribute."""

from __future__ import annotations

from typing import Any

from dravo.protocols.scim_client.listing import ResourceList

SOME: list[dict[str, Any]] = [
    {"id": "1", "userName": "Una", "externalId": "E1"},
    {"id": "2", "userName": "zofia", "externalId": "e1"},
    {"id": "3", "userName": "UNA"},
    {"id": "4", "externalId": 7},
]


def ids(found: list[Any]) -> list[str]:
    return [each["id"] for each in found]


def test_user_names_are_found_without_letter_case_and_external_ids_exactly() -> None:
    listed = ResourceList(SOME)
    assert ids(listed.having("userName", "una")) == ["1", "3"]
    assert ids(listed.having("externalId", "E1")) == ["1"]
    assert ids(listed.having("externalId", "7")) == [], "a number is no external ID of ours"
    assert ids(listed.having("userName", "nobody")) == []


def test_accounts_that_are_gone_since_the_reading_are_left_out() -> None:
    gone = {"1": 10.0, "2": 4.0}
    listed = ResourceList(SOME).without(gone, began=5.0)
    assert ids(listed.having("userName", "una")) == ["3"]
    assert ids(listed.having("userName", "zofia")) == ["2"], "it was gone before the list was read"
    assert ids(list(listed)) == ["2", "3", "4"]
    assert list(ResourceList(SOME).without({}, began=5.0)) == SOME

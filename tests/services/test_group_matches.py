"""Which groups of a source a choice names now: by name or ID, or by a pattern."""

from __future__ import annotations

import pytest

from dravo.core.errors import InvalidInput
from dravo.services.policies import group_matches
from tests.service_fixture import ServiceFixture


def test_a_pattern_and_names_show_the_groups_of_their_source_only(services: ServiceFixture) -> None:
    staff, other = services.source("staff"), services.source("other")
    ids = {name: services.group(staff, name) for name in ("Glasshouse east", "Glasshouse west", "Herbarium")}
    services.group(other, "Glasshouse north")
    found = group_matches.find(services.ctx, "staff", {"which": "pattern", "pattern": "^Glasshouse"})
    assert [each.name for each in found.groups] == ["Glasshouse east", "Glasshouse west"]
    assert (found.matching, found.total, found.unknown) == (2, 3, [])
    names = {"which": "named", "names": ["herbarium", ids["Glasshouse east"], "Glasshouse north"]}
    found = group_matches.find(services.ctx, "staff", names)
    assert {each.name for each in found.groups} == {"Herbarium", "Glasshouse east"}
    assert found.unknown == ["Glasshouse north"]
    services.intake.remove_group(staff, ids["Herbarium"])
    assert group_matches.find(services.ctx, "staff", {"which": "all"}).matching == 2


@pytest.mark.parametrize(
    ("choice", "told"),
    [
        ({"which": "pattern", "pattern": "("}, "The pattern is invalid"),
        ({"which": "pattern", "pattern": ""}, "The pattern is empty"),
        ({"which": "named", "names": [" "]}, "The list of groups is empty"),
        ({"which": "some"}, "some"),
    ],
)
def test_an_invalid_choice_is_explained(
    services: ServiceFixture, choice: dict[str, object], told: str
) -> None:
    services.source("staff")
    with pytest.raises(InvalidInput, match=told) as wrong:
        group_matches.find(services.ctx, "staff", choice)
    assert wrong.value.hint

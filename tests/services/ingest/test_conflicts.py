"""A user sent over SCIM who may exist under another source waits for a decision, and no source takes over a
user by a value of its own.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

from dravo.core.errors import InvalidInput
from dravo.core.scim.errors import ScimError
from dravo.services import settings
from dravo.services.access import assignments, user_detail
from dravo.services.access import explanation as access_explanation
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.changes.preview import Confirmation
from dravo.services.changes.recompute import process_marks
from dravo.services.ingest import conflicts, record_links
from dravo.services.ingest.conflicts import SourceConflict
from dravo.services.sources import sources
from dravo.services.sources.sources import SourceChange
from dravo.store import tables as t
from dravo.store.pagination import PageRequest
from tests.directories import Reading
from tests.service_fixture import ServiceFixture
from tests.services.imports.test_scim_and_csv import files

OWNED = "hr-owned.example"
POLICY: dict[str, Any] = {
    "match": "email",
    "domains": [OWNED],
    "attributes": [
        {"attribute": "userName", "expression": "login"},
        {"attribute": 'emails[type eq "work"].value', "expression": "email"},
    ],
}


def email(address: str) -> list[dict[str, str]]:
    return [{"value": address, "type": "work"}]


@pytest.fixture
def garden(services: ServiceFixture) -> dict[str, str]:
    """Two sources; a user of the first has a role that every user has."""
    services.application("records")
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", everyone=True))
    made = {"staff": services.source("staff"), "contractors": services.source("contractors")}
    made["una"] = services.user(
        made["staff"], "una", displayName="Una", emails=email("una@fernhollow.example")
    )
    process_marks(services.ctx)
    return made


def access(services: ServiceFixture) -> list[str]:
    """Return the sources' records whose users have something, as source and user name."""
    process_marks(services.ctx)
    having = {row.user_id for row in services.rows(t.access) if row.until_at is None}
    keys = {row.id: row.key for row in services.rows(t.source)}
    return sorted(
        f"{keys[row.source_id]} {row.data['userName']}"
        for row in services.rows(t.record)
        if row.user_id in having and row.deleted_at is None
    )


def open_conflicts(services: ServiceFixture, key: str = "contractors") -> list[SourceConflict]:
    return list(conflicts.list_conflicts(services.ctx, services.caller, key, PageRequest()).items)


def user_of(services: ServiceFixture, record: str) -> Any:
    (row,) = services.rows(t.record, id=record)
    return services.rows(t.user, id=row.user_id)[0]


@pytest.mark.parametrize(
    ("name", "address", "words"),
    [
        ("UNA", "other@elsewhere.example", "user name 'UNA'"),
        ("una2", "Una@Fernhollow.example", "email address 'Una@Fernhollow.example'"),
    ],
)
def test_a_user_in_conflict_has_no_access_until_it_is_decided(
    services: ServiceFixture, garden: dict[str, str], name: str, address: str, words: str
) -> None:
    record = services.user(garden["contractors"], name, emails=email(address))
    # They are read back as they were sent.
    assert services.rows(t.record, id=record)[0].data["userName"] == name
    assert access(services) == ["staff una"]
    (found,) = open_conflicts(services)
    assert words in found.message and [each.user_name for each in found.candidates] == ["una"]
    assert found.says["userName"] == name and found.choices == ["link", "create", "ignore"]
    # What comes for them meanwhile changes nothing of that.
    services.group(garden["contractors"], "Guides", record)
    services.patch_user(garden["contractors"], record, {"op": "replace", "path": "title", "value": "Guide"})
    assert access(services) == ["staff una"] and len(open_conflicts(services)) == 1
    told = access_explanation.why(services.ctx, user_of(services, record).id, "records").sentences
    assert "may already exist under another source" in told[1]


def test_it_is_linked_and_one_user_has_both(services: ServiceFixture, garden: dict[str, str]) -> None:
    services.application("plants")
    record = services.user(garden["contractors"], "una", title="Guide")
    group = services.group(garden["contractors"], "Guides", record)
    assignments.add(services.ctx, services.caller, AssignmentRequest("plants", "curator", group=group))
    (found,) = open_conflicts(services)
    # A user name that a source repeats still names the existing user.
    conflicts.decide(services.ctx, services.caller, "contractors", found.id, "link", "una")
    assert access(services) == ["contractors una", "staff una"]
    assert user_of(services, record).id == user_of(services, garden["una"]).id
    assert {row.application_id for row in services.rows(t.access) if row.until_at is None} == {
        row.id for row in services.rows(t.application)
    }
    # Nobody is left behind who would be taken for a leaver of that name.
    assert len(services.rows(t.user)) == 1 and open_conflicts(services) == []
    services.patch_user(
        garden["contractors"], record, {"op": "replace", "path": "title", "value": "Head guide"}
    )
    assert open_conflicts(services) == [] and len(access(services)) == 2


def test_linking_needs_no_second_confirmation(services: ServiceFixture, garden: dict[str, str]) -> None:
    settings.change(services.ctx, services.caller, "highest_role_confirmation", 1)
    record = services.user(garden["contractors"], "una", title="Guide")
    assignments.add(
        services.ctx,
        services.caller,
        AssignmentRequest("records", "curator", rule='title eq "Guide"'),
        Confirmation("Records"),
    )
    (found,) = open_conflicts(services)
    conflicts.decide(services.ctx, services.caller, "contractors", found.id, "link", found.candidates[0].id)
    assert (
        user_of(services, record).id == user_of(services, garden["una"]).id and open_conflicts(services) == []
    )


def test_linking_a_record_closes_its_conflict(services: ServiceFixture, garden: dict[str, str]) -> None:
    record = services.user(garden["contractors"], "una")
    record_links.move(services.ctx, services.caller, record, user_of(services, garden["una"]).id)
    assert open_conflicts(services) == [] and access(services) == ["contractors una", "staff una"]


def test_it_is_another_user_and_they_get_what_is_theirs(
    services: ServiceFixture, garden: dict[str, str]
) -> None:
    record = services.user(garden["contractors"], "una")
    (found,) = open_conflicts(services)
    conflicts.decide(services.ctx, services.caller, "contractors", found.id, "create")
    assert access(services) == ["contractors una", "staff una"]
    assert user_of(services, record).id != user_of(services, garden["una"]).id
    # The decision holds as long as the user name and the email stay.
    for path, value in (("title", "Guide"), ("displayName", "Una K."), ("externalId", "c-7")):
        services.patch_user(garden["contractors"], record, {"op": "replace", "path": path, "value": value})
    assert open_conflicts(services) == [] and access(services) == ["contractors una", "staff una"]


def test_it_is_left_out_and_stays_so(services: ServiceFixture, garden: dict[str, str]) -> None:
    record = services.user(garden["contractors"], "una")
    (found,) = open_conflicts(services)
    conflicts.decide(services.ctx, services.caller, "contractors", found.id, "ignore")
    services.patch_user(garden["contractors"], record, {"op": "replace", "path": "title", "value": "Guide"})
    assert access(services) == ["staff una"] and open_conflicts(services) == []


def test_another_name_ends_the_conflict_and_gives_what_is_theirs(
    services: ServiceFixture, garden: dict[str, str]
) -> None:
    record = services.user(garden["contractors"], "una")
    services.patch_user(
        garden["contractors"], record, {"op": "replace", "path": "userName", "value": "una.keel"}
    )
    assert open_conflicts(services) == [] and access(services) == ["contractors una.keel", "staff una"]


def test_a_rename_to_another_users_name_keeps_access_and_becomes_a_conflict(
    services: ServiceFixture, garden: dict[str, str]
) -> None:
    record = services.user(garden["contractors"], "una.keel")
    assert access(services) == ["contractors una.keel", "staff una"] and open_conflicts(services) == []
    services.patch_user(garden["contractors"], record, {"op": "replace", "path": "userName", "value": "una"})
    assert access(services) == ["contractors una", "staff una"], (
        "a provider's change of a name locks nobody out"
    )
    assert len(open_conflicts(services)) == 1


def test_leavers_and_users_of_the_same_source_cause_no_conflict(
    services: ServiceFixture, garden: dict[str, str]
) -> None:
    services.intake.remove_user(garden["staff"], garden["una"])
    services.user(garden["contractors"], "una")
    services.user(garden["contractors"], "una.two", emails=email("shared@fernhollow.example"))
    services.user(garden["contractors"], "una.three", emails=email("shared@fernhollow.example"))
    assert open_conflicts(services) == []
    assert access(services) == ["contractors una", "contractors una.three", "contractors una.two"]


def test_a_deleted_record_leaves_no_conflict(services: ServiceFixture, garden: dict[str, str]) -> None:
    record = services.user(garden["contractors"], "una")
    services.intake.remove_user(garden["contractors"], record)
    assert open_conflicts(services) == []


# Linking by an address: whose word counts


def register(services: ServiceFixture) -> Reading:
    """A source that owns a domain, and has a joiner."""
    reading = Reading(services, "csv", {}, key="hr", policy=POLICY)
    files(reading, users=f"id,login,email\n1,new.hire,new.hire@{OWNED}\n")
    return reading


def test_an_email_outside_owned_domains_links_no_user(
    services: ServiceFixture, garden: dict[str, str]
) -> None:
    """The source that does not own the domain puts the joiner's address on a user of its own, and waits for
    the joiner.
    """
    services.user(garden["contractors"], "mallory", emails=email(f"new.hire@{OWNED}"))
    reading = register(services)
    run = reading.run()
    assert run["conflict"] == 1 and reading.records() == {}
    (found,) = open_conflicts(services, "hr")
    assert " No source that owns the email domain has confirmed it." in found.message


def test_an_address_counts_that_a_source_says_which_owns_its_domain(
    services: ServiceFixture, garden: dict[str, str]
) -> None:
    sources.change(services.ctx, services.caller, "staff", SourceChange(domains=[OWNED.upper()]))
    record = services.user(garden["staff"], "new.hire.1", emails=email(f"new.hire@{OWNED}"))
    reading = register(services)
    assert reading.run()["new"] == 1 and open_conflicts(services, "hr") == []
    assert reading.records()["new.hire"].user_id == user_of(services, record).id


def test_a_user_in_conflict_causes_no_other_conflict(
    services: ServiceFixture, garden: dict[str, str]
) -> None:
    sources.change(services.ctx, services.caller, "staff", SourceChange(domains=[OWNED]))
    record = services.user(garden["staff"], "new.hire.1", emails=email(f"new.hire@{OWNED}"))
    services.user(garden["contractors"], "mallory", emails=email(f"new.hire@{OWNED}"))
    assert len(open_conflicts(services)) == 1
    reading = register(services)
    assert reading.run()["new"] == 1
    assert reading.records()["new.hire"].user_id == user_of(services, record).id


def test_domains_of_a_source_are_checked(services: ServiceFixture, tmp_path: Path) -> None:
    services.source("staff")
    domains = ["@Fernhollow.example", "fernhollow.example"]
    changed = sources.change(
        services.ctx, services.caller, "staff", SourceChange("Staff", domains, " Serves the staff. ")
    )
    assert changed.note == "Serves the staff."
    assert sources.change(services.ctx, services.caller, "staff", SourceChange(note="")).note is None
    assert (changed.label, changed.domains) == ("Staff", ["fernhollow.example"])
    assert sources.change(services.ctx, services.caller, "staff", SourceChange(domains=[])).domains == []
    for wrong in (["fernhollow"], ["una@fernhollow.example", "a b.example"]):
        with pytest.raises(InvalidInput, match="not a domain"):
            sources.change(services.ctx, services.caller, "staff", SourceChange(domains=wrong))
    with pytest.raises(InvalidInput, match="The request changes nothing"):
        sources.change(services.ctx, services.caller, "staff", SourceChange())
    assert services.rows(t.audit)[-1].action == "changed source"


@pytest.mark.parametrize("name", ["un\u0430", "u\u200bna", "\u200euna"])
@pytest.mark.parametrize("source", ["staff", "contractors"])
def test_a_name_that_looks_like_a_user_s_waits_for_a_decision_in_every_source(
    services: ServiceFixture, garden: dict[str, str], source: str, name: str
) -> None:
    services.user(garden[source], name, displayName="Una", emails=email("other@elsewhere.example"))
    (conflict,) = open_conflicts(services, source)
    assert (conflict.kind, [each.user_name for each in conflict.candidates]) == (
        "lookalike",
        ["una"],
    )
    assert "looks like that of another user" in conflict.message
    assert access(services) == ["staff una"]


def test_an_imported_name_that_looks_like_a_user_s_is_a_conflict(
    services: ServiceFixture, garden: dict[str, str]
) -> None:
    reading = Reading(services, "csv", {}, key="hr", policy=POLICY)
    files(reading, users="id,login,email\n1,un\u0430,x@hr-owned.example\n2,ing\u00e9,i@hr-owned.example\n")
    reading.run()
    (conflict,) = open_conflicts(services, "hr")
    assert conflict.kind == "lookalike"
    assert {row.user_name for row in services.rows(t.user)} == {"una", "ing\u00e9"}


def test_names_that_are_equal_by_their_profile_are_one_name_in_a_source(
    services: ServiceFixture, garden: dict[str, str]
) -> None:
    services.user(garden["staff"], "j\u00fcrgen")
    for name in ("J\u00dcRGEN", "ju\u0308rgen", "\uff4a\u00fcrgen"):
        with pytest.raises(ScimError) as refused:
            services.user(garden["staff"], name)
        assert (refused.value.status, refused.value.scim_type) == (409, "uniqueness")
    assert user_detail.user(services.ctx, "J\u00dcRGEN").user_name == "j\u00fcrgen"

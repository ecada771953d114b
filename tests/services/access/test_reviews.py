"""Access reviews: what is looked through, who decides about what, what a decision does, and what stays as
evidence.
"""

from __future__ import annotations

import csv
import io
import json
from dataclasses import replace
from typing import Any

import pytest

from dravo.core.errors import InvalidInput, NotFound
from dravo.core.instants import later
from dravo.services.access import assignments, undo
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.access.matrix import View
from dravo.services.access.reviews import decisions as review_decisions
from dravo.services.access.reviews import export as review_export
from dravo.services.access.reviews import reviews as access_reviews
from dravo.services.access.reviews.decisions import ReviewDecision
from dravo.services.access.reviews.reviews import CONFIRMED, ReviewRow
from dravo.services.changes.preview import Confirmation
from dravo.services.changes.recompute import process_marks
from dravo.services.changes.removal_limits import NeedsConfirmation
from dravo.services.security.permissions import OWNER
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.access.reviews import REMOVED, ReviewRowFilter
from dravo.store.pagination import PageRequest
from tests.service_fixture import ServiceFixture

LAST_DAY = "2999-12-31"


@pytest.fixture
def garden(services: ServiceFixture) -> ServiceFixture:
    """Two applications: ada by name and by group, bob by group, cai by name and in two roles, dan by a
    rule.
    """
    staff = services.source()
    for key in ("records", "desk"):
        services.application(key)
    users = {
        name: services.user(staff, name, displayName=name.title()) for name in ("ada", "bob", "cai", "dan")
    }
    group = services.group(staff, "Herbarium", users["ada"], users["bob"])
    for wish in (
        AssignmentRequest("records", "viewer", group=group),
        AssignmentRequest("records", "curator", user="ada"),
        AssignmentRequest("records", "viewer", user="cai"),
        AssignmentRequest("records", "curator", user="cai"),
        AssignmentRequest("desk", "viewer", rule='userName eq "dan"'),
        AssignmentRequest("desk", "viewer", user="dan"),
    ):
        assignments.add(services.ctx, services.caller, wish)
    process_marks(services.ctx)
    return services


def begin(services: ServiceFixture, **view: Any) -> str:
    return str(access_reviews.start(services.ctx, services.caller, "Spring", LAST_DAY, View(**view)).id)


def rows(services: ServiceFixture, review: str, **asked: Any) -> dict[tuple[str, str], ReviewRow]:
    found = access_reviews.rows(services.ctx, review, PageRequest(count=100), ReviewRowFilter(**asked)).items
    return {(each.user.user_name, each.role.key): each for each in found}


def held(services: ServiceFixture, application: str = "records") -> set[tuple[str, str]]:
    process_marks(services.ctx)
    names = {row.id: row.user_name for row in services.rows(t.user)}
    of = services.rows(t.application, key=application)[0].id
    roles = {row.id: row.key for row in services.rows(t.role)}
    return {
        (names[row.user_id], roles[row.role_id])
        for row in services.rows(t.access, until_at=None, application_id=of)
    }


@pytest.mark.parametrize(
    ("view", "expected"),
    [
        ({}, 6),
        ({"application": "records"}, 5),
        ({"application": "records", "role": "curator"}, 2),
        ({"only": "direct_only"}, 3),
        ({"only": "highest_role"}, 2),
        ({"words": "ad"}, 2),
    ],
)
def test_a_part_of_the_matrix_is_looked_through(
    garden: ServiceFixture, view: dict[str, str], expected: int
) -> None:
    review = begin(garden, **view)
    shown = access_reviews.one(garden.ctx, garden.caller, review)
    assert (shown.rows, shown.open, shown.narrowed) == (expected, expected, view)


def test_a_direct_assignment_is_removed_and_undone(garden: ServiceFixture) -> None:
    review = begin(garden, application="records")
    found = rows(garden, review)
    assert found["ada", "viewer"].reasons == ["Staff > Herbarium"] and found["cai", "viewer"].reasons == [
        "direct assignment"
    ]
    row = found["cai", "curator"].id
    shown = review_decisions.preview(garden.ctx, review, "records", [row])
    assert (shown.changed, shown.users[0].after, len(held(garden))) == (1, ["Viewer"], 5)
    decided = review_decisions.decide(
        garden.ctx,
        garden.caller,
        review,
        ReviewDecision("records", [row], REMOVED, note="moved on"),
        Confirmation(expect=(0, 0, 1)),
    )
    assert (decided.removed, decided.open) == (1, 4)
    assert held(garden) == {("ada", "viewer"), ("ada", "curator"), ("bob", "viewer"), ("cai", "viewer")}
    after = rows(garden, review, decision="removed")["cai", "curator"]
    assert (after.outcome, after.note, after.decided_by) == (
        "The assignment was deleted.",
        "moved on",
        garden.caller.name,
    )
    with pytest.raises(InvalidInput, match="The role Curator of Cai was removed already"):
        review_decisions.decide(
            garden.ctx, garden.caller, review, ReviewDecision("records", [row], CONFIRMED)
        )
    entry = next(each.id for each in reversed(garden.rows(t.audit)) if each.action == "deleted assignment")
    undo.undo(garden.ctx, garden.caller, entry, Confirmation())
    assert ("cai", "curator") in held(garden)


def test_a_user_with_the_role_by_a_group_is_excluded_unless_another_role_stays(
    garden: ServiceFixture,
) -> None:
    review = begin(garden, application="records")
    found = rows(garden, review)
    review_decisions.decide(
        garden.ctx,
        garden.caller,
        review,
        ReviewDecision("records", [found["bob", "viewer"].id, found["ada", "viewer"].id], REMOVED),
    )
    after = rows(garden, review)
    assert (
        after["bob", "viewer"].outcome
        == "The user is excluded from Records, because the role comes through group Herbarium."
    )
    assert "still has the role through group Herbarium" in after["ada", "viewer"].outcome
    assert held(garden) == {("ada", "viewer"), ("ada", "curator"), ("cai", "viewer"), ("cai", "curator")}
    # Both roles of one user at once leave nothing.
    other = begin(garden, application="records", words="ada")
    both = [each.id for each in rows(garden, other).values()]
    assert review_decisions.preview(garden.ctx, other, "records", both).lost == 1
    review_decisions.decide(garden.ctx, garden.caller, other, ReviewDecision("records", both, REMOVED))
    assert not any(name == "ada" for name, _ in held(garden))


def test_an_equal_rule_is_named_and_lost_access_is_reported(garden: ServiceFixture) -> None:
    review = begin(garden)
    row = rows(garden, review, application="desk")["dan", "viewer"].id
    review_decisions.decide(garden.ctx, garden.caller, review, ReviewDecision("desk", [row], REMOVED))
    assert held(garden, "desk") == set()
    record = next(each for each in garden.rows(t.record) if each.data["userName"] == "bob")
    garden.intake.remove_user(record.source_id, record.id)
    process_marks(garden.ctx)
    row = rows(garden, review)["bob", "viewer"].id
    review_decisions.decide(garden.ctx, garden.caller, review, ReviewDecision("records", [row], REMOVED))
    assert (
        rows(garden, review)["bob", "viewer"].outcome == "The user no longer had the role."
        and rows(garden, review)["bob", "viewer"].status == "left"
    )


def test_an_owner_sees_and_decides_about_their_own_application_only(garden: ServiceFixture) -> None:
    review = begin(garden)
    owner = replace(garden.caller, kind=OWNER, applications=frozenset({"desk"}))
    assert [each.application.key for each in access_reviews.one(garden.ctx, owner, review).applications] == [
        "desk"
    ]
    theirs = begin(garden, application="records")
    with pytest.raises(NotFound):
        access_reviews.one(garden.ctx, owner, theirs)
    assert [each.id for each in access_reviews.list_reviews(garden.ctx, owner, PageRequest()).items] == [
        review
    ]
    # A row of another application does not come along under the name of theirs.
    foreign = rows(garden, review, application="records")["bob", "viewer"].id
    with pytest.raises(NotFound, match="Some of these rows do not belong to '"):
        review_decisions.decide(garden.ctx, owner, review, ReviewDecision("desk", [foreign], REMOVED))
    assert len(held(garden)) == 5


def test_a_review_ends_by_date_or_operator_and_stays_as_evidence(garden: ServiceFixture) -> None:
    review = begin(garden, application="records")
    found = rows(garden, review)
    review_decisions.decide(
        garden.ctx,
        garden.caller,
        review,
        ReviewDecision("records", [found["ada", "viewer"].id], CONFIRMED, note="=needs it"),
    )
    access_reviews.close_expired(garden.ctx, later(clock.now(), 60))
    assert access_reviews.one(garden.ctx, garden.caller, review).closed_at is None
    access_reviews.close_expired(garden.ctx, "3000-01-02T00:00:00.000000Z")
    assert access_reviews.one(garden.ctx, garden.caller, review).closed_by == "its due date"
    opened, ended = garden.rows(t.notification_event)
    assert (opened.kind, opened.number) == ("review_opened", len(found))
    assert (ended.kind, ended.number) == ("review_undecided", len(found) - 1)
    with pytest.raises(InvalidInput, match="has ended"):
        review_decisions.decide(
            garden.ctx,
            garden.caller,
            review,
            ReviewDecision("records", [found["bob", "viewer"].id], CONFIRMED),
        )
    lines = list(
        csv.DictReader(io.StringIO(b"".join(review_export.export(garden.ctx, review, "csv")).decode()))
    )
    assert len(lines) == 5 and lines[0]["user"] == "Ada"
    confirmed = next(each for each in lines if each["decision"])
    assert (confirmed["role"], confirmed["note"], confirmed["reason"]) == (
        "Viewer",
        "'=needs it",
        "Staff > Herbarium",
    )
    whole = json.loads(b"".join(review_export.export(garden.ctx, review, "json")))
    assert (whole["label"], len(whole["rows"])) == ("Spring", 5)
    other = begin(garden, application="desk")
    assert access_reviews.close(garden.ctx, garden.caller, other).closed_by == garden.caller.name


@pytest.mark.parametrize(
    ("until", "view", "said"),
    [
        ("2020-01-01", View(), "The due date is missing or in the past."),
        ("", View(), "The due date is missing or in the past."),
        ("soon", View(), "soon"),
        (LAST_DAY, View(words="nobody"), "No access matches the scope of the review."),
        (LAST_DAY, View(role="viewer"), "The filter `role` needs an application"),
        (LAST_DAY, View(only="inactive_assigned"), "' is not a valid value for `only`."),
    ],
)
def test_a_review_that_cannot_be_is_refused(
    garden: ServiceFixture, until: str, view: View, said: str
) -> None:
    with pytest.raises(InvalidInput, match=said):
        access_reviews.start(garden.ctx, garden.caller, "Spring", until, view)
    assert garden.rows(t.review) == []


def test_taking_away_from_many_asks_for_the_application_s_name(services: ServiceFixture) -> None:
    staff = services.source()
    services.application()
    for number in range(15):
        services.user(staff, f"p{number}")
        assignments.add(
            services.ctx, services.caller, AssignmentRequest("records", "viewer", user=f"p{number}")
        )
    process_marks(services.ctx)
    review = begin(services)
    ids = [each.id for each in rows(services, review).values()]
    with pytest.raises(NeedsConfirmation, match="This change removes access from 15 users"):
        review_decisions.decide(
            services.ctx, services.caller, review, ReviewDecision("records", ids, REMOVED)
        )
    assert len(held(services)) == 15
    review_decisions.decide(
        services.ctx,
        services.caller,
        review,
        ReviewDecision("records", ids, REMOVED),
        Confirmation("Records"),
    )
    assert held(services) == set()

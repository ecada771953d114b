from __future__ import annotations

from typing import Any

import pytest

from dravo.core.errors import AlreadyExists, DravoError, InvalidInput, NotFound
from dravo.core.instants import later
from dravo.services.access import assignment_changes, assignments, undo, user_detail
from dravo.services.access import explanation as access_explanation
from dravo.services.access.assignment_changes import AssignmentEdit
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.applications import applications, connections, roles
from dravo.services.applications.connections import ConnectionSettings
from dravo.services.applications.roles import RoleEdit
from dravo.services.changes import recompute
from dravo.services.changes.preview import UNCONFIRMED, Confirmation
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.access.assignments import AssignmentFilter
from dravo.store.pagination import PageRequest
from dravo.store.queries.references import KeyAndLabel
from tests.service_fixture import ServiceFixture


@pytest.fixture
def herbarium(services: ServiceFixture) -> dict[str, str]:
    """A source with two users, one of them in a group; an application."""
    staff = services.source()
    services.application()
    ada, bob = (
        services.user(staff, "ada", displayName="Ada Fern"),
        services.user(staff, "bob", displayName="Bob Moss"),
    )
    return {"staff": staff, "ada": ada, "bob": bob, "group": services.group(staff, "Herbarium", ada)}


def test_a_preview_says_what_would_happen_and_changes_nothing(
    services: ServiceFixture, herbarium: dict[str, str]
) -> None:
    before = [
        len(services.rows(table))
        for table in (t.access, t.account, t.assignment, t.task, t.pending_recompute, t.audit)
    ]
    preview = assignment_changes.preview_adding(
        services.ctx, AssignmentRequest("records", "viewer", group="herbarium", source="staff")
    )
    assert (preview.gained, preview.lost, preview.accounts) == (1, 0, 1)
    (line,) = preview.users
    assert (line.application, line.what) == (KeyAndLabel("records", "Records"), "gained")
    assert (line.before, line.after) == ([], ["Viewer"])
    assert [
        len(services.rows(table))
        for table in (t.access, t.account, t.assignment, t.task, t.pending_recompute, t.audit)
    ] == before


def test_a_preview_equals_the_change(services: ServiceFixture, herbarium: dict[str, str]) -> None:
    direct = assignments.add(
        services.ctx, services.caller, AssignmentRequest("records", "viewer", user="bob")
    )
    for wish in (
        AssignmentRequest("records", "viewer", group=herbarium["group"]),
        AssignmentRequest("records", "curator", user="ada"),
    ):
        preview = assignment_changes.preview_adding(services.ctx, wish)
        before = len(services.rows(t.access))
        assignments.add(services.ctx, services.caller, wish)
        assert len(services.rows(t.access)) - before == preview.gained + preview.changed
    preview = assignment_changes.preview_removing(services.ctx, direct.id)
    assert (preview.lost, preview.accounts) == (1, 1)
    assignments.remove(services.ctx, services.caller, direct.id)
    assert user_detail.user(services.ctx, "bob").access == []


def test_a_role_with_two_reasons_ends_with_the_last_one(
    services: ServiceFixture, herbarium: dict[str, str]
) -> None:
    by_group = assignments.add(
        services.ctx, services.caller, AssignmentRequest("records", "viewer", group=herbarium["group"])
    )
    direct = assignments.add(
        services.ctx,
        services.caller,
        AssignmentRequest("records", "viewer", user="ada", note="Looks after it"),
    )
    first = user_detail.user(services.ctx, "ada").access[0]
    assert len(first.reasons) == 2
    assignments.remove(services.ctx, services.caller, by_group.id)
    second = user_detail.user(services.ctx, "ada").access[0]
    assert (second.id, second.since) == (first.id, first.since)
    assert [reason.until is None for reason in second.reasons] == [False, True]
    assert second.reasons[1].note == "Looks after it"
    assignments.remove(services.ctx, services.caller, direct.id)
    assert user_detail.user(services.ctx, "ada").access == []
    assert user_detail.user(services.ctx, "ada").ended[0].id == first.id


@pytest.mark.parametrize(
    ("wish", "kind", "words"),
    [
        (AssignmentRequest("none", "viewer", user="ada"), NotFound, "There is no application"),
        (AssignmentRequest("records", "owner", user="ada"), NotFound, "no role 'owner'"),
        (AssignmentRequest("records", "viewer", user="nobody"), NotFound, "There is no user with the"),
        (AssignmentRequest("records", "viewer", group="nothing"), NotFound, "no group"),
        (AssignmentRequest("records", "viewer", group="herbarium", source="none"), NotFound, "no source"),
        (AssignmentRequest("records", "viewer"), InvalidInput, "The assignment needs exactly one target."),
        (
            AssignmentRequest("records", "viewer", user="ada", group="herbarium"),
            InvalidInput,
            "The assignment needs exactly one target.",
        ),
        (
            AssignmentRequest("records", "viewer", user="ada", until_at=later(clock.now(), -60)),
            InvalidInput,
            "The end date is in the past.",
        ),
        (
            AssignmentRequest(
                "records",
                "viewer",
                user="ada",
                from_at=later(clock.now(), 90),
                until_at=later(clock.now(), 60),
            ),
            InvalidInput,
            "The end date is before the start date.",
        ),
    ],
)
def test_a_wish_that_cannot_be_met_is_refused_with_the_hint(
    services: ServiceFixture,
    herbarium: dict[str, str],
    wish: AssignmentRequest,
    kind: type[DravoError],
    words: str,
) -> None:
    for asking in (assignments.add, lambda ctx, _, wished: assignment_changes.preview_adding(ctx, wished)):
        with pytest.raises(kind, match=words) as told:
            asking(services.ctx, services.caller, wish)
        assert told.value.hint
    assert services.rows(t.assignment) == []


def test_the_hint_names_what_there_is(services: ServiceFixture, herbarium: dict[str, str]) -> None:
    with pytest.raises(NotFound) as told:
        assignments.add(services.ctx, services.caller, AssignmentRequest("records", "owner", user="ada"))
    assert "viewer, curator" in told.value.hint


def test_the_same_group_cannot_be_mapped_to_the_same_role_twice(
    services: ServiceFixture, herbarium: dict[str, str]
) -> None:
    assignments.add(
        services.ctx, services.caller, AssignmentRequest("records", "viewer", group=herbarium["group"])
    )
    with pytest.raises(AlreadyExists):
        assignments.add(
            services.ctx, services.caller, AssignmentRequest("records", "viewer", group=herbarium["group"])
        )
    assignments.add(
        services.ctx, services.caller, AssignmentRequest("records", "curator", group=herbarium["group"])
    )


def test_an_assignment_can_be_limited_and_opened_again(
    services: ServiceFixture, herbarium: dict[str, str]
) -> None:
    made = assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", user="ada"))
    soon = later(clock.now(), 3600)
    changed = assignments.change(
        services.ctx, services.caller, made.id, AssignmentEdit(until=soon, note="for the summer")
    )
    assert (changed.until, changed.note) == (soon, "for the summer")
    assert services.rows(t.user, user_name="ada")[0].next_change_at == soon
    assignments.change(services.ctx, services.caller, made.id, AssignmentEdit(from_=soon))
    assert user_detail.user(services.ctx, "ada").access == []
    assignments.change(services.ctx, services.caller, made.id, AssignmentEdit())
    assert user_detail.user(services.ctx, "ada").access
    with pytest.raises(NotFound):
        assignments.change(services.ctx, services.caller, "none", AssignmentEdit())


@pytest.mark.parametrize("subject", ["user", "group"])
def test_the_role_of_a_user_or_group_is_changed_previewed_and_undone(
    services: ServiceFixture, subject: str
) -> None:
    services.application("records", "viewer", "curator")
    staff = services.source()
    group = services.group(staff, "Herbarium", services.user(staff, "ada"))
    target = {"user": "ada"} if subject == "user" else {"group": group}
    made = assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", **target))
    to_curator = AssignmentEdit(role="curator", note="Promoted")
    looked = assignment_changes.preview_changing(services.ctx, made.id, to_curator)
    assert [(each.what, each.before, each.after) for each in looked.users] == [
        ("changed", ["Viewer"], ["Curator"])
    ]
    sure = Confirmation(looked.type_to_confirm)
    changed = assignments.change(services.ctx, services.caller, made.id, to_curator, sure)
    assert (changed.id, changed.note) == (made.id, "Promoted") and changed.role is not None
    assert changed.role.key == "curator"
    held = user_detail.user(services.ctx, "ada").access
    assert [each.role.key for each in held] == ["curator"]
    entry = services.rows(t.audit)[-1].id
    undo.undo(services.ctx, services.caller, entry, UNCONFIRMED)
    assert [each.role.key for each in user_detail.user(services.ctx, "ada").access] == ["viewer"]


def test_a_role_that_an_assignment_cannot_have_is_refused(services: ServiceFixture) -> None:
    services.application("records", "viewer", "curator")
    services.user(services.source(), "ada")
    viewer, _ = (
        assignments.add(
            services.ctx,
            services.caller,
            AssignmentRequest("records", role, user="ada"),
            Confirmation("Records"),
        )
        for role in ("viewer", "curator")
    )
    edit = AssignmentEdit(role="curator")
    with pytest.raises(AlreadyExists, match="same assignment exists already"):
        assignments.change(services.ctx, services.caller, viewer.id, edit, Confirmation("Records"))
    with pytest.raises(NotFound, match="no role 'gold'"):
        assignments.change(services.ctx, services.caller, viewer.id, AssignmentEdit(role="gold"))
    everyone = assignments.add(
        services.ctx, services.caller, AssignmentRequest("records", "viewer", rule='userName eq "x"')
    )
    with pytest.raises(InvalidInput, match="Only the role of a user or a group"):
        assignments.change(services.ctx, services.caller, everyone.id, edit)


def test_a_date_takes_effect_when_reached_and_not_before(
    services: ServiceFixture, herbarium: dict[str, str]
) -> None:
    soon = later(clock.now(), 3600)
    assignments.add(
        services.ctx, services.caller, AssignmentRequest("records", "viewer", user="ada", until_at=soon)
    )
    assert recompute.mark_due_changes(services.ctx, later(soon, -1)) is False
    assert recompute.mark_due_changes(services.ctx, soon) is True
    assert [row.user_id for row in services.rows(t.pending_recompute)] == [
        services.rows(t.user, user_name="ada")[0].id
    ]


def test_a_list_of_assignments_says_how_many_each_reaches(
    services: ServiceFixture, herbarium: dict[str, str]
) -> None:
    assignments.add(
        services.ctx, services.caller, AssignmentRequest("records", "viewer", group=herbarium["group"])
    )
    services.add(herbarium["staff"], herbarium["group"], herbarium["bob"])
    empty = services.group(herbarium["staff"], "Nobody")
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "curator", group=empty))
    listed = assignments.list_assignments(
        services.ctx, PageRequest(), AssignmentFilter(application_key="records")
    ).items
    assert [(item.group.name, item.matching_users) for item in listed] == [("Herbarium", 2), ("Nobody", 0)]
    assert (
        assignments.list_assignments(services.ctx, PageRequest(), AssignmentFilter(group_id=empty)).total == 1
    )


def test_a_tracked_application_has_accounts_that_operators_manage(
    services: ServiceFixture, herbarium: dict[str, str]
) -> None:
    applications.add(services.ctx, services.caller, "payslips", "Payslips", None, tracked_only=True)
    roles.add_role(services.ctx, services.caller, "payslips", "clerk", RoleEdit("Clerk", 1))
    assignments.add(services.ctx, services.caller, AssignmentRequest("payslips", "clerk", user="ada"))
    why = access_explanation.why(services.ctx, "ada", "payslips")
    assert why.has_access
    assert why.sentences[-3] == "Payslips is tracked only: operators manage its accounts by hand."
    assert why.sentences[-1] == "An operator has to do this in the application, and mark it as done."
    assert [row.status for row in services.rows(t.task)] == ["manual"]
    with pytest.raises(InvalidInput, match="' is tracked only"):
        connections.connect(
            services.ctx, services.caller, "payslips", ConnectionSettings("https://x.example", "token")
        )


def sentences(services: ServiceFixture, user: str) -> str:
    return " ".join(access_explanation.why(services.ctx, user, "records").sentences)


def test_reasons_for_and_against_access_are_sentences(
    services: ServiceFixture, herbarium: dict[str, str]
) -> None:
    assert "No group is mapped to a role in Records" in sentences(services, "ada")
    assignments.add(
        services.ctx, services.caller, AssignmentRequest("records", "viewer", group=herbarium["group"])
    )
    assert "Ada Fern has been Viewer in Records since" in sentences(services, "ada")
    assert "the group 'Herbarium' of Staff, of which the user is a member, assigns the role" in sentences(
        services, "ada"
    )
    assert "Records is disabled, so Dravo provisions nothing." in sentences(services, "ada")
    assert "One of these groups would give access: 'Herbarium' (Viewer)." in sentences(services, "bob")
    services.take_out(herbarium["staff"], herbarium["group"], herbarium["ada"])
    assert "Until" in sentences(services, "ada")
    services.add(herbarium["staff"], herbarium["group"], herbarium["ada"])
    services.patch_user(
        herbarium["staff"], herbarium["ada"], {"op": "replace", "path": "active", "value": False}
    )
    assert "If the user becomes active again, access returns through 'Herbarium' (Viewer)." in sentences(
        services, "ada"
    )
    services.intake.remove_user(herbarium["staff"], herbarium["ada"])
    assert "left at" in sentences(services, "ada")
    answer: Any = access_explanation.why(services.ctx, "bob", "records")
    assert answer.would_give[0].role.key == "viewer"

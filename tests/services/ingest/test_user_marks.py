"""Marks of operators on users: they win over all sources until they are removed."""

from __future__ import annotations

from pathlib import Path

import pytest

from dravo.core.errors import InvalidInput
from dravo.core.instants import Instant, later
from dravo.services.access import assignments, explanation, user_detail
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.changes import recompute
from dravo.services.changes.preview import Confirmation
from dravo.services.changes.removal_limits import NeedsConfirmation
from dravo.services.ingest import user_marks
from dravo.services.ingest.user_marks import MarkRequest
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.pagination import PageRequest
from dravo.store.users import user_marks as stored
from tests.service_fixture import ServiceFixture


class Garden(ServiceFixture):
    """An application whose viewers are the members of a group."""

    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        self.staff = self.source()
        self.application("records", "viewer", "curator")
        self.records = {name: self.user(self.staff, name) for name in ("ada", "bob")}
        self.crew = self.group(self.staff, "Crew", *self.records.values())
        request = AssignmentRequest("records", "viewer", group=self.crew)
        assignments.add(self.ctx, self.caller, request)

    def mark(self, status: str | None, *names: str, **options: str) -> int:
        """Mark users, or with None remove their marks."""
        request = MarkRequest(names or ("ada",), status, **options)  # type: ignore[arg-type]
        return user_marks.change(self.ctx, self.caller, request, Confirmation("Ada")).users

    def status(self, name: str = "ada") -> str:
        """Return the status of a user."""
        return user_detail.user(self.ctx, name).status

    def roles(self, name: str = "ada") -> list[str]:
        """Return the roles of a user."""
        return [each.role.key for each in user_detail.user(self.ctx, name).access]

    def account(self, name: str = "ada") -> dict[str, object]:
        """Return the desired state of a user's account."""
        (row,) = self.rows(t.account, user_id=user_detail.user(self.ctx, name).id)
        return dict(row.desired)


@pytest.fixture
def garden(tmp_path: Path) -> Garden:
    return Garden(tmp_path)


def test_a_mark_wins_over_the_source_until_it_is_removed(garden: Garden) -> None:
    assert (garden.status(), garden.roles()) == ("active", ["viewer"])
    garden.mark("inactive", note="On leave")
    assert (garden.status(), garden.roles(), garden.account()["active"]) == ("inactive", [], False)
    garden.patch_user(garden.staff, garden.records["ada"], {"op": "add", "path": "title", "value": "Guide"})
    assert (garden.status(), garden.roles()) == ("inactive", []), "the source changes attributes only"
    detail = user_detail.user(garden.ctx, "ada")
    assert detail.mark is not None and detail.mark.sources_disagree and detail.mark.note == "On leave"
    assert "Guide" in [each.value for each in detail.attributes]
    why = explanation.why(garden.ctx, "ada", "records").sentences
    assert any("marked the user as inactive: On leave" in each for each in why), why
    garden.mark(None)
    assert (garden.status(), garden.roles(), garden.account()["active"]) == ("active", ["viewer"], True)
    assert user_detail.user(garden.ctx, "ada").mark is None


def test_a_user_marked_as_left_is_a_leaver(garden: Garden) -> None:
    garden.mark("left")
    assert garden.status() == "left"
    other = garden.source("partners")
    garden.user(other, "ada")
    leaver, new = sorted(garden.rows(t.user, user_name="ada"), key=lambda row: row.mark is None)
    assert (leaver.mark, new.mark, new.active) == ("left", None, True), "a later user of that name is another"
    garden.mark("inactive", leaver.id)
    assert garden.status(leaver.id) == "inactive"


def test_a_mark_with_a_date_applies_from_that_day_on(garden: Garden, monkeypatch: pytest.MonkeyPatch) -> None:
    day = later(clock.now(), 3 * 86_400)[:10]
    garden.mark("left", from_=day)
    assert (garden.status(), garden.roles()) == ("active", ["viewer"])
    detail = user_detail.user(garden.ctx, "ada")
    assert detail.mark is not None and not detail.mark.applies and not detail.mark.sources_disagree
    garden.patch_user(garden.staff, garden.records["ada"], {"op": "add", "path": "title", "value": "Guide"})
    after = Instant(later(clock.now(), 4 * 86_400))
    monkeypatch.setattr(clock, "now", lambda: after)
    assert recompute.mark_due_changes(garden.ctx, after)
    recompute.process_marks(garden.ctx)
    assert (garden.status(), garden.roles()) == ("left", [])
    assert not recompute.mark_due_changes(garden.ctx, after), "it is processed once"


def test_a_preview_equals_the_mark_and_changes_nothing(garden: Garden) -> None:
    request = MarkRequest(("ada", "bob"), "left", "2999-01-01")
    shown = user_marks.preview(garden.ctx, request)
    assert (shown.lost, [each.user.user_name for each in shown.users]) == (2, ["ada", "bob"])
    assert shown.type_to_confirm == "2 users"
    assert garden.status() == garden.status("bob") == "active"
    assert user_marks.change(garden.ctx, garden.caller, request, Confirmation("2 users")).users == 2
    with garden.ctx.database.reading() as connection:
        listed = stored.marked_users(connection, PageRequest(), None)
        assert [(each.user.user_name, each.status) for each in listed.items] == [
            ("ada", "left"),
            ("bob", "left"),
        ]
        assert stored.marked_users(connection, PageRequest(), "bob").total == 1


def test_many_marked_users_need_a_confirmation(garden: Garden) -> None:
    names = [f"user{number}" for number in range(40)]
    garden.add(garden.staff, garden.crew, *(garden.user(garden.staff, name) for name in names))
    recompute.process_marks(garden.ctx)
    with pytest.raises(NeedsConfirmation, match="40 users"):
        user_marks.change(garden.ctx, garden.caller, MarkRequest(names, "left"))
    assert garden.status("user1") == "active"


@pytest.mark.parametrize(
    ("request_", "message"),
    [
        (MarkRequest((), "left"), "The list of users is empty"),
        (MarkRequest(("ada",), "gone"), "'gone' is not a valid status"),
        (MarkRequest(("ada",) * 501, "left"), "501 users"),
        (MarkRequest(("ada",), None), "Ada|ada has no mark"),
        (MarkRequest(("ada",), "left", "soon"), "soon"),
    ],
)
def test_invalid_marks_are_refused(garden: Garden, request_: MarkRequest, message: str) -> None:
    with pytest.raises(InvalidInput, match=message):
        user_marks.change(garden.ctx, garden.caller, request_)


def test_marks_are_in_the_audit_log(garden: Garden) -> None:
    garden.mark("left", note="Moved away")
    garden.mark(None)
    actions = [(row.action, dict(row.details)) for row in garden.rows(t.audit)][-2:]
    assert [action for action, _ in actions] == ["marked user as left", "removed the mark of a user"]
    assert "Moved away" not in str([details for _, details in actions]), "a note can be about the user"

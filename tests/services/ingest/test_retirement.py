"""Retired sources: leavers, users of other sources, and the way back."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from sqlalchemy import event

from dravo.core.errors import InvalidInput
from dravo.core.scim.errors import ScimError
from dravo.services.access import assignments, user_detail
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.changes import recompute
from dravo.services.changes.preview import Confirmation
from dravo.services.changes.removal_limits import NeedsConfirmation
from dravo.services.sources import retirement, sources
from dravo.services.sources import tokens as scim_tokens
from dravo.store import tables as t
from tests.service_fixture import ServiceFixture

TYPED = Confirmation("Partners")


class Garden(ServiceFixture):
    """Two sources: Ada and Bob are reported by one of them, and Cai by both."""

    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        self.staff, self.partners = self.source(), self.source("partners")
        self.application("records", "viewer", "curator")
        self.user(self.staff, "ada")
        bob, cai = self.user(self.partners, "bob"), self.user(self.partners, "cai")
        self.user(self.staff, "cai")
        self.create_users_of_conflicts("staff")
        # Cai's second record belongs to the first user.
        self.crew = self.group(self.partners, "Crew", bob, cai)
        assignments.add(self.ctx, self.caller, AssignmentRequest("records", "viewer", group=self.crew))
        recompute.process_marks(self.ctx)

    def statuses(self) -> dict[str, list[str]]:
        """Return the statuses of the users by user name."""
        found: dict[str, list[str]] = {}
        for row in self.rows(t.user):
            status = user_detail.user(self.ctx, row.id).status
            found.setdefault(row.user_name, []).append(status)
        return {name: sorted(each) for name, each in found.items()}

    def held(self) -> list[str]:
        """Return the user names of everyone with a role now."""
        recompute.process_marks(self.ctx)
        names = {row.id: row.user_name for row in self.rows(t.user)}
        return sorted(names[row.user_id] for row in self.rows(t.access, until_at=None))


@pytest.fixture
def garden(tmp_path: Path) -> Garden:
    return Garden(tmp_path)


def test_users_of_a_retired_source_leave_and_return_when_it_is_restored(garden: Garden) -> None:
    token = scim_tokens.add_token(garden.ctx, garden.caller, "partners", "Provider")
    before = garden.statuses()
    assert garden.held() == ["bob", "cai"]
    assert retirement.retire(garden.ctx, garden.caller, "partners", TYPED).users == 2
    assert garden.held() == []
    assert garden.statuses() == {"ada": ["active"], "bob": ["left"], "cai": ["active", "left"]}
    assert {row.desired.get("active", False) for row in garden.rows(t.account)} <= {False}
    assert garden.rows(t.source_token, id=token.id)[0].revoked_at is not None
    with pytest.raises(InvalidInput, match="'Partners' is retired"):
        scim_tokens.add_token(garden.ctx, garden.caller, "partners", "Another")
    assert sources.one(garden.ctx, "partners").retired_at is not None

    retirement.restore(garden.ctx, garden.caller, "partners")
    assert garden.held() == ["bob", "cai"]
    assert garden.statuses() == before
    assert sources.one(garden.ctx, "partners").retired_at is None
    actions = [row.action for row in garden.rows(t.audit)]
    assert actions.count("retired source") == actions.count("restored source") == 1


def test_a_user_that_another_source_reports_stays(garden: Garden) -> None:
    records = {row.id: row for row in garden.rows(t.record, user_name_key="cai")}
    assert len(records) == 2
    (partner,) = [row for row in records.values() if row.source_id == garden.partners]
    (other,) = [row for row in records.values() if row.source_id == garden.staff]
    with garden.ctx.database.writing() as connection:
        connection.execute(t.record.update().where(t.record.c.id == other.id).values(user_id=partner.user_id))
    retirement.retire(garden.ctx, garden.caller, "partners", TYPED)
    garden.held()
    assert user_detail.user(garden.ctx, partner.user_id).status == "active"


def test_a_preview_tells_who_leaves_and_changes_nothing(garden: Garden) -> None:
    shown = retirement.preview(garden.ctx, "partners")
    assert shown.sentences[0] == "2 users become leavers; 0 users stay through other sources."
    assert shown.access is not None and (shown.access.lost, shown.access.type_to_confirm) == (2, "Partners")
    assert garden.held() == ["bob", "cai"]


def test_retiring_requires_the_label_and_happens_once(garden: Garden) -> None:
    for typed in (Confirmation(), Confirmation("partners")):
        with pytest.raises(NeedsConfirmation, match="Retiring a source"):
            retirement.retire(garden.ctx, garden.caller, "partners", typed)
    with pytest.raises(InvalidInput, match="not retired"):
        retirement.restore(garden.ctx, garden.caller, "partners")
    retirement.retire(garden.ctx, garden.caller, "partners", TYPED)
    with pytest.raises(InvalidInput, match="retired already"):
        retirement.retire(garden.ctx, garden.caller, "partners", TYPED)


def test_what_was_deleted_before_stays_deleted_after_a_restoration(garden: Garden) -> None:
    record = garden.user(garden.partners, "dora")
    garden.intake.remove_user(garden.partners, record)
    retirement.retire(garden.ctx, garden.caller, "partners", TYPED)
    retirement.restore(garden.ctx, garden.caller, "partners")
    garden.held()
    assert garden.statuses()["dora"] == ["left"]


def test_users_who_left_before_do_not_count_in_the_preview(garden: Garden) -> None:
    garden.intake.remove_user(garden.partners, garden.user(garden.partners, "dora"))
    shown = retirement.preview(garden.ctx, "partners")
    assert shown.sentences[0] == "2 users become leavers; 0 users stay through other sources."
    assert retirement.retire(garden.ctx, garden.caller, "partners", TYPED).users == 2


def test_open_conflicts_return_with_the_source(garden: Garden) -> None:
    garden.user(garden.partners, "ada")
    assert [row.name for row in garden.rows(t.conflict, status="open")] == ["ada"]
    retirement.retire(garden.ctx, garden.caller, "partners", TYPED)
    assert garden.rows(t.conflict, status="open") == []
    retirement.restore(garden.ctx, garden.caller, "partners")
    assert [row.name for row in garden.rows(t.conflict, status="open")] == ["ada"], (
        "it still needs a decision"
    )


def test_a_request_that_was_in_progress_creates_nothing_in_a_retired_source(garden: Garden) -> None:
    retirement.retire(garden.ctx, garden.caller, "partners", TYPED)
    with pytest.raises(ScimError, match="retired"):
        garden.user(garden.partners, "late")
    with pytest.raises(ScimError, match="retired"):
        garden.group(garden.partners, "Late")
    assert garden.rows(t.record, user_name_key="late") == []


def test_a_source_of_any_size_can_be_retired(garden: Garden, monkeypatch: pytest.MonkeyPatch) -> None:
    asked: list[int] = []

    def note(_: Any, __: Any, ___: str, given: Any, *____: Any) -> None:
        asked.append(len(given))

    for number in range(60):
        garden.user(garden.partners, f"user{number}")
    monkeypatch.setattr("dravo.store.snapshots.users.CHUNK", 10)
    with garden.ctx.database.reading() as connection:
        event.listen(connection.engine, "before_cursor_execute", note)
    retirement.preview(garden.ctx, "partners")
    # A statement may name a chunk of users twice, beside a few constants.
    assert max(asked) <= 2 * 10 + 5, "no statement has a parameter for each user"

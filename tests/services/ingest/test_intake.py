from __future__ import annotations

import threading
from typing import Any

import pytest

from dravo.core.errors import InvalidInput, NotFound, StalePreview
from dravo.core.scim.errors import ScimError
from dravo.services.access import assignments, user_detail
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.changes import recompute
from dravo.services.ingest.group_intake import AT_ONCE
from dravo.services.reporting import overview
from dravo.store import tables as t
from tests.service_fixture import ServiceFixture


def access_of(services: ServiceFixture, name: str) -> set[tuple[str, str]]:
    return {(item.application.key, item.role.key) for item in user_detail.user(services.ctx, name).access}


def test_a_record_is_bound_to_a_user_of_its_own(services: ServiceFixture) -> None:
    staff, estates = services.source("staff"), services.source("estates")
    services.user(staff, "ada", emails=[{"value": "ada@fernhollow.example"}])
    services.user(estates, "ada", emails=[{"value": "ada@fernhollow.example"}])
    assert len({row.id for row in services.rows(t.user)}) == 2
    # One whom a source reported, and about whom nobody has decided, does not make a known name ambiguous.
    assert [each.source.key for each in user_detail.user(services.ctx, "ada").records] == ["staff"]
    services.create_users_of_conflicts("estates")
    with pytest.raises(InvalidInput, match="2 users"):
        user_detail.user(services.ctx, "ada")


def test_a_change_that_changes_nothing_writes_nothing(services: ServiceFixture) -> None:
    staff = services.source()
    ada = services.user(staff, "ada", title="Botanist")
    services.patch_user(staff, ada, {"op": "replace", "path": "title", "value": "Botanist"})
    group = services.group(staff, "Herbarium", ada)
    services.add(staff, group, ada)
    assert services.rows(t.record)[0].version == 1
    assert services.rows(t.group)[0].version == 1
    assert len(services.rows(t.membership)) == 1


def test_since_when_a_user_is_inactive_is_kept_until_they_are_back(services: ServiceFixture) -> None:
    staff = services.source()
    ada = services.user(staff, "ada")
    services.patch_user(staff, ada, {"op": "replace", "path": "active", "value": False})
    since = services.rows(t.user)[0].inactive_since
    services.patch_user(staff, ada, {"op": "replace", "path": "title", "value": "x"})
    assert services.rows(t.user)[0].inactive_since == since
    services.patch_user(staff, ada, {"op": "replace", "path": "active", "value": True})
    assert services.rows(t.user)[0].inactive_since is None
    services.intake.remove_user(staff, ada)
    row = services.rows(t.user)[0]
    assert row.left_at is not None
    assert row.active is False


def test_a_renamed_user_is_found_by_the_new_name_only(services: ServiceFixture) -> None:
    staff = services.source()
    ada = services.user(staff, "ada.fern", emails=[{"value": "ada@fernhollow.example"}])
    services.patch_user(
        staff,
        ada,
        {
            "op": "replace",
            "value": {"userName": "ada.moss", "emails": [{"value": "moss@fernhollow.example"}]},
        },
    )
    assert user_detail.user(services.ctx, "ADA.MOSS").user_name == "ada.moss"
    assert user_detail.user(services.ctx, "moss@fernhollow.example").user_name == "ada.moss"
    with pytest.raises(NotFound):
        user_detail.user(services.ctx, "ada.fern")


def test_membership_history_has_from_and_until(services: ServiceFixture) -> None:
    staff = services.source()
    ada = services.user(staff, "ada")
    group = services.group(staff, "Herbarium", ada)
    services.take_out(staff, group, ada)
    services.add(staff, group, ada)
    rows = services.rows(t.membership)
    assert [row.until_at is None for row in rows] == [False, True]
    assert rows[0].from_at < rows[0].until_at < rows[1].from_at
    assert [each.until is None for each in user_detail.user(services.ctx, "ada").groups] == [
        True,
        False,
    ]


def test_one_patch_may_do_many_things_to_the_list(services: ServiceFixture) -> None:
    staff = services.source()
    users = [services.user(staff, f"p{number}") for number in range(6)]
    group = services.group(staff, "Herbarium", *users[:3])

    def listed() -> set[str]:
        return {row.record_id for row in services.rows(t.membership, group_id=group) if row.until_at is None}

    services.patch_group(
        staff,
        group,
        {"op": "remove", "path": f'members[value eq "{users[0]}"]'},
        {"op": "add", "path": "members", "value": [{"value": users[3]}, {"value": users[0]}]},
        {"op": "replace", "value": {"displayName": "Herbaria"}},
    )
    assert listed() == {users[0], users[1], users[2], users[3]}
    services.patch_group(
        staff,
        group,
        {"op": "replace", "path": "members", "value": [{"value": users[4]}]},
        {"op": "add", "path": "members", "value": [{"value": users[5]}]},
        {"op": "remove", "path": "members", "value": [{"value": users[4]}, {"value": "unknown"}]},
    )
    assert listed() == {users[5]}
    services.patch_group(staff, group, {"op": "remove", "path": 'members[type eq "User"]'})
    assert listed() == set()
    assert services.rows(t.group)[0].display_name == "Herbaria"


def test_a_large_change_of_members_is_worked_through_by_marks(
    services: ServiceFixture, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("dravo.services.ingest.group_intake.AT_ONCE", 3)
    staff = services.source()
    services.application()
    group = services.group(staff, "Everyone")
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", group=group))
    users = [services.user(staff, f"p{number}") for number in range(8)]
    services.add(staff, group, *users)
    assert len(services.rows(t.pending_recompute)) == 8
    assert user_detail.user(services.ctx, "p1").being_recomputed
    assert recompute.process_marks(services.ctx) == 8
    assert access_of(services, "p7") == {("records", "viewer")}
    services.patch_group(staff, group, {"op": "replace", "path": "members", "value": []})
    recompute.process_marks(services.ctx)
    assert all(access_of(services, f"p{number}") == set() for number in range(8))
    assert AT_ONCE > 100


def test_a_deleted_group_assigns_nothing_and_its_history_stays_readable(services: ServiceFixture) -> None:
    staff = services.source()
    services.application()
    group = services.group(staff, "Herbarium", services.user(staff, "ada"))
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", group=group))
    assert access_of(services, "ada") == {("records", "viewer")}
    services.intake.remove_group(staff, group)
    recompute.process_marks(services.ctx)
    user = user_detail.user(services.ctx, "ada")
    assert user.access == []
    assert user.ended[0].reasons[0].group.name == "Herbarium"
    assert overview.band(services.ctx).stages[2].needs == 1


def test_a_stale_plan_is_detected_before_it_is_written(
    services: ServiceFixture, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Between plan and write an assignment is made: the plan is thrown away, and the new one knows of it."""
    staff = services.source()
    services.application()
    ada = services.user(staff, "ada")
    group = services.group(staff, "Herbarium")
    original, interfered = services.ctx.database.writing, []

    def writing() -> Any:
        if not interfered:
            interfered.append(True)
            assignments.add(
                services.ctx, services.caller, AssignmentRequest("records", "curator", group=group)
            )
        return original()

    monkeypatch.setattr(services.ctx.database, "writing", writing)
    services.add(staff, group, ada)
    assert access_of(services, "ada") == {("records", "curator")}


def test_many_threads_that_change_one_user_lose_nothing(services: ServiceFixture) -> None:
    staff = services.source()
    services.application("records", *(f"role{number}" for number in range(6)))
    ada = services.user(staff, "ada")
    groups = [services.group(staff, f"g{number}") for number in range(6)]
    for number, group in enumerate(groups):
        assignments.add(
            services.ctx, services.caller, AssignmentRequest("records", f"role{number}", group=group)
        )
    threads = [threading.Thread(target=services.add, args=(staff, group, ada)) for group in groups]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert access_of(services, "ada") == {("records", f"role{number}") for number in range(6)}
    account = services.rows(t.account)[0]
    assert len(account.desired["roles"]) == 6
    assert account.desired_version == 6
    assert len([row for row in services.rows(t.task) if row.closed_at is None]) == 1


def test_two_at_once_with_one_name_make_one(services: ServiceFixture) -> None:
    staff = services.source()
    told: list[str] = []

    def make() -> None:
        try:
            services.user(staff, "ada")
            told.append("made")
        except ScimError as wrong:
            told.append(str(wrong.scim_type))

    threads = [threading.Thread(target=make) for _ in range(5)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert sorted(told) == ["made", *["uniqueness"] * 4]
    assert len(services.rows(t.user)) == 1


def test_constant_concurrent_changes_are_reported(
    services: ServiceFixture, monkeypatch: pytest.MonkeyPatch
) -> None:
    staff = services.source()
    ada = services.user(staff, "ada")
    monkeypatch.setattr("dravo.store.records.update_record", lambda *_, **__: False)
    monkeypatch.setattr("dravo.services.ingest.attempts.PATIENCE_SECONDS", 0.2)
    with pytest.raises(StalePreview):
        services.patch_user(staff, ada, {"op": "replace", "path": "title", "value": "x"})


def test_adding_to_a_large_group_touches_only_who_is_added(services: ServiceFixture) -> None:
    staff = services.source()
    group = services.group(staff, "Everyone", *(services.user(staff, f"p{number}") for number in range(40)))
    new = services.user(staff, "new")
    statements: list[str] = []
    from sqlalchemy import event

    for engine in (services.ctx.database._readers, services.ctx.database._writers):
        event.listen(engine, "before_cursor_execute", lambda *given: statements.append(str(given[3])))
    services.add(staff, group, new)
    assert new in " ".join(statements)
    others = {row.record_id for row in services.rows(t.membership, group_id=group)} - {new}
    assert not any(other in " ".join(statements) for other in others)

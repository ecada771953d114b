"""What comes in between while a source is read: other sources, pushes, decisions, changed settings; and what
the removal limit says of leaving.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pytest
from sqlalchemy.exc import IntegrityError

from dravo.core.errors import StalePreview
from dravo.protocols.directory.reader import Entry, GroupEntry
from dravo.services import settings
from dravo.services.access import assignments
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.changes.recompute import process_marks
from dravo.services.imports import config as import_config
from dravo.services.imports import run as import_run
from dravo.services.ingest import conflicts, run_log
from dravo.services.ingest.bulk_groups import BulkGroups
from dravo.services.ingest.bulk_users import BulkUsers
from dravo.services.ingest.run_log import RunOptions
from dravo.services.provisioning import holds
from dravo.services.sources import policy as source_policies
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.imports import records as import_records
from dravo.store.pagination import PageRequest
from dravo.store.prepared_statements import PreparedStatement
from tests.directories import Reading
from tests.service_fixture import ServiceFixture

ANSWERS = {
    "attributes": [
        {"attribute": "userName", "expression": "login"},
        {"attribute": "title", "expression": "job"},
    ]
}
Meanwhile = Callable[[Callable[[], None]], None]


@pytest.fixture
def reading(services: ServiceFixture) -> Reading:
    return Reading(services, "csv", {"groups_column": "teams"}, policy=ANSWERS)


def users_in(reading: Reading, *, whole: bool = False) -> BulkUsers:
    """Return the door for users, as a run would open it."""
    ctx = reading.services.ctx
    with ctx.database.reading() as connection:
        source, row = source_policies.import_of(connection, reading.key)
    with ctx.database.writing() as connection:
        run_id = run_log.begin(connection, source.id, "a test", clock.now())
        connection.execute(
            t.run.update().where(t.run.c.id == run_id).values(ended_at=clock.now(), status="done")
        )
    return BulkUsers(
        ctx, source, source_policies.import_policy(source, row.kind), run_id, RunOptions(whole=whole)
    )


def entry(native_id: str, login: str, job: str = "Guide") -> Entry:
    return Entry(native_id, native_id, {"login": [login], "job": [job]})


def write(reading: Reading, *lines: str) -> None:
    content = "\n".join(["id,login,job,teams", *lines]).encode()
    import_config.put_file(reading.services.ctx, reading.services.caller, reading.key, "users.csv", content)


def just_before_writing(door: BulkUsers, monkeypatch: pytest.MonkeyPatch, happens: Callable[[], Any]) -> None:
    """Have something happen once, between planning and writing."""
    plan, left = door._plan, [happens]

    def planned(entries: Any, *, last: bool) -> Any:
        batch = plan(entries, last=last)
        if left:
            left.pop()()
        return batch

    monkeypatch.setattr(door, "_plan", planned)


def test_a_user_of_the_name_who_is_pushed_in_between_is_noticed(
    services: ServiceFixture, reading: Reading, monkeypatch: pytest.MonkeyPatch
) -> None:
    staff = services.source("staff")
    door = users_in(reading)
    just_before_writing(door, monkeypatch, lambda: services.user(staff, "una"))
    door.take([entry("1", "una"), entry("2", "grace")])
    door.finish()
    assert (door.counts["new"], door.counts["conflict"]) == (1, 1) and set(reading.records()) == {"grace"}
    assert [row.user_name for row in services.rows(t.user)].count("una") == 1


def test_settings_changed_during_a_run_take_effect(
    services: ServiceFixture, reading: Reading, monkeypatch: pytest.MonkeyPatch
) -> None:
    services.application()
    door = users_in(reading)
    just_before_writing(
        door,
        monkeypatch,
        lambda: assignments.add(
            services.ctx, services.caller, AssignmentRequest("records", "viewer", rule='title eq "Guide"')
        ),
    )
    door.take([entry("1", "una")])
    process_marks(services.ctx)
    assert [row.until_at for row in services.rows(t.access)] == [None]


def test_a_user_who_changes_in_between_is_planned_again(
    services: ServiceFixture, reading: Reading, monkeypatch: pytest.MonkeyPatch
) -> None:
    write(reading, "1,una,Guide,")
    reading.run()
    door, other = users_in(reading), users_in(reading)
    just_before_writing(door, monkeypatch, lambda: other.take([entry("1", "una", "Keeper")]))
    door.take([entry("1", "una", "Botanist")])
    row = reading.records()["una"]
    assert (row.data["title"], row.version) == ("Botanist", 3)


def test_a_failed_write_leaves_no_partial_change(
    services: ServiceFixture, reading: Reading, monkeypatch: pytest.MonkeyPatch
) -> None:
    def refuse(*_: Any) -> None:
        raise StalePreview("Nobody is ever ready.")

    door = users_in(reading)
    monkeypatch.setattr(import_records, "touch", refuse)
    with pytest.raises(StalePreview):
        door.take([entry("1", "una")])
    for table in (t.user, t.record, t.run_entry):
        assert services.rows(table) == []


def test_answers_that_change_during_a_run_have_everyone_read_again(
    services: ServiceFixture, reading: Reading, monkeypatch: pytest.MonkeyPatch
) -> None:
    write(reading, "1,una,Guide,")
    conclude = import_run.ImportRun._conclude

    def with_other_answers(pull: import_run.ImportRun) -> Any:
        reading.change(policy={"users": 'title eq "Guide"'})
        return conclude(pull)

    monkeypatch.setattr(import_run.ImportRun, "_conclude", with_other_answers)
    reading.run()
    monkeypatch.setattr(import_run.ImportRun, "_conclude", conclude)
    (row,) = services.rows(t.source_import)
    assert (row.change_marker, row.full_at) == (None, None)
    assert reading.run()["whole"]


def test_a_large_list_is_written_in_chunks_and_complete(services: ServiceFixture, reading: Reading) -> None:
    door = users_in(reading, whole=True)
    for start in range(0, 2_400, 200):
        door.take([entry(str(number), f"guide.{number}") for number in range(start, start + 200)])
    everyone = [str(number) for number in range(2_400)]
    groups = BulkGroups(services.ctx, door)
    groups.take(
        groups.choose(
            [GroupEntry("g", "g", "Guides", everyone), GroupEntry("h", "h", "Half", everyone[:1_200])]
        )
    )
    assert len(reading.members("Guides")) == 2_400 and groups.counts["memberships_new"] == 3_600
    again = BulkGroups(services.ctx, door)
    entries = [
        GroupEntry("g", "g", "Guides", everyone[1_200:]),
        GroupEntry("h", "h", "Half", everyone[:1_200]),
    ]
    chosen = again.choose(entries)
    assert [each.name for each in chosen] == ["Guides"], "what did not change is not previewed"
    again.take(chosen)
    assert len(reading.members("Guides")) == 1_200 == again.counts["memberships_ended"]
    assert [line.message for line in services.rows(t.run_entry, kind="members")] == [
        "2,400 joined.",
        "1,200 joined.",
        "1,200 left.",
    ]


@pytest.fixture
def guided(services: ServiceFixture, reading: Reading) -> Reading:
    """Ten guides who have a role by their group, delivered; the removal limit lets five go."""
    for name, value in (
        ("removal_limit_minimum", 2),
        ("removal_limit_percent", 50),
        ("removal_limit_number", 1_000),
    ):
        settings.change(services.ctx, services.caller, name, value)
    services.application("records", "viewer")
    write(reading, *(f"{number},guide.{number},Guide,Guides" for number in range(10)))
    reading.run()
    assignments.add(
        services.ctx,
        services.caller,
        AssignmentRequest("records", "viewer", group="Guides", source="estates"),
    )
    process_marks(services.ctx)
    with services.ctx.database.writing() as connection:
        connection.execute(
            t.account.update().values(
                last_applied=t.account.c.desired, applied_version=t.account.c.desired_version
            )
        )
        connection.execute(t.task.update().values(status="done", closed_at=clock.now()))
    return reading


def removals(services: ServiceFixture) -> list[tuple[str, str | None]]:
    """Return (state, who let it through) of what takes something away."""
    process_marks(services.ctx)
    holds.hold_removals(services.ctx, clock.now())
    return [(row.status, row.released_by) for row in services.rows(t.task, removes=True)]


def test_many_removed_members_are_stored_and_their_removals_held(
    services: ServiceFixture, guided: Reading
) -> None:
    write(guided, *(f"{number},guide.{number},Guide," for number in range(10)))
    assert guided.run(whole=True)["status"] == "held", (
        "the only group there was is gone: that is not believed"
    )
    write(guided, "0,guide.0,Guide,Guides", *(f"{number},guide.{number},Guide," for number in range(1, 10)))
    assert guided.run(whole=True)["memberships_ended"] == 9
    assert removals(services) == [("held", None)] * 9


def test_a_confirmed_leaver_is_not_held_again(services: ServiceFixture, guided: Reading) -> None:
    write(guided, "0,guide.0,Guide,Guides")
    assert guided.run(whole=True)["status"] == "held" and removals(services) == []
    assert guided.run(allow_removals=True, confirmed="Estates")["left"] == 9
    assert removals(services) == [("waiting", services.caller.name)] * 9


def test_a_decision_that_is_no_longer_possible_becomes_a_conflict_again(
    services: ServiceFixture, reading: Reading
) -> None:
    staff = services.source("staff")
    una = services.user(staff, "una")
    write(reading, "1,una,Guide,")
    reading.run()
    (waiting,) = conflicts.list_conflicts(services.ctx, services.caller, "estates", PageRequest()).items
    services.intake.remove_user(staff, una)
    # They have left meanwhile: linked all the same, for a user said so, and back with that.
    conflicts.decide(services.ctx, services.caller, "estates", waiting.id, "link", waiting.candidates[0].id)
    (user,) = services.rows(t.user)
    assert user.left_at is None and user.active and reading.records()["una"].user_id == user.id


def test_many_at_once_tell_what_one_would(services: ServiceFixture) -> None:
    statement = PreparedStatement(t.setting.insert())
    with services.ctx.database.writing() as connection:
        connection.execute(t.setting.delete())
        assert statement.change_many(connection, []) == 0
        assert (
            statement.change_many(
                connection, [{"name": f"n{number}", "value": number} for number in range(3)]
            )
            == 3
        )
    assert {row.name: row.value for row in services.rows(t.setting)} == {"n0": 0, "n1": 1, "n2": 2}
    with pytest.raises(IntegrityError), services.ctx.database.writing() as connection:
        statement.change_many(connection, [{"name": "n9", "value": 9}, {"name": "n0", "value": 0}])
    assert len(services.rows(t.setting)) == 3

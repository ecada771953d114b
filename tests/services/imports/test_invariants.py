"""Generated registers and changes: whatever happens there, here it comes to the same as if it were read from
nothing.
"""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any

from hypothesis import HealthCheck, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, rule

from dravo.core.access.evaluation import memberships
from dravo.services.access import assignments
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.changes.recompute import process_marks
from dravo.services.imports import config as import_config
from dravo.store import tables as t
from tests.directories import Reading
from tests.scale import sized
from tests.service_fixture import ServiceFixture

ANSWERS = {
    "attributes": [
        {"attribute": "userName", "expression": "login"},
        {"attribute": "displayName", "expression": "name"},
        {"attribute": "active", "expression": 'false when [state eq "away"] else true'},
    ]
}
IDS, NAMES, TEAMS = (
    [str(number) for number in range(6)],
    [f"name{number}" for number in range(8)],
    ["Red", "Blue", "Ünder"],
)


class Registers(RuleBasedStateMachine):
    """A register of few users, whose names change hands, who come, go, and are away."""

    def __init__(self) -> None:
        super().__init__()
        self.folder = tempfile.TemporaryDirectory(dir="/dev/shm" if Path("/dev/shm").exists() else None)
        self.services = ServiceFixture(Path(self.folder.name)).unguarded()
        self.services.application()
        # Everyone: an empty answer is never believed, and somebody always stays.
        self.lines: dict[str, dict[str, str]] = {
            "keeper": {"login": "keeper", "name": "Keeper", "status": "", "teams": "Red"}
        }
        self.bound: dict[str, str] = {}
        self.read = True

    @initialize()
    def begin(self) -> None:
        self.reading = Reading(self.services, "csv", {"groups_column": "teams"}, policy=ANSWERS)
        self.run()
        for team, role in (("Red", "viewer"), ("Blue", "curator")):
            with_group = self.services.rows(t.group, display_name=team)
            if with_group:
                assignments.add(
                    self.services.ctx,
                    self.services.caller,
                    AssignmentRequest("records", role, group=team, source="estates"),
                )

    def run(self) -> dict[str, Any]:
        head = "id;login;name;state;teams"
        lines = [
            f"{own};{line['login']};{line['name']};{line['status']};{line['teams']}"
            for own, line in self.lines.items()
        ]
        import_config.put_file(
            self.services.ctx,
            self.services.caller,
            "estates",
            "users.csv",
            "\n".join([head, *lines]).encode(),
        )
        run = self.reading.run(whole=True)
        assert run["status"] == "done", run["message"]
        process_marks(self.services.ctx)
        self.read = True
        return run

    @rule(
        own=st.sampled_from(IDS),
        login=st.sampled_from(NAMES),
        away=st.booleans(),
        teams=st.lists(st.sampled_from(TEAMS), unique=True),
    )
    def somebody_comes_or_changes(self, own: str, login: str, away: bool, teams: list[str]) -> None:
        self.lines[own] = {
            "login": login,
            "name": f"User {own}",
            "status": "away" if away else "",
            "teams": ";".join(teams),
        }
        # A column may hold separators in quotation marks.
        self.lines[own]["teams"] = f'"{self.lines[own]["teams"]}"'
        self.read = False

    @rule(own=st.sampled_from(IDS))
    def somebody_goes(self, own: str) -> None:
        self.lines.pop(own, None)
        self.read = False

    @rule()
    def it_is_read(self) -> None:
        self.run()

    @rule()
    def it_is_read_twice(self) -> None:
        self.run()
        before = [
            self.services.rows(table)
            for table in (t.user, t.record, t.group, t.membership, t.access, t.account)
        ]
        run = self.run()
        touched = {kind: run.get(kind, 0) for kind in ("new", "changed", "back", "left")}
        # Replaying what was said changes nothing (invariant 8).
        assert not any(touched.values()), run
        assert [
            self.services.rows(table)
            for table in (t.user, t.record, t.group, t.membership, t.access, t.account)
        ] == before

    @invariant()
    def who_is_bound_stays_bound_and_nobody_is_two(self) -> None:
        if not hasattr(self, "reading") or not self.read:
            return
        rows = self.services.rows(t.record, source_id=self.reading.source_id)
        present = [row for row in rows if row.deleted_at is None]
        assert len({row.user_id for row in rows}) == len(rows)
        for row in rows:
            assert self.bound.setdefault(row.native_id, row.user_id) == row.user_id
        # Anyone who is here said so, under a name that is theirs alone; anyone who is not came into a
        # conflict, or is gone.
        assert len({row.user_name_key for row in present}) == len(present)
        waiting = {row.native_id for row in self.services.rows(t.conflict) if row.status == "open"}
        assert {row.native_id for row in present} | waiting >= set(self.lines)
        assert {row.native_id for row in present} <= set(self.lines)

    @invariant()
    def access_is_what_follows_from_who_is_active_in_which_group(self) -> None:
        if not hasattr(self, "reading") or not self.read:
            return
        given = {row.group_id: row.role_id for row in self.services.rows(t.assignment)}
        records = {row.id: row for row in self.services.rows(t.record)}
        due = set()
        for row in self.services.rows(t.membership):
            record = records.get(row.record_id)
            if (
                row.until_at is None
                and record is not None
                and record.deleted_at is None
                and record.data.get("active") is not False
            ):
                for each in memberships((row.group_id,), {}):
                    if each.group_id in given:
                        due.add((record.user_id, given[each.group_id]))
        # Nobody who is not active has anything (invariant 4), and what there is has its reason (invariants 1
        # and 2).
        assert {
            (row.user_id, row.role_id) for row in self.services.rows(t.access) if row.until_at is None
        } == due

    def teardown(self) -> None:
        self.services.ctx.close()
        self.folder.cleanup()


TestRegisters = Registers.TestCase
TestRegisters.settings = settings(
    max_examples=sized(5, 200),
    stateful_step_count=14,
    suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large],
)

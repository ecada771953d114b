"""Two promises, after any sequence of changes: what is previewed is what happens, and the removal limit
never lets more go than its limit.
"""

from __future__ import annotations

import contextlib
import tempfile
from pathlib import Path
from typing import Any

from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, rule

from dravo.core.errors import AlreadyExists
from dravo.services import settings as organization_settings
from dravo.services.access import assignment_changes, assignments
from dravo.services.access import policies as access_policies
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.changes import recompute
from dravo.services.changes.preview import Confirmation, Preview
from dravo.services.provisioning import holds
from dravo.store import clock
from dravo.store import tables as t
from tests.scale import sized
from tests.service_fixture import ServiceFixture

USERS, ROLES, GROUPS = 6, ("viewer", "curator"), ("records-viewer", "records-curator", "Guides")


class Machine(RuleBasedStateMachine):
    """One source, one application, some users in some groups."""

    def __init__(self) -> None:
        super().__init__()
        self.folder = tempfile.TemporaryDirectory()
        self.services = ServiceFixture(Path(self.folder.name))
        self.assignments: list[str] = []

    def teardown(self) -> None:
        self.services.ctx.close()
        self.folder.cleanup()

    def make(self) -> None:
        """Add the source, its users and groups, and the application."""
        self.staff = self.services.source()
        self.services.application("records", *ROLES)
        self.users = [
            self.services.user(self.staff, f"p{number}", title="ab"[number % 2]) for number in range(USERS)
        ]
        self.groups = {
            name: self.services.group(self.staff, name, *self.users[place::3])
            for place, name in enumerate(GROUPS)
        }

    @rule(name=st.sampled_from(GROUPS), who=st.integers(0, USERS - 1), joins=st.booleans())
    def membership(self, name: str, who: int, joins: bool) -> None:
        (self.services.add if joins else self.services.take_out)(
            self.staff, self.groups[name], self.users[who]
        )

    @rule(who=st.integers(0, USERS - 1), active=st.booleans(), title=st.sampled_from("ab"))
    def change(self, who: int, active: bool, title: str) -> None:
        self.services.patch_user(
            self.staff, self.users[who], {"op": "replace", "value": {"active": active, "title": title}}
        )

    wishes = st.one_of(
        st.builds(
            lambda role, group: ("group", role, group),
            st.sampled_from([None, *ROLES]),
            st.sampled_from(GROUPS),
        ),
        st.builds(
            lambda role, rule: ("rule", role, rule),
            st.sampled_from(ROLES),
            st.sampled_from(['title eq "a"', 'groups pr and title ne "a"']),
        ),
        st.builds(lambda role, who: ("user", role, who), st.sampled_from(ROLES), st.integers(0, USERS - 1)),
        st.builds(lambda group: ("out", None, group), st.sampled_from(GROUPS)),
        st.sampled_from([("pattern", None, None), ("everyone", "viewer", None), ("everyone", None, None)]),
    )

    def wish(self, asked: tuple[str, str | None, Any]) -> AssignmentRequest:
        kind, role, of = asked
        return {
            "group": lambda: AssignmentRequest("records", role, group=self.groups[of]),
            "rule": lambda: AssignmentRequest("records", role, rule=of),
            "user": lambda: AssignmentRequest("records", role, user=f"p{of}"),
            "out": lambda: AssignmentRequest("records", None, group=self.groups[of], excludes=True),
            "pattern": lambda: AssignmentRequest(
                "records",
                None,
                source="staff",
                pattern="^records-(.+)$",
                confirmed=(self.groups["records-curator"],),
            ),
            "everyone": lambda: AssignmentRequest("records", role, everyone=True),
        }[kind]()

    def roles(self) -> dict[str, set[str]]:
        recompute.process_marks(self.services.ctx)
        found: dict[str, set[str]] = {}
        for row in self.services.rows(t.access):
            if row.until_at is None:
                found.setdefault(row.user_id, set()).add(row.role_id)
        return found


class Previews(Machine):
    """Every change is previewed, then made; the two agree to the user."""

    @initialize()
    def begin(self) -> None:
        self.make()

    def compared(self, preview: Preview, before: dict[str, set[str]], status: list[Any]) -> None:
        """Compare what was shown with what has become."""
        after = self.roles()
        users = {*before, *after}
        assert preview.gained == sum(each not in before for each in users)
        assert preview.lost == sum(each not in after for each in users)
        assert preview.changed == sum(
            each in before and each in after and before[each] != after[each] for each in users
        )
        label_of = {row.id: row.label for row in self.services.rows(t.role)}
        shown = {line.user.id: set(line.after) for line in preview.users}
        assert shown == {
            each: {label_of[role] for role in after.get(each, ())}
            for each in users
            if before.get(each) != after.get(each)
        }

    def status(self) -> list[Any]:
        return [
            len(self.services.rows(table))
            for table in (
                t.access,
                t.account,
                t.assignment,
                t.task,
                t.pending_recompute,
                t.audit,
                t.retained_role,
            )
        ]

    @rule(asked=Machine.wishes)
    def add(self, asked: tuple[str, str | None, Any]) -> None:
        before, wish = self.roles(), self.wish(asked)
        status = self.status()
        preview = assignment_changes.preview_adding(self.services.ctx, wish)
        assert self.status() == status, "looking changes nothing"
        with contextlib.suppress(AlreadyExists):
            self.assignments.append(
                assignments.add(self.services.ctx, self.services.caller, wish, Confirmation("Records")).id
            )
            self.compared(preview, before, status)

    @rule(number=st.integers(0, 9))
    def take_away(self, number: int) -> None:
        if self.assignments:
            identifier, before = self.assignments.pop(number % len(self.assignments)), self.roles()
            status = self.status()
            preview = assignment_changes.preview_removing(self.services.ctx, identifier)
            assert self.status() == status
            assignments.remove(
                self.services.ctx,
                self.services.caller,
                identifier,
                Confirmation("Records", (preview.gained, preview.lost, preview.changed)),
            )
            self.compared(preview, before, status)

    @rule(
        eligibility=st.sampled_from(["assigned", "everyone"]),
        fallback=st.sampled_from(["no_access", "fallback_role", "retain"]),
        several=st.sampled_from(["all", "highest"]),
        first=st.sampled_from(["both", "direct", "rules"]),
    )
    def decide(self, **policy: str) -> None:
        before, status = self.roles(), self.status()
        preview = access_policies.preview(self.services.ctx, "records", {**policy, "fallback_role": "viewer"})
        assert self.status() == status
        access_policies.change(
            self.services.ctx,
            self.services.caller,
            "records",
            {**policy, "fallback_role": "viewer"},
            Confirmation("Records"),
        )
        self.compared(preview, before, status)


class Guarded(Machine):
    """With two removals in a window, whatever happens: no more than these go without somebody who let
    them.
    """

    ALLOWED = 2

    @initialize()
    def begin(self) -> None:
        self.make()
        for name, value in (
            ("removal_limit_minimum", self.ALLOWED),
            ("removal_limit_number", 0),
            ("highest_role_confirmation", 1_000),
        ):
            organization_settings.change(self.services.ctx, self.services.caller, name, value)
        # Everyone has something that can be taken away.
        self.assignments.append(
            assignments.add(
                self.services.ctx, self.services.caller, AssignmentRequest("records", "viewer", everyone=True)
            ).id
        )
        self.work()

    @rule(whom=st.sets(st.integers(0, USERS - 1), min_size=1))
    def several_leave(self, whom: set[int]) -> None:
        for who in whom:
            self.services.patch_user(
                self.staff, self.users[who], {"op": "replace", "path": "active", "value": False}
            )

    @rule(asked=Machine.wishes)
    def add(self, asked: tuple[str, str | None, Any]) -> None:
        wish = self.wish(asked)
        preview = assignment_changes.preview_adding(self.services.ctx, wish)
        if not preview.confirm:
            with contextlib.suppress(AlreadyExists):
                self.assignments.append(assignments.add(self.services.ctx, self.services.caller, wish).id)

    @rule()
    def somebody_lets_it_through(self) -> None:
        self.work()
        if holds.list_holds(self.services.ctx).items:
            holds.approve(self.services.ctx, self.services.caller, "records", "Records")
        self.work()
        agreed = {
            row.user_id: row
            for row in self.services.rows(t.account)
            if row.applied_version >= row.desired_version
        }
        for row in self.services.rows(t.user):
            # Nothing is left behind once it was approved: who is not active has no active account.
            if not row.active and row.id in agreed:
                assert not agreed[row.id].applied.get("active")

    @rule()
    def work(self) -> None:
        """Judge and deliver, as the worker does: what may go is agreed then."""
        recompute.process_marks(self.services.ctx)
        holds.hold_removals(self.services.ctx, clock.now())
        with self.services.ctx.database.writing() as connection:
            d, a = t.task.c, t.account.c
            for row in connection.execute(t.task.select().where(d.status == "waiting")).all():
                if not row.removes or row.released_at:
                    connection.execute(
                        t.account.update()
                        .where(a.id == row.account_id)
                        .values(applied=a.desired, last_applied=a.desired, applied_version=a.desired_version)
                    )
                    connection.execute(
                        t.task.update().where(d.id == row.id).values(status="done", closed_at=clock.now())
                    )

    @invariant()
    def no_more_go_than_the_limit(self) -> None:
        gone = [
            row
            for row in self.services.rows(t.task)
            if row.removes and row.released_at and row.released_by is None
        ]
        assert len(gone) <= self.ALLOWED

    @invariant()
    def what_is_held_has_not_gone(self) -> None:
        for row in self.services.rows(t.task):
            if row.status == "held" and row.kind == holds.HOLDS:
                account = self.services.rows(t.account, id=row.account_id)[0]
                assert account.applied_version < account.desired_version


TestPreviews = Previews.TestCase
TestPreviews.settings = settings(max_examples=sized(8, 300), stateful_step_count=12)
TestGuarded = Guarded.TestCase
TestGuarded.settings = settings(max_examples=sized(8, 300), stateful_step_count=20)


def test_all_users_affected_by_a_change_are_named(services: ServiceFixture) -> None:
    staff = services.source()
    services.application()
    for number in range(120):
        services.user(staff, f"p{number:03}")
    shown = assignment_changes.preview_adding(
        services.ctx, AssignmentRequest("records", "viewer", everyone=True)
    )
    assert (shown.gained, len(shown.users), len({line.user.id for line in shown.users})) == (
        120,
        120,
        120,
    )

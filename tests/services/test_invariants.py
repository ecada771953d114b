"""The invariants of the records as a whole, after any sequence of what sources say and operators declare."""

from __future__ import annotations

import contextlib
import tempfile
from pathlib import Path
from typing import Any

from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, rule

from dravo.core.access.evaluation import compute_access, memberships
from dravo.core.errors import AlreadyExists, InvalidInput, NotFound
from dravo.core.identity.membership_authority import AUTHORITIES
from dravo.core.identity.merging import merge
from dravo.core.planning import facts_of
from dravo.core.scim.errors import ScimError
from dravo.services.access import assignments
from dravo.services.access import policies as access_policies
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.applications import applications
from dravo.services.changes import recompute
from dravo.services.ingest.local import groups as local_groups
from dravo.services.ingest.local import users as local_users
from dravo.services.ingest.local.groups import Members
from dravo.services.sources import membership_authority, priority
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.snapshots import users as user_snapshots
from tests.scale import sized
from tests.service_fixture import ServiceFixture

NAMES = ("ada", "bob", "cyd")
GROUPS = ("g0", "g1", "g2")
ROLES = ("viewer", "curator")


class Records(RuleBasedStateMachine):
    """Two sources with users and groups of the same names; one application; one operator."""

    def __init__(self) -> None:
        super().__init__()
        self.folder = tempfile.TemporaryDirectory()
        self.services = ServiceFixture(Path(self.folder.name))
        self.users: dict[tuple[str, str], str] = {}
        self.groups: dict[tuple[str, str], str] = {}
        self.assignments: list[str] = []
        self.locals: dict[str, str] = {}

    def teardown(self) -> None:
        self.services.ctx.close()
        self.folder.cleanup()

    @initialize()
    def begin(self) -> None:
        self.sources = {key: self.services.source(key) for key in ("staff", "estates")}
        self.services.application("records", *ROLES)
        for key, source in self.sources.items():
            for name in GROUPS:
                self.groups[key, name] = self.services.group(source, name)

    source_keys = st.sampled_from(["staff", "estates"])

    @rule(key=source_keys, name=st.sampled_from(NAMES))
    def come(self, key: str, name: str) -> None:
        try:
            self.users[key, name] = self.services.user(self.sources[key], name)
        except ScimError as wrong:
            assert wrong.scim_type == "uniqueness"
            assert (key, name) in self.users

    @rule(key=source_keys, name=st.sampled_from(NAMES), active=st.booleans())
    def change(self, key: str, name: str, active: bool) -> None:
        if (key, name) in self.users:
            self.services.patch_user(
                self.sources[key], self.users[key, name], {"op": "replace", "path": "active", "value": active}
            )

    @rule(key=source_keys, name=st.sampled_from(NAMES))
    def leave(self, key: str, name: str) -> None:
        if (key, name) in self.users:
            self.services.intake.remove_user(self.sources[key], self.users.pop((key, name)))

    @rule(
        key=source_keys,
        group=st.sampled_from(GROUPS),
        names=st.sets(st.sampled_from(NAMES)),
        kind=st.sampled_from(["add", "replace"]),
    )
    def list_users(self, key: str, group: str, names: set[str], kind: str) -> None:
        members = [{"value": self.users[key, name]} for name in sorted(names) if (key, name) in self.users]
        if (key, group) in self.groups:
            self.services.patch_group(
                self.sources[key], self.groups[key, group], {"op": kind, "path": "members", "value": members}
            )

    @rule(key=source_keys, inner=st.sampled_from(GROUPS), outer=st.sampled_from(GROUPS), listed=st.booleans())
    def nest(self, key: str, inner: str, outer: str, listed: bool) -> None:
        if inner != outer and (key, inner) in self.groups and (key, outer) in self.groups:
            doing = self.services.add if listed else self.services.take_out
            doing(self.sources[key], self.groups[key, outer], self.groups[key, inner])

    @rule(key=source_keys, name=st.sampled_from(GROUPS))
    def end_group(self, key: str, name: str) -> None:
        if (key, name) in self.groups:
            self.services.intake.remove_group(self.sources[key], self.groups.pop((key, name)))

    @rule(key=source_keys, name=st.sampled_from(GROUPS), role=st.sampled_from(ROLES))
    def map_group(self, key: str, name: str, role: str) -> None:
        if (key, name) in self.groups:
            self.assign(AssignmentRequest("records", role, group=self.groups[key, name]))

    @rule(name=st.sampled_from(NAMES), role=st.sampled_from(ROLES))
    def assign_to_user(self, name: str, role: str) -> None:
        users = [row for row in self.services.rows(t.user, user_name=name) if row.left_at is None]
        if users:
            self.assign(AssignmentRequest("records", role, user=users[0].id))

    @rule(
        key=source_keys,
        role=st.sampled_from([None, *ROLES]),
        newcomers=st.booleans(),
        condition=st.sampled_from(
            [None, 'userName eq "ada"', 'groups[display sw "g" and source eq "staff"]', 'source eq "estates"']
        ),
    )
    def rule_or_everyone(self, key: str, role: str | None, newcomers: bool, condition: str | None) -> None:
        self.assign(
            AssignmentRequest(
                "records", role, everyone=condition is None, rule=condition, new_users_only=newcomers
            )
        )

    @rule(key=source_keys, name=st.sampled_from(GROUPS))
    def keep_out(self, key: str, name: str) -> None:
        if (key, name) in self.groups:
            self.assign(AssignmentRequest("records", None, group=self.groups[key, name], excludes=True))

    @rule(key=source_keys, confirmed=st.sampled_from(GROUPS))
    def map_by_pattern(self, key: str, confirmed: str) -> None:
        confirm = tuple(group for (_, name), group in self.groups.items() if name == confirmed)
        self.assign(
            AssignmentRequest("records", None, source=key, pattern="^records-(.+)$", confirmed=confirm)
        )

    @rule(
        key=source_keys,
        name=st.sampled_from(GROUPS),
        called=st.sampled_from(["g0", "records-viewer", "records-curator"]),
    )
    def rename_group(self, key: str, name: str, called: str) -> None:
        if (key, name) in self.groups:
            group = self.groups[key, name]
            self.services.patch_group(
                self.sources[key], group, {"op": "replace", "path": "displayName", "value": called}
            )

    @rule(
        key=source_keys,
        name=st.sampled_from(GROUPS),
        called=st.sampled_from(["records-viewer", "records-curator"]),
        who=st.sampled_from(NAMES),
    )
    def make_group(self, key: str, name: str, called: str, who: str) -> None:
        if (key, name) not in self.groups:
            members = [self.users[key, who]] if (key, who) in self.users else []
            self.groups[key, name] = self.services.group(self.sources[key], called, *members)

    @rule(
        eligibility=st.sampled_from(["assigned", "everyone"]),
        fallback=st.sampled_from(["no_access", "fallback_role", "retain"]),
        several=st.sampled_from(["all", "highest"]),
        first=st.sampled_from(["both", "direct", "rules"]),
    )
    def set_policy(self, **policy: str) -> None:
        access_policies.change(
            self.services.ctx, self.services.caller, "records", {**policy, "fallback_role": "viewer"}
        )

    def assign(self, wish: AssignmentRequest) -> None:
        with contextlib.suppress(AlreadyExists):
            self.assignments.append(assignments.add(self.services.ctx, self.services.caller, wish).id)

    @rule(number=st.integers(0, 9))
    def take_away(self, number: int) -> None:
        if self.assignments:
            assignments.remove(
                self.services.ctx, self.services.caller, self.assignments.pop(number % len(self.assignments))
            )

    @rule(name=st.sampled_from(["l0", "l1"]), role=st.sampled_from(ROLES))
    def make_local_group(self, name: str, role: str) -> None:
        if name not in self.locals:
            self.locals[name] = local_groups.add(self.services.ctx, self.services.caller, name).id
            self.assign(AssignmentRequest("records", role, group=self.locals[name]))

    @rule(name=st.sampled_from(["l0", "l1"]), who=st.sets(st.sampled_from(NAMES)), put=st.booleans())
    def list_in_local_group(self, name: str, who: set[str], put: bool) -> None:
        users = tuple(
            row.id for row in self.services.rows(t.user) if row.user_name in who and row.left_at is None
        )
        if name in self.locals:
            members = Members(add=users) if put else Members(remove=users)
            local_groups.change_members(self.services.ctx, self.services.caller, self.locals[name], members)

    @rule(
        name=st.sampled_from(["l0", "l1"]),
        key=source_keys,
        inner=st.sampled_from([*GROUPS, "l0", "l1"]),
        put=st.booleans(),
    )
    def nest_in_local_group(self, name: str, key: str, inner: str, put: bool) -> None:
        inside = self.locals.get(inner) or self.groups.get((key, inner))
        if name in self.locals and inside is not None:
            members = Members(add_groups=(inside,)) if put else Members(remove_groups=(inside,))
            try:
                local_groups.change_members(
                    self.services.ctx, self.services.caller, self.locals[name], members
                )
            except InvalidInput as wrong:
                assert "Choose another group. A group cannot contain itself." in wrong.hint

    @rule(name=st.sampled_from(["l0", "l1"]))
    def end_local_group(self, name: str) -> None:
        if name in self.locals:
            local_groups.remove(self.services.ctx, self.services.caller, self.locals.pop(name))

    @rule(name=st.sampled_from(NAMES), active=st.booleans(), gone=st.booleans())
    def local_user(self, name: str, active: bool, gone: bool) -> None:
        known = [row for row in self.services.rows(t.user, user_name=name) if row.left_at is None]
        if not known:
            local_users.add(self.services.ctx, self.services.caller, {"user_name": name})
        elif len(known) == 1 and any(
            row.connection_type == "local" for row in self.services.rows(t.record, user_id=known[0].id)
        ):
            if gone:
                local_users.remove(self.services.ctx, self.services.caller, known[0].id)
            else:
                local_users.change(
                    self.services.ctx,
                    self.services.caller,
                    known[0].id,
                    {"user_name": name, "active": active},
                )

    authorities = st.sampled_from([*AUTHORITIES])

    @rule(key=source_keys, name=st.sampled_from(GROUPS), authority=authorities | st.none())
    def decide_about_group(self, key: str, name: str, authority: str | None) -> None:
        if (key, name) in self.groups:
            group_id = self.groups[key, name]
            membership_authority.change_group(self.services.ctx, self.services.caller, group_id, authority)

    @rule(key=source_keys, authority=authorities)
    def decide_about_groups(self, key: str, authority: str) -> None:
        priority.change(self.services.ctx, self.services.caller, key, {"members_from": authority})

    @rule(
        key=source_keys, name=st.sampled_from(GROUPS), who=st.sets(st.sampled_from(NAMES)), put=st.booleans()
    )
    def list_in_group_of_source(self, key: str, name: str, who: set[str], put: bool) -> None:
        records = [self.users[key, each] for each in who if (key, each) in self.users]
        users = tuple(row.user_id for row in self.services.rows(t.record) if row.id in records)
        if (key, name) in self.groups:
            members = Members(add=users) if put else Members(remove=users)
            try:
                local_groups.change_members(
                    self.services.ctx, self.services.caller, self.groups[key, name], members
                )
            except InvalidInput as wrong:
                assert "belongs to the source" in wrong.message

    @rule(setting=st.sampled_from(["deactivate", "delete", "do_nothing"]))
    def set_leaving(self, setting: str) -> None:
        applications.change(
            self.services.ctx, self.services.caller, "records", {}, {"on_losing_access": setting}
        )

    def found(self) -> dict[str, tuple[Any, Any]]:
        """Return for each user what the records hold, and what follows from the stored inputs from
        nothing.
        """
        recompute.process_marks(self.services.ctx)
        with self.services.ctx.database.reading() as connection:
            catalogue = self.services.ctx.catalogue.get(connection)
            ids = [row.id for row in self.services.rows(t.user)]
            users = user_snapshots.users(connection, ids)
        made = {}
        for user_id, user in users.items():
            groups = memberships(user.groups, catalogue.parents)
            facts = facts_of(user, merge(user.records, catalogue.priority), groups, catalogue)
            made[user_id] = (user, compute_access(facts, catalogue.declared, clock.now()))
        return made

    @invariant()
    def access_is_what_it_would_be_from_nothing(self) -> None:
        if not hasattr(self, "sources"):
            return
        for user, access in self.found().values():
            assert {(held.application_id, held.role_id) for held in user.access} == set(access.roles)
            for held in user.access:
                open_reasons = [reason for reason in held.reasons if reason["until"] is None]
                assert {(each["assignment"], each["group"]) for each in open_reasons} == {
                    (reason.assignment_id, reason.group_id)
                    for reason in access.roles[held.application_id, held.role_id]
                }

    @invariant()
    def who_is_not_active_has_nothing_and_no_account_that_is_due_active(self) -> None:
        if not hasattr(self, "sources"):
            return
        for row in self.services.rows(t.user):
            if not row.active:
                assert self.services.rows(t.access, user_id=row.id, until_at=None) == []
                assert not any(
                    account.desired.get("active") for account in self.services.rows(t.account, user_id=row.id)
                )

    @invariant()
    def nobody_who_is_gone_is_in_a_group(self) -> None:
        gone = {row.id for row in self.services.rows(t.record) if row.deleted_at is not None}
        gone_users = {row.id for row in self.services.rows(t.user) if row.left_at is not None}
        ended = {row.id for row in self.services.rows(t.group) if row.deleted_at is not None}
        for row in self.services.rows(t.membership):
            if row.until_at is None:
                assert row.record_id not in gone
                assert row.user_id not in gone_users
                assert row.group_id not in ended
                assert row.inner_group_id not in ended

    @invariant()
    def a_group_gives_only_to_its_own_source_s_users(self) -> None:
        source_of_group = {
            row.id: row.source_id for row in self.services.rows(t.group) if row.connection_type != "local"
        }
        source_of_user = {row.user_id: row.source_id for row in self.services.rows(t.record)}
        for row in self.services.rows(t.access):
            for reason in row.reasons:
                if reason["group"] in source_of_group:
                    assert source_of_group[reason["group"]] == source_of_user[row.user_id]

    @invariant()
    def every_account_that_is_due_has_one_open_task_and_no_other_has(self) -> None:
        due = {row.id for row in self.services.rows(t.account) if row.desired_version > row.applied_version}
        waiting = [row.account_id for row in self.services.rows(t.task) if row.closed_at is None]
        assert sorted(waiting) == sorted(due)


TestRecords = Records.TestCase
TestRecords.settings = settings(max_examples=sized(8, 400), stateful_step_count=25)


def test_replaying_what_a_source_said_changes_nothing(services: ServiceFixture) -> None:
    staff = services.source()
    services.application()
    users = [services.user(staff, f"p{number}", title="Guide") for number in range(5)]
    group = services.group(staff, "Guides", *users)
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", group=group))

    def status() -> list[Any]:
        return [
            services.rows(table)
            for table in (t.user, t.record, t.group, t.membership, t.access, t.account, t.task)
        ]

    before = status()
    for row in services.rows(t.record):
        services.intake.replace_user(staff, row.id, row.data)
    services.intake.replace_group(staff, group, {"displayName": "Guides"}, users)
    assert status() == before
    try:
        services.intake.replace_user(staff, "nobody", {"userName": "x"})
    except NotFound as wrong:
        assert "nobody" in str(wrong)

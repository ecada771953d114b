"""The invariants of planning: step by step equals from nothing, and what has a reason has it in words."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, rule

from dravo.core.access import types as rules
from dravo.core.access.conditions import read_condition
from dravo.core.access.evaluation import compute_access, decide_about, memberships
from dravo.core.access.types import Assignment, Policy
from dravo.core.identity.merging import merge
from dravo.core.identity.records import UserRecord
from dravo.core.instants import Instant, later
from dravo.core.plan_types import (
    Application,
    ConfigSnapshot,
    GroupLabel,
    HeldAccess,
    HeldAccount,
    Role,
    UserSnapshot,
)
from dravo.core.planning import facts_of, with_groups, with_record
from dravo.core.planning import plan_user as plan
from dravo.core.provisioning.accounts import Settings
from tests.scale import sized

GROUPS = ("g1", "g2", "g3")
ROLES = ("viewer", "curator")
CONDITIONS = tuple(
    read_condition(text)
    for text in (
        'title eq "a"',
        'not (title eq "a")',
        'groups.value eq "g1"',
        'source eq "staff" and groups pr',
    )
)
APPLICATIONS = {
    "records": Application("records", "records", "Records", Settings()),
    "desk": Application("desk", "desk", "Desk", Settings(on_leaving="delete")),
}


class OneUserThroughTime(RuleBasedStateMachine):
    """Changes of one user and of what is declared, each planned on what the plan before left."""

    def __init__(self) -> None:
        super().__init__()
        self.now = Instant("2031-01-01T00:00:00.000000Z")
        self.record = UserRecord("r", "staff", "inbound_scim", {"userName": "ada"}, "u")
        self.user = UserSnapshot("u", 1, (self.record,), known_since=self.now)
        self.assignments: dict[str, Assignment] = {}
        self.policies: dict[str, Policy] = {}
        self.parents: dict[str, tuple[str, ...]] = {}
        self.next_change: Instant | None = None

    @property
    def catalogue(self) -> ConfigSnapshot:
        by_group: dict[str, tuple[Assignment, ...]] = {}
        for each in self.assignments.values():
            if each.group_id:
                by_group[each.group_id] = (*by_group.get(each.group_id, ()), each)
        roles = {
            f"{a}-{r}": Role(r, r.title(), ROLES.index(r), f"{a}-{r}", a) for a in APPLICATIONS for r in ROLES
        }
        labels = {group: GroupLabel(group, group.upper(), "staff", "Staff") for group in GROUPS}
        general = tuple(
            each for each in self.assignments.values() if each.user_id is None and each.group_id is None
        )
        return ConfigSnapshot(
            1,
            APPLICATIONS,
            roles,
            by_group,
            self.parents,
            {"staff": 1},
            labels,
            {},
            general,
            self.policies,
            {"staff": "staff"},
        )

    def apply(self, user: UserSnapshot) -> None:
        """Take a plan over, as the store would."""
        direct = tuple(each for each in self.assignments.values() if each.user_id)
        outcome = plan(replace(user, direct=direct), self.catalogue, self.now)
        held = {row.id: row for row in user.access}
        for change in outcome.access:
            key = change.id or f"{change.role_id}@{self.now}"
            if change.closed:
                del held[key]
                assert all(reason["until"] for reason in change.reasons)
            else:
                held[key] = HeldAccess(key, change.application_id, change.role_id, change.reasons)
        accounts = {account.application_id: account for account in user.accounts}
        for account in outcome.accounts:
            before = accounts.get(account.application_id)
            assert account.desired_version == (before.desired_version + 1 if before else 1)
            accounts[account.application_id] = HeldAccount(
                account.application_id, account.application_id, account.desired, account.desired_version
            )
        kept = (*(each for each in user.kept if each not in outcome.let_go), *outcome.kept)
        self.user = replace(
            user, access=tuple(held.values()), accounts=tuple(accounts.values()), direct=direct, kept=kept
        )
        self.next_change = outcome.next_change

    @rule(group=st.sampled_from(GROUPS), joins=st.booleans())
    def membership(self, group: str, joins: bool) -> None:
        self.apply(
            with_groups(self.user, added=[group]) if joins else with_groups(self.user, removed=[group])
        )

    @rule(active=st.booleans(), title=st.sampled_from(["a", "b"]))
    def record_changes(self, active: bool, title: str) -> None:
        self.record = replace(self.record, data={"userName": "ada", "active": active, "title": title})
        self.apply(with_record(self.user, self.record))

    @rule(
        key=st.sampled_from(["a1", "a2", "a3", "a4"]),
        group=st.sampled_from([None, *GROUPS]),
        application=st.sampled_from([*APPLICATIONS]),
        role=st.sampled_from(ROLES),
        starts=st.sampled_from([None, 5]),
        ends=st.sampled_from([None, 10]),
    )
    def assign(
        self, key: str, group: str | None, application: str, role: str, starts: int | None, ends: int | None
    ) -> None:
        begin, end = (later(self.now, each) if each else None for each in (starts, ends))
        self.assignments[key] = Assignment(
            key, application, f"{application}-{role}", None if group else "u", group, begin, end
        )
        self.apply(self.user)

    @rule(
        key=st.sampled_from(["a1", "a2", "a3", "a4"]),
        condition=st.sampled_from([None, *CONDITIONS]),
        application=st.sampled_from([*APPLICATIONS]),
        role=st.sampled_from([None, *ROLES]),
        newcomers=st.booleans(),
    )
    def rule_or_everyone(
        self, key: str, condition: Any, application: str, role: str | None, newcomers: bool
    ) -> None:
        role_id = f"{application}-{role}" if role else None
        since = self.now if newcomers else None
        self.assignments[key] = Assignment(
            key, application, role_id, condition=condition, new_users_since=since
        )
        self.apply(self.user)

    @rule(
        key=st.sampled_from(["a1", "a2"]),
        group=st.sampled_from([None, *GROUPS]),
        ends=st.sampled_from([None, 10]),
    )
    def keep_out(self, key: str, group: str | None, ends: int | None) -> None:
        end = later(self.now, ends) if ends else None
        self.assignments[key] = Assignment(
            key, "records", None, None if group else "u", group, None, end, excludes=True
        )
        self.apply(self.user)

    @rule(
        application=st.sampled_from([*APPLICATIONS]),
        eligibility=st.sampled_from([rules.ASSIGNED, rules.ALL_USERS]),
        fallback=st.sampled_from([rules.NO_ACCESS, rules.DEFAULT_ROLE, rules.KEEP]),
        several=st.sampled_from([rules.ALL, rules.HIGHEST]),
        first=st.sampled_from([rules.BOTH, rules.DIRECT_FIRST, rules.RULES_FIRST]),
    )
    def set_policy(self, application: str, eligibility: str, fallback: str, several: str, first: str) -> None:
        self.policies[application] = Policy(eligibility, fallback, f"{application}-viewer", several, first)
        self.apply(self.user)

    @rule(key=st.sampled_from(["a1", "a2", "a3", "a4"]))
    def take_away(self, key: str) -> None:
        self.assignments.pop(key, None)
        self.apply(self.user)

    @rule(inner=st.sampled_from(GROUPS), outer=st.sampled_from(GROUPS))
    def nest(self, inner: str, outer: str) -> None:
        self.parents = {} if inner == outer else {**self.parents, inner: (outer,)}
        self.apply(self.user)

    @rule(seconds=st.integers(1, 20))
    def time_passes(self, seconds: int) -> None:
        target = later(self.now, seconds)
        while self.next_change is not None and self.next_change <= target:
            self.now = self.next_change
            self.apply(self.user)
        self.now = target

    @invariant()
    def access_is_what_it_would_be_from_nothing(self) -> None:
        groups = memberships(self.user.groups, self.parents)
        facts = facts_of(self.user, merge(self.user.records, {"staff": 1}), groups, self.catalogue)
        found = compute_access(facts, self.catalogue.declared, self.now)
        assert {(row.application_id, row.role_id) for row in self.user.access} == set(found.roles)
        for application_id in APPLICATIONS:
            # The quick way for plain applications, and the whole table, are one and the same.
            decided = decide_about(facts, self.catalogue.declared, application_id, self.now).roles
            quickly = {
                role_id: reasons for (of, role_id), reasons in found.roles.items() if of == application_id
            }
            assert {role_id: sorted(map(str, each)) for role_id, each in decided.items()} == {
                role_id: sorted(map(str, each)) for role_id, each in quickly.items()
            }
        for row in self.user.access:
            present = [reason for reason in row.reasons if reason["until"] is None]
            wanted = {
                (reason.assignment_id, reason.group_id)
                for reason in found.roles[row.application_id, row.role_id]
            }
            assert {(reason["assignment"], reason["group"]) for reason in present} == wanted
            assert all(reason["group_name"] for reason in present if reason["group"])

    @invariant()
    def accounts_follow_access(self) -> None:
        has: dict[str, set[str]] = {}
        for row in self.user.access:
            has.setdefault(row.application_id, set()).add(row.role_id.partition("-")[2])
        for account in self.user.accounts:
            due: Any = account.desired
            assert due["active"] == (account.application_id in has)
            assert {role["value"] for role in due["roles"]} == has.get(account.application_id, set())
        assert set(has) <= {account.application_id for account in self.user.accounts}

    @invariant()
    def planning_again_changes_nothing(self) -> None:
        again = plan(self.user, self.catalogue, self.now)
        assert (again.access, again.accounts, again.kept, again.let_go) == ((), (), (), ())

    @invariant()
    def every_access_has_a_reason_and_who_is_not_active_has_none(self) -> None:
        for row in self.user.access:
            assert any(reason["until"] is None for reason in row.reasons)
        if not self.record.active:
            assert self.user.access == ()

    @invariant()
    def who_is_kept_out_has_nothing_there(self) -> None:
        within = {None, *(each.group_id for each in memberships(self.user.groups, self.parents))}
        for each in self.assignments.values():
            if each.excludes and each.counts(self.now) and each.group_id in within:
                assert all(row.application_id != each.application_id for row in self.user.access)


TestOneUserThroughTime = OneUserThroughTime.TestCase
TestOneUserThroughTime.settings = settings(max_examples=sized(30, 1000), stateful_step_count=25)

"""Tracked-only applications: the list of accounts to create, change and remove by hand, and the change to
provisioned and back.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import pytest

from dravo.core.errors import InvalidInput, NotFound, StalePreview, StillInUse
from dravo.services.access import assignments
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.applications import (
    account_list_comparison,
    applications,
    manual_tasks,
    roles,
    tracking,
)
from dravo.services.applications.manual_tasks import ManualTask, TaskMark
from dravo.services.applications.roles import RoleEdit
from dravo.services.changes.recompute import process_marks
from dravo.services.provisioning import summary as provisioning_summary
from dravo.services.provisioning import tasks
from dravo.services.security import masking
from dravo.services.security.permissions import OWNER, Caller
from dravo.store import tables as t
from dravo.store.pagination import PageRequest
from dravo.store.provisioning.manual import ManualTaskFilter
from tests.harness import Running, StandIn
from tests.service_fixture import ServiceFixture

KEY = "payslips"
OPEN, DONE = ManualTaskFilter(), ManualTaskFilter(done=True)


@dataclass
class Payslips:
    """A tracked-only application with two roles, and three users."""

    services: ServiceFixture
    records: dict[str, str] = field(default_factory=dict)
    assigned: dict[str, str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        services = self.services
        self.staff = services.source()
        applications.add(services.ctx, services.caller, KEY, "Payslips", None, tracked_only=True)
        for number, role in enumerate(("clerk", "head")):
            edit = RoleEdit(role.title(), number + 1, f"ROLE_{role.upper()}")
            roles.add_role(services.ctx, services.caller, KEY, role, edit)
        for name in ("ada", "bob", "cai"):
            email = [{"value": f"{name}@fernhollow.example", "primary": True}]
            self.records[name] = services.user(self.staff, name, displayName=name.title(), emails=email)

    def assign(self, name: str, role: str = "clerk") -> None:
        wish = AssignmentRequest(KEY, role, user=name)
        self.assigned[name] = assignments.add(self.services.ctx, self.services.caller, wish).id

    def unassign(self, name: str) -> None:
        assignments.remove(self.services.ctx, self.services.caller, self.assigned.pop(name))

    def list(self, only: ManualTaskFilter = OPEN) -> list[ManualTask]:
        process_marks(self.services.ctx)
        return manual_tasks.list_tasks(self.services.ctx, KEY, PageRequest(), only).items

    def actions(self) -> dict[str, str | None]:
        return {each.user.user_name: each.action for each in self.list()}

    def mark(self, *names: str) -> int:
        marks = [TaskMark(each.id, each.version) for each in self.list() if each.user.user_name in names]
        return manual_tasks.mark_done(self.services.ctx, self.services.caller, KEY, marks).number

    def compare(self, text: str, **more: Any) -> account_list_comparison.ListComparison:
        columns = more.pop("columns", {})
        ctx, caller = self.services.ctx, self.services.caller
        return account_list_comparison.compare(ctx, caller, KEY, text.encode(), columns, **more)

    def track(self, *, tracked_only: bool) -> None:
        about = {"tracked_only": tracked_only}
        applications.change(self.services.ctx, self.services.caller, KEY, about, {})

    def statuses(self) -> list[str]:
        return sorted(row.status for row in self.services.rows(t.task, closed_at=None))


@pytest.fixture
def payslips(services: ServiceFixture) -> Payslips:
    return Payslips(services)


def test_accounts_are_listed_done_changed_and_removed_by_hand(payslips: Payslips) -> None:
    for name in ("ada", "bob"):
        payslips.assign(name)
    assert payslips.actions() == {"ada": "create", "bob": "create"}
    ada = payslips.list()[0]
    assert (ada.roles, ada.email) == (["Clerk"], "ada@fernhollow.example")
    assert payslips.mark("ada") == 1 and payslips.actions() == {"bob": "create"}
    payslips.assign("ada", "head")
    (change,) = [each for each in payslips.list() if each.user.user_name == "ada"]
    assert change.action == "change" and [each.attribute for each in change.changes] == ["roles"]
    payslips.mark("ada", "bob")
    payslips.unassign("bob")
    assert payslips.actions() == {"bob": "deactivate"}
    assert payslips.mark("bob") == 1 and payslips.actions() == {}
    done = payslips.list(DONE)
    assert [(each.action, each.user.user_name) for each in done] == [
        ("deactivate", "bob"),
        ("change", "ada"),
        ("create", "bob"),
        ("create", "ada"),
    ]
    assert done[0].message == "Done by hand by the command line." and done[0].done_at
    assert "marked accounts as done" in {row.action for row in payslips.services.rows(t.audit)}


def test_a_change_that_is_undone_in_time_leaves_nothing_to_do(payslips: Payslips) -> None:
    payslips.assign("ada")
    payslips.unassign("ada")
    assert payslips.actions() == {}, "the account was never created"
    payslips.assign("ada")
    payslips.mark("ada")
    payslips.unassign("ada")
    payslips.assign("ada")
    assert payslips.actions() == {}
    (account,) = payslips.services.rows(t.account)
    assert account.applied_version == account.desired_version


def test_a_task_is_marked_only_as_it_was_seen(payslips: Payslips) -> None:
    payslips.assign("ada")
    payslips.assign("bob")
    seen = [TaskMark(each.id, each.version) for each in payslips.list()]
    payslips.assign("ada", "head")
    process_marks(payslips.services.ctx)
    with pytest.raises(StalePreview, match="Ada"):
        manual_tasks.mark_done(payslips.services.ctx, payslips.services.caller, KEY, seen)
    assert len(payslips.list()) == 2, "none was marked"
    for wrong in ([], [TaskMark("nothing")]):
        with pytest.raises((InvalidInput, NotFound)):
            manual_tasks.mark_done(payslips.services.ctx, payslips.services.caller, KEY, wrong)


def test_a_mark_can_be_taken_back_while_it_is_the_last(payslips: Payslips) -> None:
    ctx, caller = payslips.services.ctx, payslips.services.caller
    payslips.assign("ada")
    payslips.mark("ada")
    payslips.assign("ada", "head")
    payslips.mark("ada")
    last, first = payslips.list(DONE)
    with pytest.raises(InvalidInput, match="later task"):
        manual_tasks.mark_open(ctx, caller, KEY, [first.id])
    assert manual_tasks.mark_open(ctx, caller, KEY, [last.id]).number == 1
    assert payslips.actions() == {"ada": "change"} and len(payslips.list(DONE)) == 1
    payslips.mark("ada")
    assert payslips.actions() == {}
    with pytest.raises(NotFound):
        manual_tasks.mark_open(ctx, caller, KEY, ["nothing"])


def test_the_worker_and_the_removal_limit_leave_manual_tasks_alone(payslips: Payslips) -> None:
    payslips.assign("ada")
    payslips.mark("ada")
    payslips.unassign("ada")
    summary = provisioning_summary.summarize(payslips.services.ctx)
    assert (summary.settled, summary.counts.manual, summary.counts.waiting) == (True, 1, 0)
    assert applications.one(payslips.services.ctx, KEY).manual == 1
    (task,) = payslips.list()
    with pytest.raises(InvalidInput, match="tracked only"):
        tasks.retry(payslips.services.ctx, payslips.services.caller, task.id)
    assert tasks.one(payslips.services.ctx, task.id).waits_for == (
        "an operator, because the application is tracked only"
    )


def test_the_list_is_narrowed_and_exported_without_formulas(payslips: Payslips) -> None:
    services = payslips.services
    services.user(payslips.staff, "dee", displayName="=cmd()")
    for name in ("ada", "bob", "dee"):
        payslips.assign(name)
    payslips.mark("bob")
    payslips.unassign("bob")
    assert [each.user.user_name for each in payslips.list(ManualTaskFilter(action="deactivate"))] == ["bob"]
    assert [each.user.user_name for each in payslips.list(ManualTaskFilter(words="ad"))] == ["ada"]
    lines = b"".join(manual_tasks.export(services.ctx, KEY, OPEN)).decode().splitlines()
    assert lines[0] == "action,user,user name,email,roles,plan,changes,since,task,version"
    assert [line.split(",")[:3] for line in lines[1:]] == [
        ["create", "'=cmd()", "dee"],
        ["create", "Ada", "ada"],
        ["deactivate", "Bob", "bob"],
    ]


def test_an_owner_without_attributes_sees_no_email(payslips: Payslips) -> None:
    payslips.assign("ada")
    masking.hide_for(Caller("x", "Owner", OWNER))
    try:
        assert [each.email for each in payslips.list()] == ["•••@fernhollow.example"]
    finally:
        masking.hide_for(None)


def test_a_list_of_the_application_is_compared_and_marks_what_agrees(payslips: Payslips) -> None:
    for name in ("ada", "bob", "cai"):
        payslips.assign(name)
    payslips.mark("cai")
    payslips.unassign("cai")
    text = "Login;Profile\nada;ROLE_CLERK\nbob;ROLE_HEAD\nzoe;ROLE_CLERK\n"
    found = payslips.compare(text)
    assert found.columns == {"user_name": "login", "roles": "profile"}
    assert found.counts == {"missing": 0, "unexpected": 1, "roles": 1, "status": 0, "same": 1}
    assert [(each.kind, each.name, each.line) for each in found.items] == [
        ("unexpected", "zoe", 4),
        ("roles", "Bob", 3),
    ]
    assert (found.can_be_marked, found.marked, len(payslips.list())) == (2, 0, 3)
    found = payslips.compare(text, mark=True)
    assert found.marked == 2 and payslips.actions() == {"bob": "create"}


@pytest.mark.parametrize(
    ("text", "more", "words"),
    [
        ("", {}, "empty"),
        ("since\n2031\n", {}, "no column with user names"),
        ("login\nada\n", {"mark": True}, "no column with roles"),
        ('login;role\n"ada"x;clerk\n', {"mark": True}, "Line 2 cannot be read"),
        ('login;role\n"ada;clerk\n', {}, "never closed"),
        ("login\nada\n", {"columns": {"roles": "rolle"}}, "no column 'rolle'"),
    ],
)
def test_a_list_that_cannot_be_compared_is_refused(
    payslips: Payslips, text: str, more: dict[str, Any], words: str
) -> None:
    payslips.assign("ada")
    with pytest.raises(InvalidInput, match=words) as told:
        payslips.compare(text, **more)
    assert told.value.hint and len(payslips.list()) == 1


def test_an_application_becomes_provisioned_and_tracked_again_with_its_history(payslips: Payslips) -> None:
    ctx = payslips.services.ctx
    for name in ("ada", "bob"):
        payslips.assign(name)
    payslips.mark("ada")
    said = tracking.preview_switch(ctx, KEY, tracked_only=False).sentences
    assert "Dravo looks for 1 account that exist already." not in said
    assert any(each.startswith("1 account on the list for operators waits") for each in said)
    payslips.track(tracked_only=False)
    detail = applications.one(ctx, KEY)
    assert (detail.tracked_only, detail.provisioning.status, detail.users) == (False, "disabled", 2)
    assert payslips.statuses() == ["waiting", "waiting"], "ada's account is looked for as well"
    assert payslips.list() == [] and len(payslips.list(DONE)) == 1
    with pytest.raises(InvalidInput, match="Dravo provisions the accounts"):
        manual_tasks.mark_done(ctx, payslips.services.caller, KEY, [TaskMark("any")])
    payslips.track(tracked_only=True)
    assert payslips.statuses() == ["manual", "manual"]
    assert payslips.mark("ada", "bob") == 2
    assert tracking.preview_switch(ctx, KEY, tracked_only=True).sentences == ["Nothing changes."]


def test_a_tracked_application_is_deleted_although_accounts_remain(payslips: Payslips) -> None:
    ctx, caller = payslips.services.ctx, payslips.services.caller
    payslips.assign("ada")
    payslips.mark("ada")
    with pytest.raises(StillInUse, match="assignments"):
        applications.remove(ctx, caller, KEY, "Payslips")
    payslips.unassign("ada")
    process_marks(ctx)
    assert "1 account on the list for operators" in " ".join(applications.preview_removal(ctx, KEY).sentences)
    applications.remove(ctx, caller, KEY, "Payslips")
    assert payslips.services.rows(t.task) == []


@pytest.mark.long
def test_accounts_made_by_hand_are_adopted_when_dravo_takes_over(
    running: Running, app: StandIn, fresh: Any
) -> None:
    key, name, other = fresh("payslips"), fresh("ada"), fresh("bob")
    provider = running.provider("staff")
    for each in (name, other):
        provider.user(each)
    with running.dravo as dravo:
        dravo.applications.add(key, "Payslips", tracked_only=True)
        dravo.applications.add_role(key, "clerk", "Clerk")
        for each in (name, other):
            dravo.assignments.add(key, "clerk", user=each)
        # An operator creates one account and says so.
        made = app.create(userName=name)
        (task,) = [each for each in dravo.manual_tasks.list(key) if each["user"]["user_name"] == name]
        assert dravo.manual_tasks.mark_done(key, [task]) == 1
        dravo.applications.change(key, tracked_only=False, adopt_by=["userName"])
        dravo.applications.connect(key, app.base_url, app.token)
        dravo.applications.set_status(key, "enabled")
        running.settled(key)
        accounts = {each["user"]["user_name"]: each for each in dravo.accounts.list(application=key)}
    assert accounts[name]["remote_id"] == made and accounts[name]["origin"] == "adopted"
    assert accounts[other]["origin"] == "made" and app.roles(name) == ["clerk"]

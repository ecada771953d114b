"""Plans with seats: who gets one, who waits, what is sent meanwhile, and that no more are given than there
are.
"""

from __future__ import annotations

import tempfile
from pathlib import Path

import pytest
from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, rule

from dravo.core.access.license_plans import Seat, seating
from dravo.core.errors import AlreadyExists, InvalidInput, NotFound, StillInUse
from dravo.core.provisioning.accounts import describe, differences, scim_body
from dravo.services.access import assignment_changes, assignments, license_plans, undo
from dravo.services.access import explanation as access_explanation
from dravo.services.access.assignment_changes import AssignmentEdit
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.access.license_plans import NewLicensePlan
from dravo.services.applications import applications
from dravo.services.changes.preview import UNCONFIRMED
from dravo.services.changes.recompute import process_marks
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.pagination import PageRequest
from tests.scale import sized
from tests.service_fixture import ServiceFixture


@pytest.mark.parametrize(
    ("held", "wanted", "asks", "ends"),
    [
        ([], {}, (), ()),
        ([], {"desk": ("f",)}, (("desk", "f"),), ()),
        ([("1", "f", True)], {"desk": ("f",)}, (), ()),
        ([("1", "f", False)], {"desk": ("f",)}, (), ()),
        ([("1", "f", True)], {}, (), ("1",)),
        ([("1", "f", False)], {}, (), ("1",)),
        # Who may have two plans waits for both, then for the higher one with a seat of the lower, then for
        # none.
        ([], {"desk": ("f", "b")}, (("desk", "b"), ("desk", "f")), ()),
        ([("1", "b", True), ("2", "f", False)], {"desk": ("f", "b")}, (), ()),
        ([("1", "b", True)], {"desk": ("f", "b")}, (("desk", "f"),), ()),
        ([("1", "f", True), ("2", "b", False)], {"desk": ("f", "b")}, (), ("2",)),
        # A seat of a plan that they may no longer have ends at once.
        ([("1", "b", True)], {"desk": ("f",)}, (("desk", "f"),), ("1",)),
        ([("1", "f", True)], {"desk": ("b",)}, (("desk", "b"),), ("1",)),
    ],
)
def test_seats_over_time(
    held: list[tuple[str, str, bool]],
    wanted: dict[str, tuple[str, ...]],
    asks: tuple[str, ...],
    ends: tuple[str, ...],
) -> None:
    found = seating([Seat(seat, "desk", plan, seated) for seat, plan, seated in held], wanted)
    assert (found.asks, found.ends) == (asks, ends)


def test_a_license_plan_is_sent_beside_the_roles() -> None:
    due = {
        "want": "present",
        "active": True,
        "user": {"userName": "ada"},
        "roles": [{"value": "clerk", "display": "Clerk", "primary": True}],
    }
    with_plan = {**due, "plan": {"value": "full", "display": "Full"}}
    assert scim_body(with_plan)["entitlements"] == [{"value": "full", "display": "Full", "primary": True}]
    assert differences(scim_body(with_plan), scim_body(due)) == [{"op": "remove", "path": "entitlements"}]
    together = {**with_plan, "carry": {"way": "entitlements"}}
    assert [each["value"] for each in scim_body(together)["entitlements"]] == ["clerk", "full"]
    assert (
        scim_body({**with_plan, "carry_plan": {"way": "attribute", "attribute": "userType"}})["userType"]
        == "full"
    )
    assert "entitlements" not in scim_body({**with_plan, "carry_plan": {"way": "nothing"}})
    assert describe(with_plan) == "active, Clerk (plan Full)"


class Desk:
    """An application with a plan of two seats, and a group that gives it."""

    def __init__(self, services: ServiceFixture, seats: int | None = 2) -> None:
        self.services = services
        self.staff = services.source()
        services.application("desk", "clerk", "supervisor")
        license_plans.add(services.ctx, services.caller, "desk", NewLicensePlan("full", "Full", 2, seats))
        self.group = services.group(self.staff, "Supervisors")
        self.given = assignments.add(
            services.ctx,
            services.caller,
            AssignmentRequest("desk", "supervisor", group=self.group, plan="full"),
        ).id
        self.users: dict[str, str] = {}

    def put(self, *names: str) -> None:
        for name in names:
            if name not in self.users:
                self.users[name] = self.services.user(self.staff, name)
            self.services.add(self.staff, self.group, self.users[name])
            self.settle()

    def settle(self) -> None:
        for _ in range(4):
            process_marks(self.services.ctx)
            license_plans.give_free_seats(self.services.ctx, clock.now())
        process_marks(self.services.ctx)

    def listed(self, *, waiting: bool = False) -> list[str]:
        return [
            each.user.user_name
            for each in license_plans.seats(self.services.ctx, "desk", PageRequest(), waiting=waiting).items
        ]

    def of_plans(self) -> dict[str, str]:
        return {
            each.user.user_name: each.plan.key
            for each in license_plans.seats(self.services.ctx, "desk", PageRequest()).items
        }

    def due(self) -> dict[str, list[str]]:
        names = {row.id: row.user_name for row in self.services.rows(t.user)}
        return {
            names[row.user_id]: [role["value"] for role in row.desired.get("roles", ())]
            for row in self.services.rows(t.account)
        }


def test_a_full_plan_has_a_waiting_list_and_a_leaver_frees_a_seat(services: ServiceFixture) -> None:
    desk = Desk(services)
    desk.put("ada", "bob", "cai", "dan")
    assert (desk.listed(), desk.listed(waiting=True)) == (["ada", "bob"], ["cai", "dan"])
    assert desk.due() == {"ada": ["supervisor"], "bob": ["supervisor"]}
    plan = applications.one(services.ctx, "desk").plans[0]
    assert (plan.taken, plan.waiting, plan.free, plan.status) == (2, 2, 0, "full")
    # Access is there all the same, and says what it waits for.
    why = access_explanation.why(services.ctx, "dan", "desk")
    assert why.has_access and why.account is None and why.access[0].seat.since is None
    assert any(
        "has waited for a seat of the license plan Full" in each
        and "position 2 of the waiting list" in each
        and "All 2 seats are taken" in each
        for each in why.sentences
    )
    services.take_out(desk.staff, desk.group, desk.users["ada"])
    desk.settle()
    assert (desk.listed(), desk.listed(waiting=True)) == (["bob", "cai"], ["dan"])
    assert desk.due()["cai"] == ["supervisor"] and "dan" not in desk.due()
    assert any(
        "next in line" in each for each in access_explanation.why(services.ctx, "dan", "desk").sentences
    )
    # Somebody who is inactive has no seat, and comes last when they are back.
    services.patch_user(desk.staff, desk.users["bob"], {"op": "replace", "path": "active", "value": False})
    desk.settle()
    services.patch_user(desk.staff, desk.users["bob"], {"op": "replace", "path": "active", "value": True})
    desk.settle()
    assert (desk.listed(), desk.listed(waiting=True)) == (["cai", "dan"], ["bob"])
    license_plans.change(services.ctx, services.caller, "desk", "full", {"seats": 3})
    desk.settle()
    assert (
        len(desk.listed()),
        desk.listed(waiting=True),
        applications.one(services.ctx, "desk").plans[0].status,
    ) == (3, [], "full")
    # Fewer seats than are taken: nobody loses theirs.
    license_plans.change(services.ctx, services.caller, "desk", "full", {"seats": 1})
    desk.settle()
    assert len(desk.listed()) == 3
    license_plans.change(services.ctx, services.caller, "desk", "full", {"seats": 0})
    assert applications.one(services.ctx, "desk").plans[0].seats is None


def test_other_attributes_are_sent_while_a_user_waits_for_a_seat(services: ServiceFixture) -> None:
    desk = Desk(services, seats=1)
    assignments.add(services.ctx, services.caller, AssignmentRequest("desk", "clerk", everyone=True))
    desk.put("ada", "bob")
    assert desk.due() == {"ada": ["supervisor", "clerk"], "bob": ["clerk"]}
    # A second reason without a plan frees the role from the seat.
    assignments.add(services.ctx, services.caller, AssignmentRequest("desk", "supervisor", user="bob"))
    desk.settle()
    assert desk.due()["bob"] == ["supervisor", "clerk"] and desk.listed(waiting=True) == ["bob"]


def test_of_several_plans_the_highest_counts_and_the_lower_one_until_then(services: ServiceFixture) -> None:
    desk = Desk(services, seats=1)
    license_plans.add(services.ctx, services.caller, "desk", NewLicensePlan("basic", "Basic", 1, None))
    assignments.add(
        services.ctx, services.caller, AssignmentRequest("desk", "clerk", everyone=True, plan="basic")
    )
    desk.put("ada", "bob")
    assert (desk.of_plans(), desk.listed(waiting=True)) == ({"ada": "full", "bob": "basic"}, ["bob"])
    # What comes with the higher plan does not are sent with a seat of the lower one.
    assert desk.due() == {"ada": ["supervisor", "clerk"], "bob": ["clerk"]}
    services.take_out(desk.staff, desk.group, desk.users["ada"])
    desk.settle()
    assert (desk.of_plans(), desk.listed(waiting=True)) == ({"ada": "basic", "bob": "full"}, [])
    assert {row.desired["plan"]["value"] for row in services.rows(t.account)} == {"basic", "full"}


def test_a_preview_says_how_many_would_wait(services: ServiceFixture) -> None:
    desk = Desk(services)
    desk.put("ada")
    for name in ("bob", "cai", "dan"):
        services.user(desk.staff, name)
    shown = assignment_changes.preview_adding(
        services.ctx, AssignmentRequest("desk", "supervisor", everyone=True, plan="full")
    )
    assert [(each.plan.key, each.asked, each.free, each.wait) for each in shown.seats] == [("full", 3, 1, 2)]
    assert len(services.rows(t.seat)) == 1
    # The plan of an assignment is changed, and changed again by undoing.
    assignments.change(services.ctx, services.caller, desk.given, AssignmentEdit(plan=""))
    desk.settle()
    assert desk.listed() == [] and desk.due() == {"ada": ["supervisor"]}
    entry = next(row.id for row in services.rows(t.audit) if row.action == "changed assignment")
    assert undo.preview(services.ctx, entry).seats[0].asked == 1
    undo.undo(services.ctx, services.caller, entry, UNCONFIRMED)
    desk.settle()
    assert desk.listed() == ["ada"]


@pytest.mark.parametrize(
    ("wish", "said"),
    [
        (AssignmentRequest("desk", "supervisor", everyone=True, plan="gold"), "has no license plan 'gold'"),
        (AssignmentRequest("desk", None, everyone=True, plan="full"), "A license plan needs a role."),
        (
            AssignmentRequest("desk", None, everyone=True, excludes=True, plan="full"),
            "A license plan needs a role.",
        ),
    ],
)
def test_a_plan_that_cannot_be_is_refused(
    services: ServiceFixture, wish: AssignmentRequest, said: str
) -> None:
    Desk(services)
    with pytest.raises((InvalidInput, NotFound), match=said):
        assignments.add(services.ctx, services.caller, wish)


def test_license_plans_are_created_and_deleted(services: ServiceFixture) -> None:
    Desk(services)
    with pytest.raises(AlreadyExists):
        license_plans.add(services.ctx, services.caller, "desk", NewLicensePlan("full", "Full", 1, None))
    with pytest.raises(InvalidInput, match="between 0 and"):
        license_plans.add(services.ctx, services.caller, "desk", NewLicensePlan("other", "Other", 1, -1))
    with pytest.raises(StillInUse):
        license_plans.remove(services.ctx, services.caller, "desk", "full")
    license_plans.add(services.ctx, services.caller, "desk", NewLicensePlan("spare", "Spare", 1, 5))
    license_plans.remove(services.ctx, services.caller, "desk", "spare")
    assert [each.key for each in applications.one(services.ctx, "desk").plans] == ["full"]


def test_the_value_of_a_plan_is_previewed_and_reaches_the_accounts(services: ServiceFixture) -> None:
    desk = Desk(services)
    desk.put("ada")
    desk.settle()
    urn = {"sent_value": "urn:desk:plan:full"}
    looked = license_plans.preview_change(services.ctx, "desk", "full", urn).shown()
    assert looked.effects[0] == "Dravo sends 'urn:desk:plan:full' for the plan instead of 'full'."
    assert looked.access is not None and looked.access.accounts == 1
    license_plans.change(
        services.ctx, services.caller, "desk", "full", {**urn, "description": "All counters"}
    )
    desk.settle()
    [account] = services.rows(t.account)
    assert account.desired["plan"] == {"value": "urn:desk:plan:full", "display": "Full"}
    [plan] = applications.one(services.ctx, "desk").plans
    assert (plan.sent_value, plan.description, plan.taken) == ("urn:desk:plan:full", "All counters", 1)
    spare = NewLicensePlan("spare", "Spare", 1, 5, sent_value="urn:desk:plan:full")
    with pytest.raises(AlreadyExists, match="is already sent as"):
        license_plans.add(services.ctx, services.caller, "desk", spare)


class Seats(RuleBasedStateMachine):
    """Users come, go, wait and change plan while the number of seats changes."""

    def __init__(self) -> None:
        super().__init__()
        self.folder = tempfile.TemporaryDirectory()
        self.desk = Desk(ServiceFixture(Path(self.folder.name)).unguarded(), seats=2)
        self.services = self.desk.services
        self.taken: dict[str, int] = {}
        self.most = {"full": 2, "basic": 1}

    def teardown(self) -> None:
        self.services.ctx.close()
        self.folder.cleanup()

    @initialize()
    def begin(self) -> None:
        license_plans.add(
            self.services.ctx, self.services.caller, "desk", NewLicensePlan("basic", "Basic", 1, 1)
        )
        self.others = self.services.group(self.desk.staff, "Clerks")
        assignments.add(
            self.services.ctx,
            self.services.caller,
            AssignmentRequest("desk", "clerk", group=self.others, plan="basic"),
        )

    @rule(name=st.sampled_from("abcd"), supervisor=st.booleans(), inside=st.booleans())
    def move(self, name: str, supervisor: bool, inside: bool) -> None:
        if name not in self.desk.users:
            self.desk.users[name] = self.services.user(self.desk.staff, name)
        group = self.desk.group if supervisor else self.others
        (self.services.add if inside else self.services.take_out)(
            self.desk.staff, group, self.desk.users[name]
        )

    @rule(name=st.sampled_from("abcd"), active=st.booleans())
    def change(self, name: str, active: bool) -> None:
        if name in self.desk.users:
            self.services.patch_user(
                self.desk.staff, self.desk.users[name], {"op": "replace", "path": "active", "value": active}
            )

    @rule(seats=st.integers(1, 4))
    def resize(self, seats: int) -> None:
        license_plans.change(self.services.ctx, self.services.caller, "desk", "full", {"seats": seats})
        self.most["full"] = seats

    @rule()
    def settle(self) -> None:
        self.desk.settle()
        # When all is settled nobody waits while there is a free seat: counted by the seats that were given,
        # not by what is shown.
        seats = self.services.rows(t.seat, until_at=None)
        for plan in self.services.rows(t.license_plan):
            taken = sum(1 for each in seats if each.plan_id == plan.id and each.from_at)
            waiting = sum(1 for each in seats if each.plan_id == plan.id and not each.from_at)
            if taken < self.most[plan.key]:
                assert waiting == 0, (
                    f"{waiting} wait for {plan.key}, of which {taken} of {self.most[plan.key]} seats "
                    "are taken"
                )

    @invariant()
    def no_seat_is_given_beyond_those_that_there_are(self) -> None:
        keys = {row.id: row.key for row in self.services.rows(t.license_plan)}
        now: dict[str, int] = {}
        for row in self.services.rows(t.seat, until_at=None):
            if row.from_at is not None:
                now[keys[row.plan_id]] = now.get(keys[row.plan_id], 0) + 1
        for key, number in now.items():
            # More than there are only because there were more when they were given.
            assert number <= max(self.most[key], self.taken.get(key, 0))
        self.taken = now

    @invariant()
    def anyone_who_has_or_waits_for_a_seat_has_access_that_asks_for_it(self) -> None:
        process_marks(self.services.ctx)
        roles = {row.id: row.key for row in self.services.rows(t.role)}
        may: dict[str, set[str]] = {}
        for row in self.services.rows(t.access, until_at=None):
            may.setdefault(row.user_id, set()).add("full" if roles[row.role_id] == "supervisor" else "basic")
        keys = {row.id: row.key for row in self.services.rows(t.license_plan)}
        seated = {
            row.user_id: keys[row.plan_id] for row in self.services.rows(t.seat, until_at=None) if row.from_at
        }
        waits: dict[str, set[str]] = {}
        for row in self.services.rows(t.seat, until_at=None):
            if not row.from_at:
                waits.setdefault(row.user_id, set()).add(keys[row.plan_id])
        for user, plans_of in may.items():
            higher = {"full"} - {seated.get(user)} if seated.get(user) else plans_of
            assert waits.get(user, set()) == higher & plans_of and seated.get(user, "") in {"", *plans_of}
        assert (seated.keys() | waits.keys()) <= may.keys()

    @invariant()
    def what_comes_with_a_plan_goes_over_only_with_a_seat(self) -> None:
        process_marks(self.services.ctx)
        keys = {row.id: row.key for row in self.services.rows(t.license_plan)}
        seated = {
            row.user_id: keys[row.plan_id]
            for row in self.services.rows(t.seat, until_at=None)
            if row.from_at is not None
        }
        roles = {row.id: row.key for row in self.services.rows(t.role)}
        given: dict[str, set[str]] = {}
        for row in self.services.rows(t.access, until_at=None):
            given.setdefault(row.user_id, set()).add(roles[row.role_id])
        allowed = {"": set(), "basic": {"clerk"}, "full": {"clerk", "supervisor"}}
        for row in self.services.rows(t.account):
            expected = given.get(row.user_id, set()) & allowed[seated.get(row.user_id, "")]
            assert {role["value"] for role in row.desired.get("roles", ())} == expected
            assert row.desired.get("plan", {}).get("value") == (seated.get(row.user_id) if expected else None)


TestSeats = Seats.TestCase
TestSeats.settings = settings(max_examples=sized(5, 200), stateful_step_count=20)

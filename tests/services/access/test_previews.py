"""Two promises, after any sequence of changes: what is previewed is what happens, and the guard never lets more go than its limit."""

from __future__ import annotations

import contextlib
import tempfile
from pathlib import Path
from typing import Any

from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, rule

from dravo.core.errors import AlreadyThere
from dravo.services import settings as house_settings
from dravo.services.access import assignment_changes, assignments
from dravo.services.access import policies as access_policies
from dravo.services.access.assignment_targets import Wish
from dravo.services.changes import recompute
from dravo.services.changes.preview import Sure
from dravo.services.provisioning import holds
from dravo.store import clock
from dravo.store import tables as t
from tests.scale import sized
from tests.service_fixture import Rooms

PEOPLE, ROLES, GROUPS = 6, ("viewer", "curator"), ("records-viewer", "records-curator", "Guides")


class Machine(RuleBasedStateMachine):
    """One source, one application, some people in some groups."""

    def __init__(self) -> None:
        super().__init__()
        self.folder = tempfile.TemporaryDirectory()
        self.rooms = Rooms(Path(self.folder.name))
        self.assignments: list[str] = []

    def teardown(self) -> None:
        self.rooms.house.close()
        self.folder.cleanup()

    def make(self) -> None:
        """Add the source, its people and groups, and the application."""
        self.staff = self.rooms.source()
        self.rooms.application("records", *ROLES)
        self.people = [self.rooms.person(self.staff, f"p{number}", title="ab"[number % 2]) for number in range(PEOPLE)]
        self.groups = {name: self.rooms.group(self.staff, name, *self.people[place::3]) for place, name in enumerate(GROUPS)}

    @rule(name=st.sampled_from(GROUPS), who=st.integers(0, PEOPLE - 1), joins=st.booleans())
    def membership(self, name: str, who: int, joins: bool) -> None:
        (self.rooms.add if joins else self.rooms.take_out)(self.staff, self.groups[name], self.people[who])

    @rule(who=st.integers(0, PEOPLE - 1), active=st.booleans(), title=st.sampled_from("ab"))
    def change(self, who: int, active: bool, title: str) -> None:
        self.rooms.patch_person(self.staff, self.people[who], {"op": "replace", "value": {"active": active, "title": title}})

    wishes = st.one_of(
        st.builds(lambda role, group: ("group", role, group), st.sampled_from([None, *ROLES]), st.sampled_from(GROUPS)),
        st.builds(lambda role, rule: ("rule", role, rule), st.sampled_from(ROLES), st.sampled_from(['title eq "a"', 'groups pr and title ne "a"'])),
        st.builds(lambda role, who: ("person", role, who), st.sampled_from(ROLES), st.integers(0, PEOPLE - 1)),
        st.builds(lambda group: ("out", None, group), st.sampled_from(GROUPS)),
        st.sampled_from([("pattern", None, None), ("everybody", "viewer", None), ("everybody", None, None)]),
    )

    def wish(self, asked: tuple[str, str | None, Any]) -> Wish:
        kind, role, of = asked
        return {
            "group": lambda: Wish("records", role, group=self.groups[of]),
            "rule": lambda: Wish("records", role, rule=of),
            "person": lambda: Wish("records", role, person=f"p{of}"),
            "out": lambda: Wish("records", None, group=self.groups[of], excludes=True),
            "pattern": lambda: Wish("records", None, source="staff", pattern="^records-(.+)$", confirmed=(self.groups["records-curator"],)),
            "everybody": lambda: Wish("records", role, everybody=True),
        }[kind]()

    def roles(self) -> dict[str, set[str]]:
        recompute.work_through(self.rooms.house)
        found: dict[str, set[str]] = {}
        for row in self.rooms.rows(t.access):
            if row.until_at is None:
                found.setdefault(row.user_id, set()).add(row.role_id)
        return found


class Previews(Machine):
    """Every change is looked at, then made; the two agree to the person."""

    @initialize()
    def begin(self) -> None:
        self.make()

    def compared(self, preview: dict[str, Any], before: dict[str, set[str]], state: list[Any]) -> None:
        """Compare what was shown with what has become."""
        after = self.roles()
        people = {*before, *after}
        assert preview["gained"] == sum(each not in before for each in people)
        assert preview["lost"] == sum(each not in after for each in people)
        assert preview["changed"] == sum(each in before and each in after and before[each] != after[each] for each in people)
        label_of = {row.id: row.label for row in self.rooms.rows(t.role)}
        shown = {line["person"]["id"]: set(line["after"]) for line in preview["people"]}
        assert shown == {each: {label_of[role] for role in after.get(each, ())} for each in people if before.get(each) != after.get(each)}

    def state(self) -> list[Any]:
        return [len(self.rooms.rows(table)) for table in (t.access, t.account, t.assignment, t.delivery, t.mark, t.audit, t.kept)]

    @rule(asked=Machine.wishes)
    def add(self, asked: tuple[str, str | None, Any]) -> None:
        before, wish = self.roles(), self.wish(asked)
        state = self.state()
        preview = assignment_changes.preview_adding(self.rooms.house, wish)
        assert self.state() == state, "looking changes nothing"
        with contextlib.suppress(AlreadyThere):
            self.assignments.append(assignments.add(self.rooms.house, self.rooms.caller, wish, Sure("Records"))["id"])
            self.compared(preview, before, state)

    @rule(number=st.integers(0, 9))
    def take_away(self, number: int) -> None:
        if self.assignments:
            identifier, before = self.assignments.pop(number % len(self.assignments)), self.roles()
            state = self.state()
            preview = assignment_changes.preview_removing(self.rooms.house, identifier)
            assert self.state() == state
            assignments.remove(
                self.rooms.house, self.rooms.caller, identifier, Sure("Records", (preview["gained"], preview["lost"], preview["changed"]))
            )
            self.compared(preview, before, state)

    @rule(
        open_to=st.sampled_from(["assigned", "everybody"]), if_nothing=st.sampled_from(["no access", "default role", "keep"]),
        several=st.sampled_from(["all", "highest"]), first=st.sampled_from(["both", "direct", "rules"]),
    )  # fmt: skip
    def decide(self, **policy: str) -> None:
        before, state = self.roles(), self.state()
        preview = access_policies.preview(self.rooms.house, "records", {**policy, "default_role": "viewer"})
        assert self.state() == state
        access_policies.change(self.rooms.house, self.rooms.caller, "records", {**policy, "default_role": "viewer"}, Sure("Records"))
        self.compared(preview, before, state)


class Guarded(Machine):
    """With two removals in a window, whatever happens: no more than these go without somebody who let them."""

    ALLOWED = 2

    @initialize()
    def begin(self) -> None:
        self.make()
        for name, value in (("guard_least", self.ALLOWED), ("guard_number", 0), ("guard_top_role", 1_000)):
            house_settings.change(self.rooms.house, self.rooms.caller, name, value)
        # Everybody has something that can be taken away.
        self.assignments.append(assignments.add(self.rooms.house, self.rooms.caller, Wish("records", "viewer", everybody=True))["id"])
        self.work()

    @rule(whom=st.sets(st.integers(0, PEOPLE - 1), min_size=1))
    def several_leave(self, whom: set[int]) -> None:
        for who in whom:
            self.rooms.patch_person(self.staff, self.people[who], {"op": "replace", "path": "active", "value": False})

    @rule(asked=Machine.wishes)
    def add(self, asked: tuple[str, str | None, Any]) -> None:
        wish = self.wish(asked)
        preview = assignment_changes.preview_adding(self.rooms.house, wish)
        if not preview["confirm"]:
            with contextlib.suppress(AlreadyThere):
                self.assignments.append(assignments.add(self.rooms.house, self.rooms.caller, wish)["id"])

    @rule()
    def somebody_lets_it_through(self) -> None:
        self.work()
        if holds.listing(self.rooms.house)["items"]:
            holds.let_through(self.rooms.house, self.rooms.caller, "records", "Records")
        self.work()
        agreed = {row.user_id: row for row in self.rooms.rows(t.account) if row.agreed_version >= row.due_version}
        for row in self.rooms.rows(t.user):
            # Nothing is left behind once it was let through: who is not active has no active account.
            if not row.active and row.id in agreed:
                assert not agreed[row.id].agreed.get("active")

    @rule()
    def work(self) -> None:
        """Judge and deliver, as the worker does: what may go is agreed then."""
        recompute.work_through(self.rooms.house)
        holds.judge(self.rooms.house, clock.now())
        with self.rooms.house.database.writing() as connection:
            d, a = t.delivery.c, t.account.c
            for row in connection.execute(t.delivery.select().where(d.state == "waiting")).all():
                if not row.removes or row.cleared_at:
                    connection.execute(t.account.update().where(a.id == row.account_id).values(agreed=a.due, had=a.due, agreed_version=a.due_version))
                    connection.execute(t.delivery.update().where(d.id == row.id).values(state="done", closed_at=clock.now()))

    @invariant()
    def no_more_go_than_the_limit(self) -> None:
        gone = [row for row in self.rooms.rows(t.delivery) if row.removes and row.cleared_at and row.cleared_by is None]
        assert len(gone) <= self.ALLOWED

    @invariant()
    def what_is_held_has_not_gone(self) -> None:
        for row in self.rooms.rows(t.delivery):
            if row.state == "held" and row.kind == holds.GUARD:
                account = self.rooms.rows(t.account, id=row.account_id)[0]
                assert account.agreed_version < account.due_version


TestPreviews = Previews.TestCase
TestPreviews.settings = settings(max_examples=sized(8, 300), stateful_step_count=12)
TestGuarded = Guarded.TestCase
TestGuarded.settings = settings(max_examples=sized(8, 300), stateful_step_count=20)


def test_everybody_whom_a_change_touches_is_named(rooms: Rooms) -> None:
    staff = rooms.source()
    rooms.application()
    for number in range(120):
        rooms.person(staff, f"p{number:03}")
    shown = assignment_changes.preview_adding(rooms.house, Wish("records", "viewer", everybody=True))
    assert (shown["gained"], len(shown["people"]), len({line["person"]["id"] for line in shown["people"]})) == (120, 120, 120)

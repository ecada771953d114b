"""Handing users of a source over to another: the impact list, a pilot group, everyone, and the way back."""

from __future__ import annotations

from typing import Any

import pytest

from dravo.core.errors import InvalidInput
from dravo.core.identity.records import INBOUND_SCIM
from dravo.services.access import assignments
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.changes import recompute
from dravo.services.changes.preview import Confirmation, NeedsConfirmation
from dravo.services.ingest.inbound.policy_application import PolicyApplication
from dravo.services.policies import policies
from dravo.services.policies.policies import StatusChange
from dravo.services.sources import hand_over
from dravo.services.sources.hand_over_plan import HandOverImpact, HandOverWish
from dravo.store import tables as t
from dravo.store.queries import users as user_queries
from tests.service_fixture import ServiceFixture

OWNED = "fernhollow.example"


class Sources(ServiceFixture):
    """Contractors at an old source, and a new source that reports some of them."""

    def prepare(self, *new: str, disabled: bool = False) -> None:
        self.unguarded().application()
        self.old, self.new = self.source("old", OWNED), self.source("new")
        self.records = {name: self.sent(self.old, name) for name in ("ida", "ove", "una")}
        self.guides = self.group(self.old, "Guides", *self.records.values())
        self.pilot = self.group(self.old, "Pilot", self.records["ida"])
        for group, role in ((self.guides, "viewer"), (self.pilot, "curator")):
            wish = AssignmentRequest("records", role, group=group)
            assignments.add(self.ctx, self.caller, wish)
        if disabled:
            wished = StatusChange("disabled")
            policies.set_status(self.ctx, self.caller, "new", INBOUND_SCIM, wished)
        self.others = {name: self.sent(self.new, name) for name in new}
        self.group(self.new, "Guides", *self.others.values())
        self.apply()

    def apply(self) -> None:
        while PolicyApplication(self.ctx.database, self.ctx.catalogue).apply_marked():
            pass
        recompute.process_marks(self.ctx)

    def sent(self, source: str, name: str) -> str:
        return self.user(source, name, emails=[{"value": f"{name}@{OWNED}"}])

    def look(self, group: str | None = None) -> HandOverImpact:
        return hand_over.preview(self.ctx, "old", HandOverWish("new", group))

    def move(self, group: str | None = None, confirm: str | None = "Old") -> Any:
        sure = Confirmation(confirm, None)
        found = hand_over.hand_over(self.ctx, self.caller, "old", HandOverWish("new", group), sure)
        self.apply()
        return found

    def undo(self) -> None:
        hand_over.undo(self.ctx, self.caller, "old")
        self.apply()

    def roles(self) -> dict[str, set[str]]:
        named = {row.id: row.user_name for row in self.rows(t.user)}
        keys = {row.id: row.key for row in self.rows(t.role)}
        found: dict[str, set[str]] = {}
        for row in self.rows(t.access, until_at=None):
            found.setdefault(named[row.user_id], set()).add(keys[row.role_id])
        return found

    def active(self) -> set[str]:
        return {row.user_name for row in self.rows(t.user) if row.active}


@pytest.fixture
def moving(services: ServiceFixture) -> Sources:
    services.__class__ = Sources
    assert isinstance(services, Sources)
    return services


@pytest.mark.parametrize("disabled", [False, True], ids=["in conflict", "stored by a disabled source"])
def test_users_and_mappings_follow_and_return(moving: Sources, disabled: bool) -> None:
    moving.prepare("ida", "ove", disabled=disabled)
    before = moving.roles()
    linked = {row.user_id for row in moving.rows(t.record, source_id=moving.old)}
    ids = {row.user_name: row.id for row in moving.rows(t.user) if row.id in linked}
    found = moving.look()
    assert found.numbers == {"matched": 0, "linked": 2, "unmatched": 1, "matched_twice": 0}
    assert [(each.name, each.counterpart, each.assignments) for each in found.groups] == [
        ("Guides", True, 1),
        ("Pilot", False, 1),
    ]
    assert (found.assignments, found.domains) == (1, [OWNED])
    assert found.effects.access is not None
    assert moving.roles() == before
    moving.move()
    # The group without a counterpart gives nothing any more, and the unmatched user has left.
    assert moving.roles() == {"ida": {"viewer"}, "ove": {"viewer"}}
    assert moving.active() == {"ida", "ove"}
    assert {row.user_name: row.id for row in moving.rows(t.user) if row.active} == {
        name: ids[name] for name in ("ida", "ove")
    }
    (old,) = moving.rows(t.source, key="old")
    assert old.retired_at is not None and not moving.rows(t.conflict, status="open")
    moving.undo()
    assert moving.roles() == before and moving.active() == {"ida", "ove", "una"}
    assert moving.rows(t.source, key="new")[0].domains == []


def test_a_pilot_group_is_handed_over_first(moving: Sources) -> None:
    moving.prepare("ida", "ove", "una")
    assert moving.look("Pilot").numbers["linked"] == 1
    assert moving.move("Pilot").status == "pilot"
    assert moving.roles() == {"ida": {"viewer"}, "ove": {"viewer"}, "una": {"viewer"}}
    by_source = {row.user_id: row.source_id for row in moving.rows(t.record, left_out=None, undecided=False)}
    ida = next(row.id for row in moving.rows(t.user) if row.user_name == "ida")
    assert by_source[ida] == moving.new
    with moving.ctx.database.reading() as connection:
        shown = {each.source.key: each for each in user_queries.records_of(connection, ida)}
    assert (shown["old"].left_out, shown["old"].active) == ("handed_over", False)
    assert (shown["new"].left_out, shown["new"].active) == (None, True)
    # What the old source still sends about the user changes nothing.
    moving.patch_user(moving.old, moving.records["ida"], {"op": "replace", "path": "active", "value": False})
    assert "ida" in moving.active()
    done = moving.move()
    assert (done.status, done.users) == ("done", 3)
    assert moving.roles() == {"ida": {"viewer"}, "ove": {"viewer"}, "una": {"viewer"}}
    moving.undo()
    assert moving.roles()["ove"] == {"viewer"} and "ida" in moving.active()


def test_what_the_old_source_sent_meanwhile_counts_after_the_way_back(moving: Sources) -> None:
    moving.prepare("ida")
    moving.move("Pilot")
    title = {"op": "replace", "path": "title", "value": "Head gardener"}
    moving.patch_user(moving.old, moving.records["ida"], title)
    (row,) = moving.rows(t.record, id=moving.records["ida"])
    assert row.left_out == "handed_over" and "title" not in row.in_use
    moving.undo()
    (row,) = moving.rows(t.record, id=moving.records["ida"])
    assert row.left_out is None and row.in_use is None and row.data["title"] == "Head gardener"


def test_the_policy_of_the_new_source_decides_about_linked_records(moving: Sources) -> None:
    upper = {"attributes": [{"attribute": "title", "expression": "userName then upper"}]}
    moving.prepare()
    policies.change(moving.ctx, moving.caller, "new", INBOUND_SCIM, {**upper, "users": 'userName ne "ove"'})
    moving.others = {name: moving.sent(moving.new, name) for name in ("ida", "ove")}
    moving.apply()
    assert [each.name for each in moving.look().users if each.outcome == "linked"] == ["ida"]
    moving.move()
    (row,) = moving.rows(t.record, id=moving.others["ida"])
    assert row.in_use["title"] == "IDA" and moving.active() == {"ida"}


def test_unclear_matches_and_a_missing_confirmation_are_refused(moving: Sources) -> None:
    moving.prepare("ida")
    with pytest.raises(NeedsConfirmation):
        moving.move(confirm=None)
    moving.user(moving.new, "ida.two", emails=[{"value": f"ida@{OWNED}"}])
    assert moving.look().numbers["matched_twice"] == 1
    with pytest.raises(InvalidInput, match="1 user matches several records"):
        moving.move()
    with pytest.raises(InvalidInput, match="handed over to itself"):
        hand_over.preview(moving.ctx, "old", HandOverWish("old"))
    with pytest.raises(InvalidInput, match="not handed over"):
        moving.undo()


def test_a_user_of_both_sources_stays_one_user(moving: Sources) -> None:
    moving.prepare()
    policies.change(moving.ctx, moving.caller, "new", INBOUND_SCIM, {"match": "email", "domains": [OWNED]})
    record = moving.sent(moving.new, "ida")
    assert moving.look().numbers == {"matched": 1, "linked": 0, "unmatched": 2, "matched_twice": 0}
    moving.move()
    (row,) = moving.rows(t.record, id=record)
    assert moving.active() == {"ida"} and [user.id for user in moving.rows(t.user, active=True)] == [
        row.user_id
    ]

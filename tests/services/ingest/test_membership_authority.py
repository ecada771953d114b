"""Who decides about the members of a group: connection types of its source, or operators in Dravo."""

from __future__ import annotations

import tempfile
from pathlib import Path

import pytest
from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, rule

from dravo.core.errors import InvalidInput, NotFound
from dravo.core.identity.membership_authority import ALL, AUTHORITIES, DRAVO
from dravo.core.identity.records import INBOUND_SCIM, SIGN_IN
from dravo.services.access import assignments
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.changes import recompute
from dravo.services.changes.preview import Preview
from dravo.services.ingest import record_links
from dravo.services.ingest.local import groups as local_groups
from dravo.services.ingest.local.groups import Members
from dravo.services.sources import membership_authority, priority
from dravo.store import clock
from dravo.store import groups as stored_groups
from dravo.store import tables as t
from dravo.store.pagination import PageRequest
from dravo.store.queries import groups as group_queries
from tests.scale import sized
from tests.service_fixture import ServiceFixture
from tests.services.sign_in.test_jit_provisioning import Door

PUSHED, SIGNED_IN = ("una", "zofia", "emeka"), ("idris", "odile")
GROUP = "Guides"


class Estate:
    """A source that pushes some users and has others sign in, and a group of it that opens an application."""

    def __init__(self, services: ServiceFixture) -> None:
        self.services = services.unguarded()
        self.ctx, self.caller = services.ctx, services.caller
        self.staff = services.source()
        services.application()
        self.door = Door(services, self.staff)
        self.records = {name: services.user(self.staff, name) for name in PUSHED}
        self.group = services.group(self.staff, GROUP)
        self.map(self.group)

    def map(self, group: str) -> None:
        assignments.add(self.ctx, self.caller, AssignmentRequest("records", "viewer", group=group))

    def push(self, *names: str) -> None:
        """The source lists these users, and no others."""
        members = [{"value": self.records[name]} for name in names]
        replaced = {"op": "replace", "path": "members", "value": members}
        self.services.patch_group(self.staff, self.group, replaced)

    def sign_in(self, name: str, *, listed: bool = True) -> None:
        self.door.come(f"s-{name}", username=[name], email=[], groups=[GROUP] if listed else [])

    def decide(self, authority: str | None, group: str | None = None) -> None:
        membership_authority.change_group(self.ctx, self.caller, group or self.group, authority)

    def edit(self, **members: tuple[str, ...]) -> None:
        """An operator changes members, by their user names."""
        local_groups.change_members(self.ctx, self.caller, self.group, Members(**members))

    def with_access(self) -> set[str]:
        recompute.process_marks(self.ctx)
        users = {row.id: row.user_name for row in self.services.rows(t.user)}
        return {users[row.user_id] for row in self.services.rows(t.access, until_at=None)}

    def shown(self) -> set[str]:
        """Return the members as operators see them, and check that every view says the same."""
        with self.ctx.database.reading() as connection:
            listed = group_queries.group_members(connection, self.group, PageRequest()).items
            detail = group_queries.group_detail(connection, self.group)
            assert detail is not None
            of_users = {
                row.user_name
                for row in self.services.rows(t.user)
                for each in group_queries.memberships_of(connection, row.id)
                if each.group.id == self.group and each.until is None
            }
        names = {each.user_name for each in listed}
        assert len(listed) == detail.members == len(names) and of_users == names
        return names

    def read_back(self) -> int:
        """Return how many members the source reads."""
        with self.ctx.database.reading() as connection:
            return len(stored_groups.members(connection, self.group))


@pytest.fixture
def estate(services: ServiceFixture) -> Estate:
    return Estate(services)


def test_only_members_of_the_connection_type_that_decides_count(estate: Estate) -> None:
    estate.push("una")
    estate.sign_in("idris")
    assert estate.with_access() == estate.shown() == {"una", "idris"}
    estate.decide(INBOUND_SCIM)
    assert estate.with_access() == estate.shown() == {"una"}
    estate.sign_in("odile")
    assert estate.with_access() == {"una"}, "a claim gives no role that the operator took from claims"
    estate.decide(SIGN_IN)
    assert estate.with_access() == estate.shown() == {"idris", "odile"}
    estate.push("una", "zofia")
    assert estate.with_access() == {"idris", "odile"}
    assert estate.read_back() == 4, "the source reads what it wrote"
    estate.decide(None)
    assert estate.with_access() == estate.shown() == {"una", "zofia", "idris", "odile"}


def test_dravo_takes_the_members_over_and_gives_them_back(estate: Estate) -> None:
    estate.push("una", "zofia")
    estate.decide(DRAVO)
    assert estate.with_access() == estate.shown() == {"una", "zofia"}
    estate.push("emeka")
    assert estate.with_access() == {"una", "zofia"}
    estate.edit(add=("emeka",), remove=("una",))
    assert estate.with_access() == estate.shown() == {"zofia", "emeka"}
    estate.push("una")
    estate.decide(None)
    assert estate.with_access() == estate.shown() == {"una"}
    with pytest.raises(InvalidInput, match="belongs to the source"):
        estate.edit(add=("zofia",))
    estate.decide(DRAVO)
    assert estate.with_access() == {"una"}, "what operators added before does not return"


def test_users_of_nested_groups_become_members_of_their_own(estate: Estate) -> None:
    inner = estate.services.group(estate.staff, "Evening guides", estate.records["zofia"])
    estate.push("una")
    estate.services.add(estate.staff, estate.group, inner)
    assert estate.with_access() == {"una", "zofia"}
    estate.decide(SIGN_IN)
    assert estate.with_access() == set(), "nested groups are what the source pushed"
    with estate.ctx.database.reading() as connection:
        detail = group_queries.group_detail(connection, estate.group)
    assert detail is not None and detail.users_with_nested_groups == 0
    estate.decide(None)
    estate.decide(DRAVO)
    assert estate.with_access() == estate.shown() == {"una", "zofia"}
    with pytest.raises(InvalidInput, match="belongs to the source") as wrong:
        estate.edit(add_groups=(inner,))
    assert "Only local groups can have groups" in wrong.value.hint


@pytest.mark.parametrize("what", ["record", "group"])
def test_what_the_source_policy_leaves_out_is_not_taken_over(estate: Estate, what: str) -> None:
    estate.push("una", "zofia")
    other = estate.services.user(estate.services.source("partners"), "una.partner")
    record_links.move(estate.ctx, estate.caller, other, "una")
    table, own_id = (t.record, estate.records["una"]) if what == "record" else (t.group, estate.group)

    def set_left_out(reason: str | None) -> None:
        with estate.ctx.database.writing() as connection:
            connection.execute(table.update().where(table.c.id == own_id).values(left_out=reason))
            for row in estate.services.rows(t.user):
                connection.execute(t.pending_recompute.insert().values(user_id=row.id, since=clock.now()))

    set_left_out("scope")
    left = {"zofia"} if what == "record" else set()
    assert estate.with_access() == left
    looked = priority.preview(estate.ctx, "staff", {"members_from": DRAVO})
    assert (looked.gained, looked.lost) == (0, 0)
    priority.change(estate.ctx, estate.caller, "staff", {"members_from": DRAVO})
    assert estate.with_access() == left
    if what == "group":
        with pytest.raises(NotFound):
            estate.decide(INBOUND_SCIM)
    set_left_out(None)
    estate.edit(add=("emeka",))
    assert estate.with_access() == left | {"emeka"}


def test_the_source_has_a_default_from_which_a_group_may_differ(estate: Estate) -> None:
    other = estate.services.group(estate.staff, "Keepers", estate.records["zofia"])
    estate.map(other)
    estate.push("una")
    estate.decide(INBOUND_SCIM)
    priority.change(estate.ctx, estate.caller, "staff", {"members_from": SIGN_IN})
    assert estate.with_access() == {"una"}
    made_later = estate.services.group(estate.staff, "Rangers", estate.records["emeka"])
    estate.map(made_later)
    assert estate.with_access() == {"una"}
    priority.change(estate.ctx, estate.caller, "staff", {"members_from": ALL})
    assert estate.with_access() == {"una", "zofia", "emeka"}


def test_a_preview_says_what_the_change_does_and_changes_nothing(estate: Estate) -> None:
    estate.push("una", "zofia")
    estate.sign_in("idris")
    looked: Preview = membership_authority.preview_group(estate.ctx, estate.group, SIGN_IN)
    assert {(each.user.user_name, each.what) for each in looked.users} == {("una", "lost"), ("zofia", "lost")}
    assert (looked.gained, looked.lost) == (0, 2)
    by_source = priority.preview(estate.ctx, "staff", {"members_from": SIGN_IN})
    assert (by_source.gained, by_source.lost) == (0, 2)
    assert estate.with_access() == {"una", "zofia", "idris"}
    estate.decide(SIGN_IN)
    assert estate.with_access() == {"idris"}
    taken = membership_authority.preview_group(estate.ctx, estate.group, DRAVO)
    assert (taken.gained, taken.lost) == (0, 0)


def test_what_cannot_be_is_refused_with_a_hint(estate: Estate) -> None:
    with pytest.raises(InvalidInput, match="'nobody' does not decide") as wrong:
        estate.decide("nobody")
    assert "inbound_scim" in wrong.value.hint
    local = local_groups.add(estate.ctx, estate.caller, "Spring planting").id
    with pytest.raises(InvalidInput, match="is a local group"):
        estate.decide(DRAVO, local)
    with pytest.raises(InvalidInput, match="Local groups") as wrong:
        priority.change(estate.ctx, estate.caller, "local", {"members_from": INBOUND_SCIM})
    assert wrong.value.field == "members_from"


class Authority(RuleBasedStateMachine):
    """Any sequence of lists, sign-ins, edits and decisions: members are those whom the authority reports."""

    def __init__(self) -> None:
        super().__init__()
        self.folder = tempfile.TemporaryDirectory()
        self.estate = Estate(ServiceFixture(Path(self.folder.name)))
        self.pushed: set[str] = set()
        self.claimed: set[str] = set()
        self.added: set[str] = set()
        self.of_group: str | None = None
        self.of_source = ALL

    def teardown(self) -> None:
        self.estate.ctx.close()
        self.folder.cleanup()

    @property
    def authority(self) -> str:
        return self.of_group or self.of_source

    @property
    def members(self) -> set[str]:
        return {
            ALL: self.pushed | self.claimed,
            INBOUND_SCIM: self.pushed,
            SIGN_IN: self.claimed,
            DRAVO: self.added,
        }.get(self.authority, set())

    def shift(self, of_group: str | None, of_source: str) -> None:
        before, present = self.authority, self.members
        self.of_group, self.of_source = of_group, of_source
        if before != self.authority:
            self.added = set(present) if self.authority == DRAVO else set()

    @rule(authority=st.sampled_from([None, *AUTHORITIES]))
    def decide_about_the_group(self, authority: str | None) -> None:
        self.estate.decide(authority)
        self.shift(authority, self.of_source)

    @rule(authority=st.sampled_from(AUTHORITIES))
    def decide_about_the_source(self, authority: str) -> None:
        priority.change(self.estate.ctx, self.estate.caller, "staff", {"members_from": authority})
        self.shift(self.of_group, authority)

    @rule(names=st.sets(st.sampled_from(PUSHED)))
    def push(self, names: set[str]) -> None:
        self.estate.push(*sorted(names))
        self.pushed = set(names)

    @rule(name=st.sampled_from(SIGNED_IN), listed=st.booleans())
    def sign_in(self, name: str, listed: bool) -> None:
        self.estate.sign_in(name, listed=listed)
        self.claimed = self.claimed | {name} if listed else self.claimed - {name}

    @rule(name=st.sampled_from(PUSHED), put=st.booleans())
    def edit(self, name: str, put: bool) -> None:
        try:
            self.estate.edit(**{"add" if put else "remove": (name,)})
        except InvalidInput:
            assert self.authority != DRAVO
        else:
            self.added = self.added | {name} if put else self.added - {name}

    @invariant()
    def the_members_are_those_that_the_authority_reports(self) -> None:
        assert self.estate.with_access() == self.members
        assert self.estate.shown() == self.members


TestAuthority = Authority.TestCase
TestAuthority.settings = settings(max_examples=sized(6, 300), stateful_step_count=15)

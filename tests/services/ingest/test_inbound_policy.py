"""The policy of inbound SCIM: scope, attribute mapping, groups, pilot and a disabled source."""

from __future__ import annotations

from typing import Any

import pytest

from dravo.core.errors import InvalidInput
from dravo.core.identity.records import INBOUND_SCIM
from dravo.core.scim.errors import ScimError
from dravo.services.access import assignments
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.changes import recompute
from dravo.services.ingest.inbound.policy_application import PolicyApplication
from dravo.services.ingest.inbound.stored_groups import StoredGroups
from dravo.services.policies import inbound, policies, preview
from dravo.services.policies.policies import StatusChange
from dravo.services.scim_server.resources import OwnRecords, Query
from dravo.store import clock
from dravo.store import tables as t
from tests.service_fixture import ServiceFixture

OWNED = "fernhollow.example"


class Inbound(ServiceFixture):
    """One source of inbound SCIM with its policy."""

    def prepare(self, **policy: Any) -> str:
        self.staff = self.source("staff", OWNED)
        if policy:
            self.policy(**policy)
        return self.staff

    def policy(self, **policy: Any) -> None:
        inbound.change(self.ctx, self.caller, "staff", policy)
        self.settle()

    def status(self, status: str) -> None:
        policies.set_status(self.ctx, self.caller, "staff", INBOUND_SCIM, StatusChange(status))
        self.settle()

    def settle(self) -> None:
        """Do what the worker does after a change of a policy."""
        StoredGroups(self.ctx.database, self.ctx.catalogue).settle_waiting()
        while PolicyApplication(self.ctx.database, self.ctx.catalogue).apply_marked():
            pass
        recompute.process_marks(self.ctx)

    def set_user(self, record: str, **values: Any) -> None:
        operations = [{"op": "replace", "path": name, "value": value} for name, value in values.items()]
        self.patch_user(self.staff, record, *operations)

    def names(self) -> dict[str, bool]:
        """Return the users, with whether each is active."""
        return {row.user_name: row.active for row in self.rows(t.user)}

    def standing(self, record: str) -> tuple[str | None, str | None]:
        (row,) = self.rows(t.record, id=record)
        return row.left_out, row.waiting

    def seen(self, kind: str = "User") -> list[dict[str, Any]]:
        """Return what the source reads back."""
        own = OwnRecords(self.ctx.database)
        read = own.users if kind == "User" else own.groups
        return list(read(self.staff, "http://127.0.0.1", Query())["Resources"])

    def members(self, group: str) -> set[str]:
        """Return the members of a group, as the source reads them."""
        (found,) = [each for each in self.seen("Group") if each["id"] == group]
        return {each["value"] for each in found.get("members", ())}

    def roles(self) -> dict[str, set[str]]:
        """Return who has which role now."""
        named = {row.id: row.user_name for row in self.rows(t.user)}
        keys = {row.id: row.key for row in self.rows(t.role)}
        found: dict[str, set[str]] = {}
        for row in self.rows(t.access, until_at=None):
            found.setdefault(named[row.user_id], set()).add(keys[row.role_id])
        return found

    def assign(self, group: str, role: str) -> None:
        wish = AssignmentRequest("records", role, group=group)
        assignments.add(self.ctx, self.caller, wish)
        recompute.process_marks(self.ctx)


@pytest.fixture
def sent(services: ServiceFixture) -> Inbound:
    services.__class__ = Inbound
    assert isinstance(services, Inbound)
    return services


# Scope


def test_users_outside_the_scope_are_stored_and_read_back_but_are_no_users(sent: Inbound) -> None:
    sent.prepare(users='title eq "Guide"')
    inside = sent.user(sent.staff, "ida", title="Guide")
    outside = sent.user(sent.staff, "ove", title="Cook")
    assert sent.names() == {"ida": True}
    assert sent.standing(inside) == (None, None) and sent.standing(outside) == ("out_of_scope", None)
    assert {each["userName"] for each in sent.seen()} == {"ida", "ove"}
    with pytest.raises(ScimError, match="already has a user with the userName 'ove'"):
        sent.user(sent.staff, "ove")


def test_a_user_joins_and_leaves_with_the_scope_and_stays_one_user(sent: Inbound) -> None:
    sent.prepare(users='title eq "Guide"')
    record = sent.user(sent.staff, "ida", title="Cook")
    assert sent.names() == {}
    sent.set_user(record, title="Guide")
    (user,) = sent.rows(t.user)
    assert user.active and user.left_at is None
    sent.set_user(record, title="Cook")
    (left,) = sent.rows(t.user)
    assert left.id == user.id and not left.active and left.left_at is not None
    sent.set_user(record, title="Guide")
    (back,) = sent.rows(t.user)
    assert back.id == user.id and back.active and back.left_at is None


def test_a_changed_scope_is_applied_to_stored_records(sent: Inbound) -> None:
    sent.prepare()
    sent.application()
    records = {name: sent.user(sent.staff, name, title=title) for name, title in TITLES.items()}
    group = sent.group(sent.staff, "Guides", *records.values())
    sent.assign(group, "viewer")
    assert set(sent.roles()) == set(TITLES)
    tried = preview.try_policy(sent.ctx, "staff", INBOUND_SCIM, {"users": 'title ne "Cook"'})
    assert (tried.looked_at, tried.accepted, tried.leaves) == (3, 2, 1)
    assert set(sent.roles()) == set(TITLES)
    sent.policy(users='title ne "Cook"')
    assert set(sent.roles()) == {"ida", "una"} and sent.names()["ove"] is False
    # The source still sees the membership, and the user returns with it.
    assert sent.members(group) == set(records.values())
    tried = preview.try_policy(sent.ctx, "staff", INBOUND_SCIM, {"users": ""})
    assert (tried.accepted, tried.joins) == (2, 1)
    sent.policy(users="")
    assert set(sent.roles()) == set(TITLES) and all(sent.names().values())


TITLES = {"ida": "Guide", "una": "Keeper", "ove": "Cook"}


@pytest.mark.parametrize(
    "wanted",
    [{"which": "named", "names": ["Staff"]}, {"which": "pattern", "pattern": "^St"}],
    ids=["named", "pattern"],
)
def test_a_user_must_be_a_member_directly_or_through_another_group(
    sent: Inbound, wanted: dict[str, Any]
) -> None:
    sent.prepare(member_of=wanted)
    ida, ove = sent.user(sent.staff, "ida"), sent.user(sent.staff, "ove")
    assert sent.names() == {} and sent.standing(ida) == ("not_a_member", None)
    staff = sent.group(sent.staff, "Staff", ida)
    assert sent.names() == {"ida": True}
    guides = sent.group(sent.staff, "Guides", ove)
    assert set(sent.names()) == {"ida"}
    sent.add(sent.staff, staff, guides)
    assert sent.names() == {"ida": True, "ove": True}
    sent.take_out(sent.staff, guides, ove)
    assert sent.names() == {"ida": True, "ove": False}
    sent.intake.remove_group(sent.staff, staff)
    assert sent.names() == {"ida": False, "ove": False}


def test_only_known_users_are_accepted_where_the_policy_creates_none(sent: Inbound) -> None:
    sent.prepare(makes=False, match="user_name")
    other = sent.source("partners", OWNED)
    sent.user(other, "ida", emails=[{"value": f"ida@{OWNED}"}])
    linked = sent.user(sent.staff, "ida", emails=[{"value": f"ida@{OWNED}"}], title="Guide")
    unknown = sent.user(sent.staff, "ove")
    assert set(sent.names()) == {"ida"}
    assert sent.standing(linked) == (None, None) and sent.standing(unknown) == ("unknown_user", None)
    assert sent.rows(t.user)[0].attributes["title"] == "Guide"
    sent.policy(makes=True)
    assert set(sent.names()) == {"ida", "ove"}


# Attributes and groups


def test_expressions_replace_attributes_and_the_source_reads_back_its_own(sent: Inbound) -> None:
    rows = [
        {"attribute": "userName", "expression": "userName then lower"},
        {"attribute": "title", "expression": '"Team {department}"'},
    ]
    sent.prepare(attributes=rows)
    enterprise = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
    record = sent.user(sent.staff, "IDA", nickName="Ida", **{enterprise: {"department": "Herbarium"}})
    (user,) = sent.rows(t.user)
    assert user.user_name == "ida" and user.attributes["title"] == "Team Herbarium"
    assert user.attributes["nickName"] == "Ida"
    (seen,) = sent.seen()
    assert seen["userName"] == "IDA" and "title" not in seen
    sent.set_user(record, **{f"{enterprise}:department": "Education"})
    assert sent.rows(t.user)[0].attributes["title"] == "Team Education"
    sent.policy(attributes=[])
    (user,) = sent.rows(t.user)
    assert user.user_name == "IDA" and "title" not in user.attributes


def test_a_record_without_a_user_name_is_left_out_with_the_reason(sent: Inbound) -> None:
    sent.prepare(attributes=[{"attribute": "userName", "expression": "nickName"}])
    record = sent.user(sent.staff, "ida")
    assert sent.names() == {} and sent.standing(record) == ("refused", None)
    sent.set_user(record, nickName="ida.holm")
    assert set(sent.names()) == {"ida.holm"}
    # A user who is known stays as before, when the mapping has no value.
    sent.patch_user(sent.staff, record, {"op": "remove", "path": "nickName"})
    assert sent.names() == {"ida.holm": True} and sent.standing(record) == (None, "change")


def test_groups_that_are_not_accepted_give_no_role(sent: Inbound) -> None:
    sent.prepare(groups={"which": "pattern", "pattern": "^App "})
    sent.application()
    ida = sent.user(sent.staff, "ida")
    accepted, ignored = sent.group(sent.staff, "App guides", ida), sent.group(sent.staff, "Choir", ida)
    sent.assign(accepted, "viewer")
    sent.assign(ignored, "curator")
    assert sent.roles() == {"ida": {"viewer"}}
    assert sent.members(ignored) == {ida}
    sent.patch_group(sent.staff, ignored, {"op": "replace", "path": "displayName", "value": "App choir"})
    sent.settle()
    assert sent.roles() == {"ida": {"viewer", "curator"}}
    sent.policy(groups={"which": "none"})
    assert sent.roles() == {}
    sent.policy(groups={"which": "all"})
    assert sent.roles() == {"ida": {"viewer", "curator"}}


# Pilot


def test_a_pilot_creates_its_members_only_and_enabling_brings_the_rest(sent: Inbound) -> None:
    sent.prepare(pilot="Pilot")
    sent.status("pilot")
    ida, ove = sent.user(sent.staff, "ida"), sent.user(sent.staff, "ove")
    assert sent.names() == {}
    group = sent.group(sent.staff, "Pilot", ida)
    assert sent.names() == {"ida": True}
    assert sent.standing(ove) == ("not_in_pilot", None)
    sent.set_user(ove, title="Cook")
    assert set(sent.names()) == {"ida"}
    sent.status("enabled")
    assert sent.names() == {"ida": True, "ove": True}
    # Back in the pilot: others stay as they are, and what is sent of them waits.
    sent.status("pilot")
    sent.set_user(ove, active=False)
    assert sent.names() == {"ida": True, "ove": True} and sent.standing(ove) == (None, "deactivation")
    sent.add(sent.staff, group, ove)
    assert sent.names() == {"ida": True, "ove": False}


def test_a_pilot_needs_its_group(sent: Inbound) -> None:
    sent.prepare()
    with pytest.raises(InvalidInput, match="pilot group is missing"):
        sent.status("pilot")
    sent.policy(pilot="Pilot")
    sent.status("pilot")
    with pytest.raises(InvalidInput, match="pilot group is missing"):
        sent.policy(pilot="")


# A disabled source


def test_a_disabled_source_stores_everything_and_changes_nothing(sent: Inbound) -> None:
    sent.prepare()
    sent.application()
    ida, ove, una = (sent.user(sent.staff, name) for name in ("ida", "ove", "una"))
    guides, cooks = sent.group(sent.staff, "Guides", ida, ove), sent.group(sent.staff, "Cooks", una)
    sent.assign(guides, "viewer")
    sent.assign(cooks, "curator")
    before = sent.roles()
    sent.status("disabled")
    sent.set_user(ida, active=False)
    sent.set_user(ove, title="Cook")
    sent.intake.remove_user(sent.staff, una)
    new = sent.user(sent.staff, "zoe")
    sent.add(sent.staff, cooks, ove, new)
    sent.take_out(sent.staff, guides, ove)
    sent.patch_group(sent.staff, guides, {"op": "replace", "path": "displayName", "value": "All guides"})
    fresh = sent.group(sent.staff, "Fresh", ida)
    # The source reads back what it sent.
    assert {each["userName"]: each.get("active", True) for each in sent.seen()} == {
        "ida": False,
        "ove": True,
        "zoe": True,
    }
    assert sent.members(cooks) == {ove, new} and sent.members(guides) == {ida}
    assert sent.members(fresh) == {ida}
    assert {each["displayName"] for each in sent.seen("Group")} == {"All guides", "Cooks", "Fresh"}
    # Nothing of it counts, also when users are computed again for another reason.
    for row in sent.rows(t.user):
        with sent.ctx.database.writing() as connection:
            connection.execute(t.pending_recompute.insert().values(user_id=row.id, since=clock.now()))
    sent.settle()
    assert sent.roles() == before and sent.names() == {"ida": True, "ove": True, "una": True}
    numbers = policies.one(sent.ctx, "staff", INBOUND_SCIM)
    assert numbers.waiting == {"change": 1, "deactivation": 1, "deletion": 1}
    assert numbers.left_out == {"disabled": 1}
    sent.status("enabled")
    assert sent.names() == {"ida": False, "ove": True, "una": False, "zoe": True}
    assert sent.roles() == {"ove": {"curator"}, "zoe": {"curator"}}
    assert [row.display_name for row in sent.rows(t.group, id=guides)] == ["All guides"]
    assert policies.one(sent.ctx, "staff", INBOUND_SCIM).waiting == {}


def test_a_deleted_group_waits_too_and_a_user_name_is_free_again(sent: Inbound) -> None:
    sent.prepare()
    sent.application()
    ida = sent.user(sent.staff, "ida")
    group = sent.group(sent.staff, "Guides", ida)
    sent.assign(group, "viewer")
    sent.status("disabled")
    sent.intake.remove_group(sent.staff, group)
    sent.intake.remove_user(sent.staff, ida)
    again = sent.user(sent.staff, "ida")
    sent.settle()
    assert sent.roles() == {"ida": {"viewer"}} and sent.seen("Group") == []
    sent.status("enabled")
    assert sent.roles() == {}
    (record,) = sent.rows(t.record, id=again)
    users = {row.id: row for row in sent.rows(t.user)}
    assert len(users) == 2 and users[record.user_id].active


def test_a_change_that_is_taken_back_waits_no_longer(sent: Inbound) -> None:
    sent.prepare()
    ida = sent.user(sent.staff, "ida", title="Guide")
    sent.status("disabled")
    sent.set_user(ida, title="Cook")
    assert sent.standing(ida) == (None, "change")
    sent.set_user(ida, title="Guide")
    assert sent.standing(ida) == (None, None)


def test_a_status_at_a_later_time_is_applied_then(sent: Inbound, monkeypatch: pytest.MonkeyPatch) -> None:
    sent.prepare()
    wish = StatusChange("disabled", "2036-01-01T00:00:00Z")
    found = policies.set_status(sent.ctx, sent.caller, "staff", INBOUND_SCIM, wish)
    assert found.status == "scheduled"
    sent.user(sent.staff, "ida")
    inbound.apply_scheduled_activation(sent.ctx, clock.now())
    assert sent.names() == {}
    inbound.apply_scheduled_activation(sent.ctx, "2036-01-01T00:00:01.000000Z")
    sent.settle()
    assert sent.names() == {"ida": True}


# Attacks


@pytest.mark.parametrize("value", ["userName", "emails", "lookalike"])
def test_a_mapping_or_a_return_to_the_scope_takes_over_nobody(sent: Inbound, value: str) -> None:
    sent.prepare(users='title ne "Cook"')
    partners = sent.source("partners", OWNED)
    sent.user(partners, "rosa", emails=[{"value": f"rosa@{OWNED}"}])
    given: dict[str, Any] = {
        "userName": {"name": "rosa"},
        "emails": {"name": "ove", "emails": [{"value": f"rosa@{OWNED}"}]},
        "lookalike": {"name": "rоsa"},
    }[value]
    record = sent.user(sent.staff, given.pop("name"), title="Cook", **given)
    assert len(sent.rows(t.user)) == 1
    sent.set_user(record, title="Guide")
    (row,) = sent.rows(t.record, id=record)
    (known,) = [each for each in sent.rows(t.user) if each.user_name == "rosa" and each.id != row.user_id]
    assert row.undecided and row.user_id != known.id
    assert [each.status for each in sent.rows(t.conflict)] == ["open"]


def test_a_mapped_user_name_of_another_source_is_a_conflict(sent: Inbound) -> None:
    sent.prepare()
    partners = sent.source("partners", OWNED)
    sent.user(partners, "rosa")
    record = sent.user(sent.staff, "ove", nickName="rosa")
    sent.policy(attributes=[{"attribute": "userName", "expression": "nickName"}])
    (row,) = sent.rows(t.record, id=record)
    assert row.undecided and [each.kind for each in sent.rows(t.conflict)] == ["name_known"]


def test_groups_are_made_of_attributes_and_given_to_everyone(sent: Inbound) -> None:
    sent.prepare(groups_from=["title"], gives=["Everyone"])
    sent.application()
    ida = sent.user(sent.staff, "ida", title="Guide")
    sent.user(sent.staff, "ove", title="Cook")
    made = {row.display_name: row.id for row in sent.rows(t.group)}
    assert set(made) == {"Guide", "Cook", "Everyone"}
    sent.assign(made["Guide"], "viewer")
    sent.assign(made["Everyone"], "curator")
    assert sent.roles() == {"ida": {"viewer", "curator"}, "ove": {"curator"}}
    # The source sees none of these groups.
    assert sent.seen("Group") == [] and all("groups" not in each for each in sent.seen())
    sent.set_user(ida, title="Cook")
    assert sent.roles() == {"ida": {"curator"}, "ove": {"curator"}}
    sent.policy(gives=[])
    assert sent.roles() == {}
    sent.policy(groups_from=[], gives=["Everyone"])
    assert sent.roles() == {"ida": {"curator"}, "ove": {"curator"}}

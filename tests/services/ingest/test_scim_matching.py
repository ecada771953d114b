"""The match rule of inbound SCIM: linked records, conflicts, and records that must not take over a user."""

from __future__ import annotations

from typing import Any

import pytest

from dravo.core.errors import InvalidInput
from dravo.core.identity.records import INBOUND_SCIM, SIGN_IN
from dravo.core.scim.resources import read_resource
from dravo.core.scim.schemas import USER
from dravo.services.ingest import conflicts
from dravo.services.ingest.intake import Intake
from dravo.services.policies import inbound, policies, preview
from dravo.services.security import operators
from dravo.services.security.operator_kinds import NewOperator
from dravo.services.security.permissions import SUPER_ADMINISTRATOR
from dravo.store import tables as t
from tests.service_fixture import ServiceFixture

OWNED = "fernhollow.example"


def mail(name: str, domain: str = OWNED) -> dict[str, Any]:
    return {"emails": [{"value": f"{name}@{domain}"}]}


class Sources(ServiceFixture):
    """Two sources that own one domain; the second one has a match rule."""

    def prepare(self, rule: str, **staff: Any) -> None:
        """Report a user by the first source, and set the rule of the second one."""
        self.staff, self.partners = self.source("staff", OWNED), self.source("partners", OWNED)
        self.user(self.staff, "ada", **(staff or mail("ada")))
        if rule != "ask":
            inbound.change(self.ctx, self.caller, "partners", {"match": rule})

    def conflicts(self) -> list[str]:
        """Return the names of the records in conflict."""
        return [row.name for row in self.rows(t.conflict, status="open")]

    def users(self) -> int:
        """Return the number of users."""
        return len(self.rows(t.user))


@pytest.fixture
def matching(services: ServiceFixture) -> Sources:
    services.__class__ = Sources
    assert isinstance(services, Sources)
    return services


@pytest.mark.parametrize(
    ("rule", "name", "linked"),
    [("user_name", "ada", True), ("user_name", "ada.two", False), ("email", "ada.two", True)],
)
def test_a_record_is_linked_by_the_rule_or_becomes_a_conflict(
    matching: Sources, rule: str, name: str, linked: bool
) -> None:
    matching.prepare(rule)
    record = matching.user(matching.partners, name, title="Guide", **mail("ada"))
    assert (matching.users(), matching.conflicts()) == ((1, []) if linked else (2, [name]))
    rows = {row.id: row for row in matching.rows(t.record)}
    assert len({row.user_id for row in rows.values()}) == matching.users()
    assert rows[record].undecided is not linked
    if linked:
        (user,) = matching.rows(t.user)
        assert user.attributes["title"] == "Guide" and user.user_name == "ada"


def test_without_a_rule_every_possible_match_is_a_conflict(matching: Sources) -> None:
    matching.prepare("ask")
    matching.user(matching.partners, "ada", **mail("ada"))
    assert (matching.users(), matching.conflicts()) == (2, ["ada"])


def test_a_linked_record_reads_back_and_leaves_with_its_own_source(matching: Sources) -> None:
    matching.prepare("email")
    record = matching.user(matching.partners, "ada.two", **mail("ada"))
    matching.intake.remove_user(matching.partners, record)
    (user,) = matching.rows(t.user)
    assert user.active and user.left_at is None, "the first source still reports the user"


def test_records_outside_the_domains_take_over_no_user(matching: Sources) -> None:
    matching.prepare("email", **mail("ada", "elsewhere.example"))
    matching.user(matching.partners, "ada.two", **mail("ada", "elsewhere.example"))
    matching.user(matching.partners, "ada")
    assert (matching.users(), len(matching.conflicts())) == (3, 2)


def test_a_value_that_no_owner_of_the_domain_reports_links_no_user(matching: Sources) -> None:
    matching.prepare("email")
    other = matching.source("other")
    matching.user(other, "mallory", **mail("grace"))
    matching.user(matching.partners, "grace", **mail("grace"))
    assert matching.conflicts() == ["grace"], "a source without the domain cannot prepare a takeover"


@pytest.mark.parametrize("rule", ["user_name", "email"])
def test_operators_lookalikes_and_leavers_are_never_linked(matching: Sources, rule: str) -> None:
    matching.prepare(rule)
    new = NewOperator(f"grace@{OWNED}", SUPER_ADMINISTRATOR)
    operators.add(matching.ctx, operators.SYSTEM, new)
    matching.user(matching.staff, "grace", **mail("grace"))
    matching.user(matching.partners, "grace", **mail("grace"))
    matching.user(matching.partners, "аda", **mail("someone"))
    assert len(matching.conflicts()) == 2
    leaver = matching.user(matching.staff, "bob", **mail("bob"))
    matching.intake.remove_user(matching.staff, leaver)
    before = matching.users()
    matching.user(matching.partners, "bob", **mail("bob"))
    assert matching.users() == before + 1, "a leaver's access is not inherited"


def test_two_possible_users_are_a_conflict(matching: Sources) -> None:
    matching.prepare("email")
    matching.user(matching.staff, "ada.two", **mail("ada"))
    matching.user(matching.partners, "ada.three", **mail("ada"))
    assert matching.conflicts() == ["ada.three"]


def test_a_preview_tells_what_a_rule_would_link(matching: Sources) -> None:
    matching.prepare("ask")
    matching.user(matching.partners, "ada", **mail("ada"))
    matching.user(matching.partners, "ada.two", **mail("ada"))
    for rule, linked in (("email", 2), ("user_name", 1), ("ask", 0)):
        found = preview.try_policy(matching.ctx, "partners", INBOUND_SCIM, {"match": rule})
        assert (found.conflicts, found.linked) == (2, linked)
    assert policies.one(matching.ctx, "partners", INBOUND_SCIM).policy["match"] == "ask"


def test_a_rule_needs_a_domain(matching: Sources) -> None:
    matching.source("plain")
    with pytest.raises(InvalidInput, match="domains of the source are missing"):
        inbound.change(matching.ctx, matching.caller, "plain", {"match": "email"})
    with pytest.raises(InvalidInput, match="not a valid value for 'match'"):
        inbound.change(matching.ctx, matching.caller, "plain", {"match": "name"})
    assert matching.rows(t.audit)[-1].action != "changed source policy"


def test_several_conflicts_are_decided_and_one_failure_stops_no_other(matching: Sources) -> None:
    matching.prepare("ask")
    matching.user(matching.staff, "bob", **mail("bob"))
    for name in ("ada", "bob"):
        matching.user(matching.partners, name, **mail(name))
    matching.user(matching.partners, "bob.two", **mail("ada"))
    ids = {row.name: row.id for row in matching.rows(t.conflict)}
    done = conflicts.decide_many(
        matching.ctx, matching.caller, "partners", [ids["ada"], "unknown", ids["bob"]], conflicts.LINK
    )
    assert (done.decided, [each.id for each in done.failed]) == (2, ["unknown"])
    assert matching.conflicts() == ["bob.two"]
    again = conflicts.decide_many(matching.ctx, matching.caller, "partners", [ids["bob.two"]], conflicts.LINK)
    assert again.decided == 0 and "already has a record" in again.failed[0].message
    last = conflicts.decide_many(
        matching.ctx, matching.caller, "partners", [ids["bob.two"]], conflicts.LEAVE_OUT
    )
    assert last.decided == 1 and matching.conflicts() == []


def test_a_lookalike_is_not_linked_together_with_others(matching: Sources) -> None:
    matching.prepare("ask")
    matching.user(matching.partners, "аda")
    (row,) = matching.rows(t.conflict)
    assert row.kind == "lookalike" and len(row.candidates) == 1
    done = conflicts.decide_many(matching.ctx, matching.caller, "partners", [row.id], conflicts.LINK)
    assert done.decided == 0 and "only looks like the user" in done.failed[0].message


def test_a_user_of_the_same_sources_sign_in_is_linked_by_the_user_name(matching: Sources) -> None:
    source = matching.source("staff")
    by_sign_in = Intake(matching.ctx.database, matching.ctx.catalogue, SIGN_IN)
    for name in ("ada", "bob"):
        by_sign_in.create_user(source, read_resource({"userName": name, **mail(name)}, USER))
    matching.user(source, "ada", **mail("ada"))
    assert (matching.users(), matching.conflicts()) == (2, [])
    matching.user(source, "robert", **mail("bob"))
    assert (matching.users(), matching.conflicts()) == (3, ["robert"]), "an email alone links no user"

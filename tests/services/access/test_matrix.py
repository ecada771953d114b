"""The matrix: users against applications at any instant, changes only between two, exports, and what
somebody would have.
"""

from __future__ import annotations

import csv
import io
import json
from typing import Any

import pytest

from dravo.core.errors import InvalidInput, NotFound
from dravo.core.instants import Instant
from dravo.services.access import assignments
from dravo.services.access import comparison as access_comparison
from dravo.services.access import matrix as access_matrix
from dravo.services.access import simulation as access_simulation
from dravo.services.access.assignment_changes import AssignmentEdit
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.access.matrix import View
from dravo.services.applications import roles as provisioning_roles
from dravo.services.applications.roles import RoleEdit
from dravo.store import clock
from dravo.store.pagination import PageRequest
from tests.service_fixture import ServiceFixture


@pytest.fixture
def history(services: ServiceFixture) -> dict[str, Any]:
    """Ada and Bob get roles; later Ada leaves the group, Bob gets more, and Cyd comes."""
    staff = services.source()
    for key in ("desk", "records"):
        services.application(key, "viewer", "curator")
    ada, bob, cyd = (services.user(staff, name, displayName=name.title()) for name in ("ada", "bob", "cyd"))
    group = services.group(staff, "Guides", ada, bob)
    begin = clock.now()
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", group=group))
    first = clock.now()
    services.take_out(staff, group, ada)
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "curator", user="bob"))
    assignments.add(services.ctx, services.caller, AssignmentRequest("desk", "viewer", user="cyd"))
    return {
        "staff": staff,
        "group": group,
        "begin": begin,
        "first": first,
        "ada": ada,
        "bob": bob,
        "cyd": cyd,
    }


def seen(services: ServiceFixture, **view: Any) -> dict[str, dict[str, list[str]]]:
    return {
        each.user_name: each.roles
        for each in access_matrix.users(services.ctx, View(**view), PageRequest()).items
    }


def test_every_past_instant_can_be_looked_at(services: ServiceFixture, history: dict[str, Any]) -> None:
    assert seen(services, at=history["begin"]) == {}
    assert seen(services, at=history["first"]) == {
        "ada": {"records": ["Viewer"]},
        "bob": {"records": ["Viewer"]},
    }
    assert seen(services) == {"bob": {"records": ["Curator", "Viewer"]}, "cyd": {"desk": ["Viewer"]}}
    assert seen(services, at=clock.now()) == seen(services)
    assert [each.key for each in access_matrix.users(services.ctx, View(), PageRequest()).applications] == [
        "desk",
        "records",
    ]


def test_it_is_narrowed(services: ServiceFixture, history: dict[str, Any]) -> None:
    assert list(seen(services, application="desk")) == ["cyd"]
    assert list(seen(services, application="records", role="curator")) == ["bob"]
    assert list(seen(services, application="records", role="viewer", at=history["first"])) == ["ada", "bob"]
    assert list(seen(services, only="direct_only")) == ["cyd"]
    assert list(seen(services, only="highest_role")) == ["bob"]
    assert seen(services, words="AD") == {"ada": {}}, "anyone who is looked for is shown, also with nothing"
    assert seen(services, only="inactive_assigned") == {}
    services.patch_user(history["staff"], history["cyd"], {"op": "replace", "path": "active", "value": False})
    assert list(seen(services, only="inactive_assigned")) == ["cyd"]
    for wrong, kind in (
        ({"role": "viewer"}, InvalidInput),
        ({"only": "x"}, InvalidInput),
        ({"application": "x"}, NotFound),
    ):
        with pytest.raises(kind):
            seen(services, **wrong)


def test_two_instants_are_compared(services: ServiceFixture, history: dict[str, Any]) -> None:
    now = clock.now()

    def moves(
        since: Instant, until: Instant, application: str | None = None
    ) -> list[tuple[str, str, str, list[str]]]:
        items = access_comparison.changes(services.ctx, application, since, until, PageRequest()).items
        return [(each.user.user_name, each.application.key, each.what, each.reasons) for each in items]

    assert moves(history["first"], now) == [
        ("ada", "records", "left", ["Viewer: group Guides"]),
        ("bob", "records", "changed", ["Curator: direct assignment"]),
        ("cyd", "desk", "joined", ["Viewer: direct assignment"]),
    ]
    assert moves(history["first"], now, "desk") == [("cyd", "desk", "joined", ["Viewer: direct assignment"])]
    assert [each[0] for each in moves(history["begin"], now)] == ["bob", "cyd"], (
        "who came and went in between is as before"
    )
    services.add(history["staff"], history["group"], history["ada"])
    assert "ada" not in [each[0] for each in moves(history["first"], clock.now())]
    with pytest.raises(InvalidInput):
        moves(now, now)


def test_all_of_it_is_exported_and_no_cell_is_a_formula(
    services: ServiceFixture, history: dict[str, Any]
) -> None:
    services.user(
        history["staff"],
        "eve",
        displayName='=HYPERLINK("http://evil")',
        emails=[{"value": "+eve@fernhollow.example"}],
    )
    assignments.add(services.ctx, services.caller, AssignmentRequest("desk", "curator", user="eve"))
    rows = list(csv.reader(io.StringIO(b"".join(access_matrix.export(services.ctx, View(), "csv")).decode())))
    assert rows[0] == ["user", "user name", "email", "status", "Desk", "Records"]
    assert rows[1] == [
        '\'=HYPERLINK("http://evil")',
        "eve",
        "'+eve@fernhollow.example",
        "active",
        "Curator",
        "",
    ]
    assert rows[2] == ["Bob", "bob", "", "active", "", "Curator; Viewer"]
    found = json.loads(b"".join(access_matrix.export(services.ctx, View(at=history["first"]), "json")))
    assert [(each["user_name"], each["roles"]) for each in found] == [
        ("ada", {"records": ["Viewer"]}),
        ("bob", {"records": ["Viewer"]}),
    ]
    assert json.loads(b"".join(access_matrix.export(services.ctx, View(words="nobody"), "json"))) == []
    with pytest.raises(NotFound):
        access_matrix.export(services.ctx, View(application="x"), "csv")


def test_a_simulation_equals_the_later_access(services: ServiceFixture, history: dict[str, Any]) -> None:
    assignments.add(
        services.ctx, services.caller, AssignmentRequest("desk", "viewer", rule='title eq "Guide"')
    )
    found = access_simulation.expect(services.ctx, "staff", {"title": "guide"}, ["Guides"])
    told = {(each.application.key, each.role.key): each.reasons for each in found.items}
    assert told == {("desk", "viewer"): ['rule title eq "Guide"'], ("records", "viewer"): ["Staff > Guides"]}
    dan = services.user(history["staff"], "dan", title="Guide")
    services.add(history["staff"], history["group"], dan)
    assert seen(services, words="dan") == {"dan": {"desk": ["Viewer"], "records": ["Viewer"]}}
    found = access_simulation.expect(services.ctx, "staff", {"active": False}, ["Guides"])
    assert (found.active, found.items) == (False, [])
    for attributes, groups, kind in (({}, ["Nobody"], NotFound), ({"active": "perhaps"}, [], InvalidInput)):
        with pytest.raises(kind):
            access_simulation.expect(services.ctx, "staff", attributes, groups)


def test_access_changes_count_listed_users_and_compare_roles_by_key(services: ServiceFixture) -> None:
    """Of three who were touched one has another role: one had theirs back before the end, one has the same
    role by another way.
    """
    staff = services.source()
    services.application("records", "viewer", "curator")
    # Two roles of one label are two roles.
    provisioning_roles.change_role(
        services.ctx, services.caller, "records", "curator", RoleEdit("Viewer", None)
    )
    users = {name: services.user(staff, name) for name in ("ada", "bob", "cyd")}
    given = {
        name: assignments.add(
            services.ctx, services.caller, AssignmentRequest("records", "viewer", user=name)
        )
        for name in users
    }
    since = clock.now()
    for name in ("ada", "bob", "cyd"):
        assignments.remove(services.ctx, services.caller, given[name].id)
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", user="ada"))
    assignments.add(
        services.ctx,
        services.caller,
        AssignmentRequest("records", "viewer", group=services.group(staff, "Guides", users["bob"])),
    )
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "curator", user="cyd"))
    found = access_comparison.changes(services.ctx, None, since, clock.now(), PageRequest())
    assert [(each.user.user_name, each.what) for each in found.items] == [("cyd", "changed")]
    assert found.total == 1
    assert access_comparison.changes(services.ctx, "records", since, clock.now(), PageRequest()).total == 1


def test_inactive_but_assigned_considers_role_dates_and_instant(services: ServiceFixture) -> None:
    staff = services.source()
    services.application("records", "viewer", "curator")
    users = {name: services.user(staff, name) for name in ("ada", "bob", "cyd", "dee")}
    roles = {"ada": "viewer", "bob": "curator", "cyd": "viewer", "dee": "viewer"}
    given = {
        name: assignments.add(services.ctx, services.caller, AssignmentRequest("records", role, user=name)).id
        for name, role in roles.items()
    }
    assigned = clock.now()
    assignments.change(services.ctx, services.caller, given["cyd"], AssignmentEdit(until="2020-01-01"))
    assignments.remove(services.ctx, services.caller, given["dee"])
    for record in users.values():
        services.patch_user(staff, record, {"op": "replace", "path": "active", "value": False})
    assert list(seen(services, only="inactive_assigned")) == ["ada", "bob"]
    assert list(seen(services, only="inactive_assigned", application="records", role="curator")) == ["bob"]
    # Then they were active, and dee was assigned.
    assert seen(services, only="inactive_assigned", at=assigned) == {}
    assert "dee" not in seen(services, only="inactive_assigned", at=clock.now())

"""The lists that console, command line and API show, with their filters."""

from __future__ import annotations

from typing import Any

import pytest
from sqlalchemy import event

from dravo.services.access import assignments, user_detail
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.applications import applications, connections
from dravo.services.provisioning import tasks
from dravo.services.reporting import overview
from dravo.services.scim_server.resources import OwnRecords, Query
from dravo.services.sources import observations, sources
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.access import matrix
from dravo.store.access.matrix import AccessScope
from dravo.store.pagination import PageRequest
from dravo.store.provisioning.tasks import TaskFilter
from dravo.store.queries import access as access_queries
from dravo.store.queries import accounts as account_queries
from dravo.store.queries import groups as group_queries
from dravo.store.queries import users as user_queries
from dravo.store.queries.access import AccessFilter
from tests.service_fixture import ServiceFixture

MOST = PageRequest(count=500)


@pytest.fixture
def garden(services: ServiceFixture) -> ServiceFixture:
    """Three users, two groups, two applications."""
    staff = services.source("staff")
    ada = services.user(staff, "ada", displayName="Ada Fern", emails=[{"value": "Ada@fernhollow.example"}])
    bob = services.user(staff, "bob", displayName="Bob Moss", active=False)
    cyd = services.user(staff, "cyd", displayName="Cyd Alder")
    services.group(staff, "Herbarium", ada, bob, cyd)
    services.group(staff, "Guides", cyd)
    for key in ("records", "desk"):
        services.application(key)
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", group="Herbarium"))
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "curator", group="Guides"))
    assignments.add(services.ctx, services.caller, AssignmentRequest("desk", "viewer", user="ada"))
    return services


def listed(garden: ServiceFixture, view: Any, *given: Any, **named: Any) -> list[Any]:
    with garden.ctx.database.reading() as connection:
        return list(view(connection, MOST, *given, **named).items)


@pytest.mark.parametrize(
    ("words", "status", "expected"),
    [
        (None, None, ["Ada Fern", "Bob Moss", "Cyd Alder"]),
        ("FERN", None, ["Ada Fern"]),
        ("ada@FERN", None, ["Ada Fern"]),
        ("cyd", "active", ["Cyd Alder"]),
        (None, "inactive", ["Bob Moss"]),
        (None, "left", []),
        ("zz", None, []),
    ],
)
def test_users_are_found_by_words_and_status(
    garden: ServiceFixture, words: str | None, status: str | None, expected: list[str]
) -> None:
    assert [each.display_name for each in listed(garden, user_queries.users, words, status)] == expected


def test_groups_tell_their_size_and_what_they_give(garden: ServiceFixture) -> None:
    with garden.ctx.database.reading() as connection:
        given = {
            group_id: len(each) for group_id, each in garden.ctx.catalogue.get(connection).by_group.items()
        }
    assert [
        (each.name, each.members, each.assignments)
        for each in listed(garden, group_queries.groups, None, None, given)
    ] == [
        ("Guides", 1, 1),
        ("Herbarium", 3, 1),
    ]
    assert [each.name for each in listed(garden, group_queries.groups, "herb", "staff", given)] == [
        "Herbarium"
    ]
    assert listed(garden, group_queries.groups, None, "none", given) == []


def test_a_group_is_found_by_its_id_whatever_others_are_called(garden: ServiceFixture) -> None:
    wanted = listed(garden, group_queries.groups, "herbarium", None, {})[0].id
    staff = garden.rows(t.source)[0].id
    for number in range(3):
        garden.group(staff, f"a {wanted} {number}")
    with garden.ctx.database.reading() as connection:
        found = group_queries.group(connection, wanted)
        assert found is not None
        assert found.name == "Herbarium"
        assert group_queries.group(connection, "none") is None


def test_letters_that_look_the_same_are_found_the_same(garden: ServiceFixture) -> None:
    staff = garden.rows(t.source)[0].id
    garden.user(staff, "zoe", displayName="Zo\u00eb", title="Zoe\u0308")
    own = OwnRecords(garden.ctx.database)
    for text in ('displayName eq "Zoe\u0308"', 'title eq "ZO\u00cb"', 'title sw "zo\u00eb"'):
        assert own.users(staff, "http://x", Query(filter=text))["totalResults"] == 1, text


@pytest.mark.parametrize(
    ("asked", "expected"),
    [
        (
            {},
            [
                ("Ada Fern", "desk", "viewer"),
                ("Ada Fern", "records", "viewer"),
                ("Cyd Alder", "records", "curator"),
                ("Cyd Alder", "records", "viewer"),
            ],
        ),
        ({"application_key": "desk"}, [("Ada Fern", "desk", "viewer")]),
        ({"application_key": "records", "role_key": "curator"}, [("Cyd Alder", "records", "curator")]),
        ({"words": "cyd"}, [("Cyd Alder", "records", "curator"), ("Cyd Alder", "records", "viewer")]),
        ({"ended": True}, []),
    ],
)
def test_access_is_listed_with_its_reasons_and_accounts(
    garden: ServiceFixture, asked: dict[str, Any], expected: list[Any]
) -> None:
    found = listed(garden, access_queries.access, AccessFilter(**asked))
    assert sorted((each.user.display_name, each.application.key, each.role.key) for each in found) == expected
    for each in found:
        assert each.reasons[0].by == "the command line"
        assert each.account.application.key == each.application.key


def test_accounts_and_tasks_are_listed_by_what_is_asked(garden: ServiceFixture) -> None:
    assert len(listed(garden, account_queries.accounts, None, None, None, None)) == 3
    assert [
        each.user.user_name
        for each in listed(garden, account_queries.accounts, "records", None, "waiting", "cyd")
    ] == ["cyd"]
    for status in ("in_sync", "pending", "unmanaged"):
        assert listed(garden, account_queries.accounts, None, None, status, None) == []
    opened = tasks.list_tasks(garden.ctx, MOST, TaskFilter("open"))
    assert opened.total == 3
    assert (
        tasks.list_tasks(garden.ctx, MOST, TaskFilter("waiting", "desk")).items[0].desired_state
        == "active, Viewer"
    )
    assert tasks.list_tasks(garden.ctx, MOST, TaskFilter("failed")).total == 0
    assert (
        tasks.list_tasks(garden.ctx, MOST, TaskFilter(words="cyd")).items[0].desired_state
        == "active, Curator, Viewer"
    )
    one = opened.items[0]
    assert tasks.one(garden.ctx, one.id).tries == []


def test_the_band_counts_what_there_is_and_what_needs_a_user(garden: ServiceFixture) -> None:
    stages = {stage.name: (stage.count, stage.needs) for stage in overview.band(garden.ctx).stages}
    assert stages == {
        "sources": (1, 0),
        "users": (3, 0),
        "access": (4, 0),
        "applications": (2, 0),
        "tasks": (3, 0),
    }
    observations.TrafficObserver(garden.ctx).note_refusal("staff", "a wrong token")
    connections.pause(garden.ctx, garden.caller, "desk", paused=True)
    needs = {stage.name: stage.needs for stage in overview.band(garden.ctx).stages}
    assert (needs["sources"], needs["applications"]) == (1, 1)


def test_applications_and_sources_tell_how_they_do(garden: ServiceFixture) -> None:
    shown = {
        each.key: (each.users, each.accounts, each.waiting)
        for each in applications.list_applications(garden.ctx, MOST).items
    }
    assert shown == {"records": (2, 2, 2), "desk": (1, 1, 1)}
    assert [(role.key, role.users) for role in applications.one(garden.ctx, "records").roles] == [
        ("viewer", 2),
        ("curator", 1),
    ]
    assert [(each.users, each.groups) for each in sources.list_sources(garden.ctx, MOST).items] == [(3, 2)]


def test_a_user_shows_which_source_said_what(garden: ServiceFixture) -> None:
    user = user_detail.user(garden.ctx, "ada@fernhollow.example")
    shown = {each.name: (each.value, each.source.key) for each in user.attributes}
    assert shown == {
        "userName": ("ada", "staff"),
        "displayName": ("Ada Fern", "staff"),
        "emails": ("Ada@fernhollow.example", "staff"),
    }
    assert [each.group.name for each in user.groups] == ["Herbarium"]
    assert user.records[0].active


def test_direct_access_is_found_by_its_own_index(garden: ServiceFixture) -> None:
    with garden.ctx.database.reading() as connection:
        asked: list[tuple[str, Any]] = []

        def note(_: Any, __: Any, statement: str, given: Any, *___: Any) -> None:
            asked.append((statement, given))

        event.listen(connection, "before_cursor_execute", note)
        matrix.list_users(
            connection, AccessScope(now=clock.now(), only=matrix.DIRECT_ONLY), PageRequest(), count_to=100
        )
        statement, given = asked[0]
        rows = connection.exec_driver_sql(f"EXPLAIN QUERY PLAN {statement}", given)
        plan = [str(row[3]) for row in rows]
    assert any("ix_access_direct" in step for step in plan), plan

"""Applications are added from templates and copied, and templates are made from applications."""

from __future__ import annotations

from typing import Any

import jsonschema_rs
import pytest

from dravo.core.errors import AlreadyExists, InvalidInput, NotFound
from dravo.services.access import assignments
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.applications import applications, connections, templates
from dravo.services.applications.applications import ApplicationDetail
from dravo.services.applications.connections import ConnectionSettings
from dravo.services.applications.templates import FromTemplate
from dravo.store import tables as t
from dravo.web.api.schemas.applications.templates import template_schema
from tests.service_fixture import ServiceFixture


def add(services: ServiceFixture, template: str, key: str = "records", **answers: str) -> ApplicationDetail:
    wish = FromTemplate(key, key.title(), template, answers=answers)
    return templates.add(services.ctx, services.caller, wish)


def test_an_application_from_a_template_has_its_roles_settings_and_address(services: ServiceFixture) -> None:
    made = add(services, "plant-records", workspace="https://fernhollow.plant-records.example/login")
    assert {each.key: each.rank for each in made.roles} == {"viewer": 10, "recorder": 20, "curator": 30}
    assert made.roles[0].description
    assert made.connection.base_url == "https://fernhollow.plant-records.example/scim/v2"
    assert (made.connection.has_secret, made.address) == (False, "https://fernhollow.plant-records.example/")
    assert (made.settings.on_leaving, made.provisioning.status) == ("delete", "disabled")
    desk = add(services, "ticket-desk", "desk", region="north")
    assert desk.connection.base_url is None, "the tenant is missing"
    assert [(each.key, each.seats) for each in desk.plans] == [("supervisor", 12)]
    assert add(services, "tracked-only", "payslips").tracked_only


@pytest.mark.parametrize(
    ("template", "answers", "error", "words"),
    [
        ("plant-record", {}, InvalidInput, "There is no application template 'plant-record'"),
        ("plant-records", {"workspace": "a b"}, InvalidInput, "is not an answer to 'Workspace'"),
        ("plant-records", {"region": "north"}, InvalidInput, "no question 'region'"),
    ],
)
def test_a_wrong_template_or_answer_adds_nothing(
    services: ServiceFixture, template: str, answers: dict[str, str], error: type[Exception], words: str
) -> None:
    with pytest.raises(error, match=words):
        add(services, template, **answers)
    assert not services.rows(t.application)


def test_a_template_that_is_refused_half_way_leaves_no_application(
    services: ServiceFixture, monkeypatch: pytest.MonkeyPatch
) -> None:
    def refuse(*_: Any, **__: Any) -> None:
        raise InvalidInput("No.", "Try another.", "x")

    monkeypatch.setattr(connections, "connect", refuse)
    with pytest.raises(InvalidInput, match="No"):
        add(services, "plant-records", workspace="fernhollow")
    assert not services.rows(t.application) and not services.rows(t.role)


def prepared(services: ServiceFixture) -> None:
    services.source()
    add(services, "ticket-desk", "desk", region="north", tenant="20310042")
    settings = {"adopt_by": ["userName"], "origin_attribute": "userType", "rate_limit": 9}
    applications.change(services.ctx, services.caller, "desk", {"note": "North"}, settings)
    url = "https://desk.fernhollow.example/scim"
    connections.connect(services.ctx, services.caller, "desk", ConnectionSettings(url, "secret"))
    services.user(services.rows(t.source, key="staff")[0].id, "ada")
    assignments.add(services.ctx, services.caller, AssignmentRequest("desk", "cashier", user="ada"))


def test_a_copy_has_the_settings_but_neither_token_nor_assignments(services: ServiceFixture) -> None:
    prepared(services)
    copied = templates.copy(services.ctx, services.caller, "desk", "desk-south", "Desk South")
    first = applications.one(services.ctx, "desk")
    assert copied.settings == first.settings and copied.policy == first.policy
    assert [vars(each) | {"users": 0} for each in copied.roles] == [
        vars(each) | {"users": 0} for each in first.roles
    ]
    assert [(each.key, each.seats) for each in copied.plans] == [("supervisor", 12)]
    assert (copied.connection.base_url, copied.connection.has_secret, copied.users) == (None, False, 0)
    assert copied.provisioning.status == "disabled"
    assert len(services.rows(t.assignment)) == 1
    with pytest.raises(AlreadyExists):
        templates.copy(services.ctx, services.caller, "desk", "desk-south", "Again")
    with pytest.raises(NotFound):
        templates.copy(services.ctx, services.caller, "nowhere", "x", "X")


def test_a_template_of_an_application_is_used_and_deleted(services: ServiceFixture) -> None:
    prepared(services)
    made = templates.save(services.ctx, services.caller, "our-desk", "desk", "Our desk", "As in the north.")
    assert made.own and {each.key for each in made.roles} == {"supervisor", "cashier"}
    assert templates.list_templates(services.ctx).items[0].key == "our-desk", "our own come first"
    assert "secret" not in str(services.rows(t.setting)) and "fernhollow" not in str(services.rows(t.setting))
    added = add(services, "our-desk", "desk-west")
    assert added.settings.adopt_by == ["userName"] and added.settings.rate_limit == 9
    for key in ("our-desk", "ticket-desk"):
        with pytest.raises(AlreadyExists):
            templates.save(services.ctx, services.caller, key, "desk", "X", "")
    templates.delete(services.ctx, services.caller, "our-desk")
    with pytest.raises(NotFound, match="no template 'our-desk'"):
        templates.delete(services.ctx, services.caller, "our-desk")
    with pytest.raises(NotFound):
        templates.delete(services.ctx, services.caller, "ticket-desk")
    assert applications.one(services.ctx, "desk-west").roles


def test_copies_know_each_other(services: ServiceFixture) -> None:
    ctx, caller = services.ctx, services.caller
    add(services, "scim-with-roles", "north")
    templates.copy(ctx, caller, "north", "south", "South")
    # A copy of a copy belongs to the same original.
    templates.copy(ctx, caller, "south", "east", "East")
    assert {each.key for each in applications.one(ctx, "north").instances} == {"south", "east"}
    east = applications.one(ctx, "east")
    assert [each.key for each in east.instances] == ["north", "south"]
    assert east.instance_of is not None and east.instance_of.key == "north"
    applications.remove(ctx, caller, "north", "North")
    assert [each.key for each in applications.one(ctx, "east").instances] == ["south"]
    assert applications.one(ctx, "east").instance_of is None


def test_several_are_added_and_one_that_fails_keeps_back_no_other(services: ServiceFixture) -> None:
    add(services, "plant-records", "ticket-desk")
    keys = ["plant-records", "ticket-desk", "nothing", "tracked-only", "plant-records"]
    items = templates.add_several(services.ctx, services.caller, keys, None).items
    assert [(each.template, each.application is not None) for each in items] == [
        ("plant-records", True),
        ("ticket-desk", False),
        ("nothing", False),
        ("tracked-only", True),
    ]
    assert "exists already" in (items[1].message or "") and items[2].hint
    assert applications.one(services.ctx, "tracked-only").tracked_only


def test_a_template_is_a_data_file_that_is_edited_and_saved(services: ServiceFixture) -> None:
    ctx, caller = services.ctx, services.caller
    document = templates.document(ctx, "plant-records")
    assert "key" not in document and document["questions"]
    edited = {**document, "label": "Our records", "roles": [{"key": "keeper", "label": "Keeper"}]}
    assert templates.load(ctx, caller, "our-records", edited).label == "Our records"
    assert templates.load(ctx, caller, "our-records", {**edited, "label": "Records"}).label == "Records"
    made = add(services, "our-records", workspace="fernhollow")
    assert [each.key for each in made.roles] == ["keeper"]
    # What a template has when it is shown is what it had when it was saved.
    assert templates.document(ctx, "our-records")["roles"][0]["key"] == "keeper"


@pytest.mark.parametrize(
    ("key", "change", "words"),
    [
        ("plant-records", {}, "ships with Dravo"),
        ("ours", {"roles": [{"key": "x"}]}, "roles"),
        ("ours", {"colour": "green"}, "colour"),
        ("ours", {"settings": {"create_account": True}}, "'create_account' is not a provisioning setting"),
        ("Not a key", {}, "key"),
    ],
)
def test_a_file_that_is_no_template_is_refused(
    services: ServiceFixture, key: str, change: dict[str, Any], words: str
) -> None:
    document = {**templates.document(services.ctx, "plant-records"), **change}
    with pytest.raises(InvalidInput, match=words) as told:
        templates.load(services.ctx, services.caller, key, document)
    assert told.value.hint


def test_the_shipped_templates_follow_the_published_schema(services: ServiceFixture) -> None:
    schema = jsonschema_rs.validator_for(template_schema())
    shipped = [each.key for each in templates.list_templates(services.ctx).items]
    for key in shipped:
        schema.validate(templates.document(services.ctx, key))
    assert not schema.is_valid({"label": "Records", "settings": {"create_account": True}})
    assert not schema.is_valid({"roles": []}), "a label is required"

"""The manager of a user: who it is where that is certain, and nobody where it is not."""

from __future__ import annotations

from typing import Any

import pytest

from dravo.core.scim.schemas import ENTERPRISE_URN
from dravo.services.access.user_detail import user
from dravo.services.imports import config as import_config
from tests.directories import Reading
from tests.service_fixture import ServiceFixture


def manager(services: ServiceFixture, name: str) -> str | None:
    found = user(services.ctx, name).manager
    return None if found is None else found.user_name


def report(services: ServiceFixture, source: str, value: Any, name: str = "una.kerrigan") -> None:
    services.user(source, name, **{ENTERPRISE_URN: {"manager": value}})


def test_a_manager_is_named_by_any_id_that_the_source_uses(services: ServiceFixture) -> None:
    staff = services.source("staff")
    grace = services.user(staff, "grace.thorn", externalId="G-1")
    for number, value in enumerate((grace, "G-1", "grace.thorn", "GRACE.THORN")):
        report(services, staff, {"value": value}, f"user.{number}")
        assert manager(services, f"user.{number}") == "grace.thorn", value
    report(services, staff, {"value": "nobody"}, "loose")
    assert manager(services, "loose") is None and manager(services, "grace.thorn") is None
    # A manager who comes later is found without another report.
    services.user(staff, "nobody")
    assert manager(services, "loose") == "nobody"
    services.intake.remove_user(staff, grace)
    assert manager(services, "user.0") is None


def test_no_source_names_a_manager_by_what_another_source_reports(services: ServiceFixture) -> None:
    staff, partners = services.source("staff"), services.source("partners")
    grace = services.user(staff, "grace.thorn", externalId="G-1")
    for number, value in enumerate((grace, "G-1", "grace.thorn")):
        report(services, partners, {"value": value}, f"partner.{number}")
        assert manager(services, f"partner.{number}") is None


def test_two_possible_managers_are_none(services: ServiceFixture) -> None:
    staff = services.source("staff")
    services.user(staff, "grace.thorn", externalId="linden")
    services.user(staff, "linden")
    report(services, staff, {"value": "linden"})
    assert manager(services, "una.kerrigan") is None


@pytest.mark.parametrize("named", ["7", "grace.thorn"])
def test_a_manager_is_read_from_a_file(services: ServiceFixture, named: str) -> None:
    policy = {
        "attributes": [
            {"attribute": "userName", "expression": "login"},
            {"attribute": f"{ENTERPRISE_URN}:manager.value", "expression": "manager"},
        ]
    }
    reading = Reading(services, "csv", {}, policy=policy)
    text = f"id,login,manager\n7,grace.thorn,\n8,una.kerrigan,{named}\n"
    import_config.put_file(services.ctx, services.caller, reading.key, "users.csv", text.encode())
    assert reading.run()["new"] == 2
    assert manager(services, "una.kerrigan") == "grace.thorn"

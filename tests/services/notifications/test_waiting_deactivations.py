"""Super administrators learn by email that deactivations wait at a disabled source."""

from __future__ import annotations

import pytest

from dravo.core.instants import later
from dravo.services.notifications import mail_queue, waiting_deactivations
from dravo.services.security import operators
from dravo.services.security.operator_kinds import NewOperator
from dravo.services.security.permissions import ADMINISTRATOR, SUPER_ADMINISTRATOR
from dravo.store import clock
from dravo.store import tables as t
from tests.harness import Letters
from tests.service_fixture import ServiceFixture
from tests.services.ingest.test_inbound_policy import Inbound
from tests.services.notifications.test_mail_queue import set_server

DAY = 86_400


class Waiting(Inbound):
    """A disabled source at which the deactivation of one of three users waits."""

    records: list[str]


@pytest.fixture
def source(services: ServiceFixture, letters: Letters) -> Waiting:
    letters.faults()
    services.__class__ = Waiting
    assert isinstance(services, Waiting)
    services.prepare()
    services.records = [services.user(services.staff, name) for name in ("ida", "ove", "una")]
    services.status("disabled")
    services.set_user(services.records[0], active=False)
    return services


def send(source: Waiting, seconds: float = 0) -> int:
    number = waiting_deactivations.notify(source.ctx, later(clock.now(), seconds))
    while mail_queue.send_due(source.ctx, clock.now()):
        pass
    return number


def create(source: Waiting, name: str, kind: str, email: str = "") -> str:
    return operators.add(
        source.ctx, source.caller, NewOperator(name, kind, email=email), "a-long-password"
    ).id


def test_each_super_administrator_gets_one_notice_about_a_source(source: Waiting, letters: Letters) -> None:
    set_server(source, letters.smtp_port)
    assert send(source) == 0, "there is nobody to notify"
    create(source, "edmund", SUPER_ADMINISTRATOR, "edmund.one@fernhollow.example")
    create(source, "honor", SUPER_ADMINISTRATOR, "honor.one@fernhollow.example")
    create(source, "ola", ADMINISTRATOR, "ola.one@fernhollow.example")
    left = create(source, "gale", SUPER_ADMINISTRATOR, "gale.one@fernhollow.example")
    operators.disable(source.ctx, source.caller, left)
    assert send(source) == 1 and send(source) == 0
    for name, number in (("edmund", 1), ("honor", 1), ("ola", 0), ("gale", 0)):
        assert len(letters.to(f"{name}.one@fernhollow.example")) == number, name
    (letter,) = letters.to("edmund.one@fernhollow.example")
    assert letter["subject"] == "Deactivations wait at the source 'Staff'"
    assert "1 user waits to be deactivated" in letter["text"]
    assert "keep their access and their accounts" in letter["text"]


def test_a_growing_number_is_reported_again_a_day_later(source: Waiting, letters: Letters) -> None:
    address = "edmund.two@fernhollow.example"
    set_server(source, letters.smtp_port)
    create(source, "edmund", SUPER_ADMINISTRATOR, address)
    assert send(source) == 1
    assert send(source, 2 * DAY) == 0, "the number is the same"
    source.intake.remove_user(source.staff, source.records[1])
    assert send(source, DAY / 2) == 0, "the last notice is not a day old"
    assert send(source, 2 * DAY) == 1
    assert "2 users wait to be deactivated" in letters.to(address)[0]["text"]


def test_a_source_that_waits_again_is_reported_at_once(source: Waiting, letters: Letters) -> None:
    set_server(source, letters.smtp_port)
    create(source, "edmund", SUPER_ADMINISTRATOR, "edmund.three@fernhollow.example")
    assert send(source) == 1
    source.set_user(source.records[0], active=True)
    assert send(source) == 0
    source.set_user(source.records[0], active=False)
    assert send(source) == 1


def test_nothing_counts_as_reported_without_an_email_server(source: Waiting, letters: Letters) -> None:
    create(source, "edmund", SUPER_ADMINISTRATOR, "edmund.four@fernhollow.example")
    assert send(source) == 0 and not source.rows(t.outbound_mail)
    set_server(source, letters.smtp_port)
    assert send(source) == 1

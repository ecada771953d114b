"""Events are reported once to whom the rules name, again while they last, and when they are solved."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pytest

from dravo.core.errors import InvalidInput
from dravo.core.instants import later
from dravo.core.notifications.reporting import Condition
from dravo.core.notifications.texts import MailText
from dravo.services import settings
from dravo.services.notifications import events, mail_texts, messages, rules
from dravo.services.notifications.events import ListedEvents
from dravo.services.reporting import conditions
from dravo.services.security import operators
from dravo.services.security.operator_kinds import NewOperator
from dravo.services.security.permissions import ADMINISTRATOR, AUDITOR, OWNER, SUPER_ADMINISTRATOR
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.notifications import events as event_rows
from dravo.store.notifications.messages import EMAIL, MessageFilter
from dravo.store.pagination import PageRequest
from tests.harness import Letters
from tests.service_fixture import ServiceFixture
from tests.services.ingest.test_inbound_policy import Inbound
from tests.services.notifications.test_messages import set_server

HOUR, DAY = 3_600, 86_400


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


def send(services: ServiceFixture, seconds: float = 0, **only: Any) -> int:
    """Report what there is, and send all messages; return how many were written."""
    now = later(clock.now(), seconds)
    number = events.report(services.ctx, only.get("found", conditions.current(services.ctx, now)), now)
    while messages.send_due(services.ctx, later(clock.now(), seconds), EMAIL):
        pass
    return number


def create(services: ServiceFixture, name: str, kind: str, email: str = "") -> str:
    made = NewOperator(name, kind, email=email)
    operator = operators.add(services.ctx, services.caller, made, "a-long-password").id
    with services.ctx.database.writing() as connection:
        # Its own event is another test's.
        its_own = t.notification_event.c.kind == "operator_created"
        connection.execute(t.notification_event.update().where(its_own).values(reports=1))
    return operator


def failing(number: int = 3, application_id: str = "a" * 36, level: int | None = None) -> Condition:
    return Condition(
        kind="task_failed" if level is None else "secret_expiring",
        subject_id=application_id,
        subject="Plant Records",
        title=f"Plant Records: {number} provisioning tasks failed",
        text="403 Forbidden",
        path="/provisioning/tasks?application=plant-records&status=failed",
        number=number,
        level=level,
        application_id=application_id,
    )


def test_administrators_get_one_email_about_waiting_deactivations(source: Waiting, letters: Letters) -> None:
    set_server(source, letters.smtp_port)
    assert send(source) == 0, "there is nobody to notify"
    create(source, "edmund", SUPER_ADMINISTRATOR, "edmund.one@fernhollow.example")
    create(source, "honor", SUPER_ADMINISTRATOR, "honor.one@fernhollow.example")
    create(source, "ola", AUDITOR, "ola.one@fernhollow.example")
    left = create(source, "gale", ADMINISTRATOR, "gale.one@fernhollow.example")
    operators.disable(source.ctx, source.caller, left)
    assert send(source) == 0, "the next look is five minutes later"
    assert send(source, 301) == 2 and send(source, 301) == 0
    for name, number in (("edmund", 1), ("honor", 1), ("ola", 0), ("gale", 0)):
        assert len(letters.to(f"{name}.one@fernhollow.example")) == number, name
    (letter,) = letters.to("edmund.one@fernhollow.example")
    assert letter["subject"] == "Staff: 1 deactivation waits"
    assert "keep their access and their accounts" in letter["text"] and "/sources/staff" in letter["text"]


def test_a_source_that_no_longer_waits_is_reported_as_solved(source: Waiting, letters: Letters) -> None:
    address = "edmund.two@fernhollow.example"
    set_server(source, letters.smtp_port)
    create(source, "edmund", SUPER_ADMINISTRATOR, address)
    assert send(source) == 1
    source.set_user(source.records[0], active=True)
    assert send(source) == 1
    assert [each["subject"] for each in letters.to(address)] == [
        "Solved: Staff: 1 deactivation waits",
        "Staff: 1 deactivation waits",
    ]


@pytest.fixture
def told(services: ServiceFixture, letters: Letters) -> Callable[[str], list[str]]:
    """Return the subjects of the emails to an address, the oldest first; an administrator has one."""
    letters.faults()
    set_server(services, letters.smtp_port)
    return lambda address: [each["subject"] for each in reversed(letters.to(address))]


def test_a_condition_that_lasts_is_repeated_after_1_6_and_24_hours_and_then_no_more(
    services: ServiceFixture, told: Callable[[str], list[str]]
) -> None:
    create(services, "edmund", ADMINISTRATOR, "lasting@fernhollow.example")
    for hours in (0, 0.5, 1.1, 2, 5, 6.1, 12, 24.1, 48, 100):
        send(services, hours * HOUR, found=[failing()])
    title = failing().title
    assert told("lasting@fernhollow.example") == [title, *[f"Reminder: {title}"] * 3]
    send(services, 101 * HOUR, found=[])
    assert told("lasting@fernhollow.example")[-1] == f"Solved: {title}"
    (line,) = events.list_events(services.ctx, PageRequest(), ListedEvents(kind="task_failed")).items
    assert (line.status, line.reports, line.messages) == ("solved", 4, 5)


def test_a_condition_that_comes_and_goes_is_not_reported_each_time(
    services: ServiceFixture, told: Callable[[str], list[str]]
) -> None:
    create(services, "edmund", ADMINISTRATOR, "flapping@fernhollow.example")
    for minute in range(0, 50, 2):
        send(services, minute * 60, found=[failing()] if minute % 4 == 0 else [])
    title = failing().title
    assert told("flapping@fernhollow.example") == [title, f"Solved: {title}"]
    # What is still wrong an hour later is reported.
    send(services, 50 * 60, found=[failing()])
    send(services, 2 * HOUR, found=[failing()])
    assert told("flapping@fernhollow.example")[2:] == [title]


def test_an_event_that_is_deleted_while_its_messages_are_written_harms_nothing(
    services: ServiceFixture, told: Callable[[str], list[str]], monkeypatch: pytest.MonkeyPatch
) -> None:
    create(services, "edmund", ADMINISTRATOR, "deleted@fernhollow.example")
    with services.ctx.database.writing() as connection:
        event_rows.happened(connection, failing(), clock.now())
    write = events._Writer.rows

    def erased(writer: Any, made: Any) -> Any:
        with services.ctx.database.writing() as connection:
            connection.execute(t.notification_event.delete())
        return write(writer, made)

    with monkeypatch.context() as patched:
        patched.setattr(events._Writer, "rows", erased)
        assert send(services, found=[]) == 0
    assert send(services, found=[failing()]) == 1
    assert told("deleted@fernhollow.example") == [failing().title]


def test_an_expiry_is_reported_when_it_comes_nearer(
    services: ServiceFixture, told: Callable[[str], list[str]]
) -> None:
    create(services, "edmund", ADMINISTRATOR, "expiring@fernhollow.example")
    for day, level in ((0, 30), (5, 30), (24, 7), (28, 7), (29.5, 1), (31, 0)):
        send(services, day * DAY, found=[failing(level=level)])
    assert len(told("expiring@fernhollow.example")) == 4


def test_rules_choose_kinds_applications_recipients_and_times(
    services: ServiceFixture, told: Callable[[str], list[str]]
) -> None:
    services.application("records")
    services.application("desk")
    records = services.rows(t.application, key="records")[0].id
    desk = services.rows(t.application, key="desk")[0].id
    with services.ctx.database.writing() as connection:
        connection.execute(t.notification_rule.delete())
    wish = {"kinds": None, "applications": None, "sources": None, "frequency": "immediately", "enabled": True}

    def rule(label: str, *recipients: tuple[str, str], **given: Any) -> None:
        to = [{"kind": kind, "value": value} for kind, value in recipients]
        rules.create(services.ctx, services.caller, {**wish, "label": label, "recipients": to, **given})

    rule("records only", ("address", "records@fernhollow.example"), applications=["records"])
    rule("other kind", ("address", "drift@fernhollow.example"), kinds=["drift_found"])
    rule("twice", ("address", "Twice@fernhollow.example"), ("address", "twice@fernhollow.example"))
    rule("daily", ("address", "daily@fernhollow.example"), frequency="daily")
    rule("off", ("address", "off@fernhollow.example"), enabled=False)
    owner = NewOperator("rosa", OWNER, email="owner@fernhollow.example", applications=("records",))
    operators.add(services.ctx, services.caller, owner, "a-long-password")
    create(services, "edmund", ADMINISTRATOR, "nobody-else@fernhollow.example")
    rule("owners", ("owners", ""))
    send(services, found=[failing(application_id=records), failing(2, application_id=desk)])
    number = {
        name: len(told(f"{name}@fernhollow.example"))
        for name in ("records", "drift", "off", "owner", "nobody-else", "daily")
    }
    # Without an owner, administrators are told.
    assert number == {"records": 1, "drift": 0, "off": 0, "owner": 1, "nobody-else": 1, "daily": 0}
    assert len(told("Twice@fernhollow.example")) + len(told("twice@fernhollow.example")) == 2
    assert events.send_summaries(services.ctx, clock.now()) == 0
    collected, *_ = messages.list_messages(
        services.ctx, PageRequest(), MessageFilter(status="collected")
    ).items
    assert collected.can_repeat and collected.next_at is not None
    assert clock.now() < collected.next_at <= later(clock.now(), 25 * HOUR)
    messages.send_again(services.ctx, services.caller, collected.id)
    assert events.send_summaries(services.ctx, clock.now()) == 1
    messages.send_due(services.ctx, later(clock.now(), 25 * HOUR), EMAIL)
    assert told("daily@fernhollow.example") == ["2 events"]


def test_a_title_cannot_become_another_header_or_a_placeholder(
    services: ServiceFixture, letters: Letters, told: Callable[[str], list[str]]
) -> None:
    create(services, "edmund", ADMINISTRATOR, "header@fernhollow.example")
    settings.change(services.ctx, services.caller, "organization_name", "Fernhollow {title}")
    mail_texts.change(
        services.ctx,
        services.caller,
        "notification",
        MailText("{organization}: {title}", "Guten Tag,", "{address} {organization}"),
    )
    bad = failing()
    send(services, found=[Condition(**{**vars(bad), "title": "Plant\r\nBcc: x@y.example {address}"})])
    (letter,) = letters.to("header@fernhollow.example")
    assert letter["subject"] == "Fernhollow {title}: Plant Bcc: x@y.example {address}"
    assert letter["text"].startswith("Guten Tag,") and letters.to("x@y.example") == []


@pytest.mark.parametrize(
    ("text", "field"),
    [
        (MailText("", "", ""), "subject"),
        (MailText("{titel}", "", ""), "subject"),
        (MailText("x" * 201, "", ""), "subject"),
        (MailText("x", "", "{__class__}"), "footer"),
        (MailText("x", "{unknown}", ""), "greeting"),
    ],
)
def test_a_text_that_cannot_be_used_is_refused(services: ServiceFixture, text: MailText, field: str) -> None:
    with pytest.raises(InvalidInput) as refused:
        mail_texts.change(services.ctx, services.caller, "notification", text)
    assert refused.value.field == field
    assert not mail_texts.list_texts(services.ctx).items[0].changed


def test_a_changed_text_is_previewed_and_can_be_reset(services: ServiceFixture) -> None:
    text = MailText("Garden: {title}", "Bonjour,", "")
    assert mail_texts.preview(services.ctx, "sign_in_code", text).subject == "Garden: Your sign-in code"
    mail_texts.change(services.ctx, services.caller, "sign_in_code", text)
    changed = {each.kind for each in mail_texts.list_texts(services.ctx).items if each.changed}
    assert changed == {"sign_in_code"}
    found = mail_texts.change(services.ctx, services.caller, "sign_in_code", None)
    assert not any(each.changed for each in found.items)

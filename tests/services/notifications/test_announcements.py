"""An announcement is previewed, scheduled and sent once to each user whom it concerns."""

from __future__ import annotations

from typing import Any

import pytest

from dravo.core.errors import InvalidInput, NotFound
from dravo.core.instants import later
from dravo.services.notifications import announcements, mail_server, messages
from dravo.services.notifications.announcements import NewAnnouncement, StaleRecipients
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.notifications import messages as message_rows
from dravo.store.notifications.messages import EMAIL
from dravo.store.pagination import PageRequest
from tests.harness import Letters
from tests.service_fixture import ServiceFixture
from tests.services.notifications.test_messages import set_server

NAMES = ("ida", "ove", "una")


def address(name: str) -> str:
    return f"{name}.announced@fernhollow.example"


@pytest.fixture
def staff(services: ServiceFixture, letters: Letters) -> ServiceFixture:
    """A source with three users with an address, one without, and an inactive one."""
    letters.faults()
    set_server(services, letters.smtp_port)
    source = services.source("staff")
    for name in NAMES:
        services.user(source, name, emails=[{"value": address(name)}])
    services.user(source, "without")
    services.user(source, "inactive", emails=[{"value": address("inactive")}], active=False)
    services.application("records")
    return services


def new(about: str = "source", key: str = "staff", **more: object) -> NewAnnouncement:
    return NewAnnouncement(about, key, "A new sign-in", "From Monday on.\n\nBring your card.", **more)  # type: ignore[arg-type]


def test_the_preview_tells_recipients_and_those_without_an_address(staff: ServiceFixture) -> None:
    seen = announcements.preview(staff.ctx, new())
    assert (seen.recipients, seen.without) == (3, 1)
    assert {each.email for each in seen.first} == {address(name) for name in NAMES}
    assert seen.subject == "A new sign-in" and seen.text.startswith("From Monday on.")
    assert staff.rows(t.announcement) == staff.rows(t.message) == []


def test_each_user_gets_one_email_also_in_several_chunks(
    staff: ServiceFixture, letters: Letters, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(announcements, "CHUNK", 2)
    made = announcements.create(staff.ctx, staff.caller, new(expect=3))
    assert announcements.write_due(staff.ctx, clock.now()) == 2
    assert announcements.write_due(staff.ctx, clock.now()) == 0, "the first emails are not sent yet"
    messages.send_due(staff.ctx, clock.now(), EMAIL)
    assert announcements.write_due(staff.ctx, clock.now()) == 1
    messages.send_due(staff.ctx, clock.now(), EMAIL)
    assert announcements.write_due(staff.ctx, clock.now()) == 0
    assert [len(letters.to(address(name))) for name in (*NAMES, "inactive")] == [1, 1, 1, 0]
    found = announcements.one(staff.ctx, made.id)
    assert (found.status, found.written) == ("sent", 3)
    with pytest.raises(InvalidInput, match="is sent already"):
        announcements.withdraw(staff.ctx, staff.caller, made.id)


def test_messages_of_later_summaries_keep_no_announcement_waiting(
    staff: ServiceFixture, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(announcements, "CHUNK", 2)
    with staff.ctx.database.writing() as connection:
        tomorrow = later(clock.now(), 86_400)
        rows = [
            messages.collected_row(staff.ctx, "rule", address("ola"), ("An event", "x"), tomorrow)
            for _ in range(3)
        ]
        message_rows.insert_messages(connection, rows)
    assert mail_server.shown(staff.ctx).waiting == 0
    announcements.create(staff.ctx, staff.caller, new())
    assert announcements.write_due(staff.ctx, clock.now()) == 2


def test_a_scheduled_announcement_waits_and_can_be_withdrawn(staff: ServiceFixture) -> None:
    made = announcements.create(staff.ctx, staff.caller, new(send_at=later(clock.now(), 3_600)))
    assert announcements.write_due(staff.ctx, clock.now()) == 0
    assert announcements.withdraw(staff.ctx, staff.caller, made.id).status == "withdrawn"
    assert announcements.write_due(staff.ctx, later(clock.now(), 7_200)) == 0
    other = announcements.create(staff.ctx, staff.caller, new(send_at=later(clock.now(), 3_600)))
    assert announcements.write_due(staff.ctx, later(clock.now(), 7_200)) == 3
    listed = announcements.list_announcements(staff.ctx, PageRequest()).items
    assert [(each.id, each.status) for each in listed] == [(other.id, "sent"), (made.id, "withdrawn")]


def test_one_that_is_withdrawn_while_its_emails_are_composed_is_not_sent(
    staff: ServiceFixture, monkeypatch: pytest.MonkeyPatch
) -> None:
    made = announcements.create(staff.ctx, staff.caller, new())
    compose, withdrawn = messages.email_row, []

    def compose_and_withdraw(*given: Any, **more: Any) -> dict[str, Any]:
        if not withdrawn:
            withdrawn.append(announcements.withdraw(staff.ctx, staff.caller, made.id))
        return compose(*given, **more)

    monkeypatch.setattr(messages, "email_row", compose_and_withdraw)
    assert announcements.write_due(staff.ctx, clock.now()) == 0
    assert withdrawn and staff.rows(t.message) == []
    assert announcements.one(staff.ctx, made.id).status == "withdrawn"


def test_an_announcement_that_cannot_be_sent_is_refused(staff: ServiceFixture) -> None:
    def refused(wish: NewAnnouncement) -> str:
        with pytest.raises(InvalidInput) as wrong:
            announcements.create(staff.ctx, staff.caller, wish)
        return wrong.value.message

    assert "has an email address" in refused(new("application", "records"))
    assert "subject must have" in refused(NewAnnouncement("source", "staff", " ", "x"))
    assert "text must have" in refused(NewAnnouncement("source", "staff", "x", "y" * 5_001))
    assert "is not a time" in refused(new(send_at="tomorrow"))
    assert "cannot be about" in refused(new("group"))
    with pytest.raises(NotFound):
        announcements.create(staff.ctx, staff.caller, new(key="gone"))
    with pytest.raises(StaleRecipients):
        announcements.create(staff.ctx, staff.caller, new(expect=2))
    set_server(staff, 25, host="")
    assert "No email server" in refused(new())
    assert staff.rows(t.announcement) == []

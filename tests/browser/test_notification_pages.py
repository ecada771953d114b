"""Notifications in the console: rules, webhooks, texts, messages and announcements."""

from __future__ import annotations

from collections.abc import Callable

from playwright.sync_api import Page, expect

from dravo.demo.http_server import Answer, Call
from tests.browser.conftest import check_accessible, find_and_choose
from tests.harness import Letters, Running, eventually, served

Fresh = Callable[[str], str]


def test_events_reach_a_webhook_and_an_address_by_a_rule(
    open_page: Callable[..., Page], mailing: Running, letters: Letters, fresh: Fresh
) -> None:
    got: list[Call] = []

    def receive(call: Call) -> Answer:
        got.append(call)
        return Answer(204)

    page = open_page(signed_in=True)
    label, address = fresh("Duty desk"), f"{fresh('desk')}@fernhollow.example"
    with served(receive) as port:
        page.goto("/settings/notifications")
        page.get_by_role("button", name="Create webhook").click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_label("Name of the webhook").fill(label)
        dialog.get_by_label("URL").fill("nothing")
        dialog.get_by_role("button", name="Create").click()
        expect(dialog).to_contain_text("is not a valid URL")
        dialog.get_by_label("URL").fill(f"http://127.0.0.1:{port}/events")
        dialog.get_by_role("button", name="Create").click()
        secret = page.get_by_text("Webhook secret (shown only once)")
        expect(secret).to_be_visible()
        page.get_by_role("button", name="I have stored it").click()
        expect(secret).to_have_count(0)
        row = page.get_by_role("row").filter(has_text=label)
        row.get_by_role("button", name="Send test message").click()
        expect(page.get_by_text(f"{label} answered 204.")).to_be_visible()
        page.get_by_role("button", name="Create rule").click()
        dialog.get_by_label("Name of the rule").fill(label)
        find_and_choose(dialog.get_by_role("combobox", name="Kinds of events"), "Operator created")
        page.keyboard.press("Escape")
        dialog.get_by_label("Email addresses").fill(address)
        find_and_choose(dialog.get_by_role("combobox", name="Webhooks"), label)
        page.keyboard.press("Escape")
        dialog.get_by_role("button", name="Create").click()
        expect(dialog).to_have_count(0)
        row = page.get_by_role("table", name="Notification rules").get_by_role("row").filter(has_text=label)
        expect(row).to_contain_text(f"Webhook: {label}")
        expect(row).to_contain_text(address)
        operator = fresh("honor")
        with mailing.dravo as dravo:
            dravo.operators.add(operator, "auditor")
        eventually(lambda: [each for each in letters.to(address) if operator in each["subject"]])
        eventually(lambda: [each for each in got if operator in each.body["title"]])
    page.goto("/settings/messages")
    events = page.get_by_role("table", name="Events")
    expect(events.get_by_role("row").filter(has_text=f"Operator {operator} created")).to_contain_text(
        "happened"
    )
    page.get_by_role("textbox", name="Recipient or subject").fill(address)
    messages = page.get_by_role("table", name="Messages").get_by_role("row").filter(has_text=address)
    messages = messages.filter(has_text=operator)
    expect(messages).to_have_count(1)
    expect(messages).to_contain_text("sent")
    messages.get_by_role("button", name="Send again").click()
    eventually(lambda: [each for each in letters.to(address) if operator in each["subject"]][1:])
    check_accessible(page)


def test_a_text_is_previewed_as_it_is_typed_and_an_announcement_sent_to_the_users_of_a_source(
    open_page: Callable[..., Page], mailing: Running, letters: Letters, fresh: Fresh
) -> None:
    source, name = fresh("staff"), fresh("una")
    address = f"{name}@fernhollow.example"
    mailing.provider(source).user(name, emails=[{"value": address}])
    page = open_page(signed_in=True)
    page.goto("/settings/notifications")
    row = page.get_by_role("table", name="Texts of emails").get_by_role("row").filter(has_text="Announcement")
    row.get_by_role("button", name="Edit text").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Greeting").fill("Dear colleagues,")
    expect(dialog.get_by_role("region", name="Sample email")).to_contain_text("Dear colleagues,")
    dialog.get_by_label("Subject").fill("{organisation}")
    expect(dialog).to_contain_text("Did you mean 'organization'?")
    dialog.get_by_label("Subject").fill("Garden: {title}")
    dialog.get_by_role("button", name="Save").click()
    expect(row).to_contain_text("changed")
    page.goto("/settings/messages")
    page.get_by_role("button", name="Create announcement").click()
    dialog.get_by_role("radio", name="a source").check()
    find_and_choose(dialog.get_by_role("combobox", name="Source"), f"{source.capitalize()} directory")
    dialog.get_by_label("Subject").fill("A new sign-in")
    dialog.get_by_label("Text", exact=True).fill("From Monday on, sign in with your staff account.")
    expect(dialog.get_by_role("region", name="Sample email")).to_contain_text("Garden: A new sign-in")
    dialog.get_by_role("button", name="Send to 1 user").click()
    (letter,) = eventually(lambda: letters.to(address))
    assert letter["subject"] == "Garden: A new sign-in" and letter["text"].startswith("Dear colleagues,")
    table = page.get_by_role("table", name="Announcements")
    expect(table.get_by_role("row").filter(has_text="A new sign-in").first).to_contain_text("sent")

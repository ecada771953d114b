"""Notifications by commands against a running service: a failing application is reported once to its owner,
then as solved; webhooks, texts and announcements.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from dravo.demo.http_server import Answer, Call
from tests.client.test_access_commands import ran
from tests.harness import Letters, Running, StandIn, eventually, served

Fresh = Callable[[str], str]


@pytest.fixture
def mailing(running: Running, letters: Letters) -> Iterator[Running]:
    """The service with an email server, until the test ends."""
    letters.faults()
    server = ["--host", "127.0.0.1", "--port", str(letters.smtp_port), "--security", "none"]
    ran(running, "mail", "set", *server, "--sender", "dravo@fernhollow.example")
    yield running
    ran(running, "mail", "set", "--host", "")


def test_a_failing_application_is_reported_once_to_its_owner_and_then_as_solved(
    mailing: Running, letters: Letters, app: StandIn, fresh: Fresh
) -> None:
    desk, owner = fresh("desk"), fresh("gareth")
    address = f"{owner}@fernhollow.example"
    mailing.application(desk, app)
    with mailing.dravo as dravo:
        dravo.operators.add(owner, "application_owner", email=address)
        dravo.applications.change(desk, owner=owner)
        app.faults(refuse=400)
        names = [fresh("una"), fresh("ove")]
        for name in names:
            mailing.provider(fresh("staff")).user(name)
            dravo.assignments.add(desk, "viewer", user=name)
        label = dravo.applications.get(desk)["label"]
        told = eventually(lambda: subjects(letters, address), lambda some: len(some) >= 1)
        assert re.fullmatch(rf"{label}: \d provisioning tasks? failed", told[0])
        app.faults(refuse=False)
        for task in dravo.tasks.list(status="failed", application=desk):
            dravo.tasks.retry(task["id"])
        told = eventually(lambda: subjects(letters, address), lambda some: len(some) >= 2)
        assert len(told) == 2 and told[1].startswith(f"Solved: {label}: ")
        mailing.settled(desk)
    listed = ran(mailing, "notification", "list", "--application", desk, "--kind", "task_failed")
    assert "solved" in listed and "failed" in listed
    messages = ran(mailing, "notification", "messages", "--words", address, "--status", "sent")
    assert messages.count(address) == 2
    first = json.loads(ran(mailing, "notification", "messages", "--words", address, "--json"))[-1]["id"]
    assert f"to {address} is sent again" in ran(mailing, "notification", "send-again", first)
    eventually(lambda: subjects(letters, address), lambda some: len(some) == 3)


def subjects(letters: Letters, address: str) -> list[str]:
    """Return the subjects of the emails to an address, the oldest first."""
    return [each["subject"] for each in reversed(letters.to(address))]


def test_a_webhook_is_created_tested_put_into_a_rule_and_deleted(running: Running, fresh: Fresh) -> None:
    got: list[Call] = []

    def receive(call: Call) -> Answer:
        got.append(call)
        return Answer(204)

    with served(receive) as port:
        url, label = f"http://127.0.0.1:{port}/events", fresh("duty")
        made = ran(running, "webhook", "create", "--label", label, "--to", url)
        hook = re.findall(r"\(([0-9a-f-]{36})\)", made)[0]
        assert "shown only once" in made
        assert "answered 204" in ran(running, "webhook", "test", hook) and len(got) == 1
        assert "shown only once" in ran(running, "webhook", "rotate-secret", hook)
        rule = ran(
            running,
            *("notification", "create-rule", "--label", label, "--to", f"webhook:{hook}"),
            *("--to", "owners", "--to", "operators:auditor", "--to", "desk@fernhollow.example"),
            *("--kind", "operator_created", "--frequency", "daily"),
        )
        rule_id = re.findall(r"\(([0-9a-f-]{36})\)", rule)[0]
        listed = ran(running, "notification", "rules")
        assert f"Webhook: {label}" in listed and "desk@fernhollow.example" in listed
        operator = fresh("honor")
        with running.dravo as dravo:
            dravo.operators.add(operator, "auditor")
        event = eventually(lambda: [each.body for each in got if operator in each.body["title"]])[0]
        assert (event["kind"], event["status"]) == ("operator_created", "happened")
        refused = ran(running, "webhook", "delete", hook, code=1)
        assert "sends to this webhook" in refused
        assert "disabled" in ran(running, "webhook", "disable", hook)
        assert "enabled" in ran(running, "webhook", "enable", hook)
        ran(running, "webhook", "change", hook, "--label", f"{label} two")
        changed = ("notification", "change-rule", rule_id, "--label", label, "--to", "owners")
        assert "Changed the rule" in ran(running, *changed)
        assert f"{label} two" in ran(running, "webhook", "list")
        assert "Deleted" in ran(running, "webhook", "delete", hook)
        assert "Deleted" in ran(running, "notification", "delete-rule", rule_id)
    assert "is not a recipient" in ran(
        running, "notification", "create-rule", "--label", "x", "--to", "nobody", code=2
    )
    assert "Did you mean 'task_failed'" in ran(
        running, "notification", "list", "--kind", "task_faild", code=2
    )
    assert "Operator locked out" in ran(running, "notification", "kinds")
    assert json.loads(ran(running, "webhook", "schema"))["properties"]["kind"]


def test_texts_are_previewed_changed_and_reset(running: Running) -> None:
    text = ("access_request_decided", "--subject", "{organization}: {title}", "--greeting", "Hello,")
    assert "Hello," in ran(running, "mail", "set-text", *text, "--preview")
    changed = ran(running, "mail", "set-text", *text).splitlines()
    assert next(line.strip() for line in changed if "{organization}: {title}" in line).endswith("yes")
    reset = ran(running, "mail", "reset-text", "access_request_decided")
    assert "{organization}: {title}" not in reset
    assert "{organization}" in ran(running, "mail", "texts")
    wrong = ran(running, "mail", "set-text", "test", "--subject", "{organisation}", code=2)
    assert "Did you mean 'organization'?" in wrong


def test_an_announcement_is_previewed_and_sent_to_the_users_of_a_source(
    mailing: Running, letters: Letters, fresh: Fresh, tmp_path: Path
) -> None:
    source, name = fresh("staff"), fresh("una")
    address = f"{name}@fernhollow.example"
    mailing.provider(source).user(name, emails=[{"value": address}])
    mailing.provider(source).user(fresh("without"))
    file = tmp_path / "text.txt"
    file.write_text("From Monday on, sign in with your staff account.\n")
    wish = ("announcement", "create", "source", source, "--subject", "A new sign-in", "--text", str(file))
    seen = ran(mailing, *wish, "--preview")
    assert "1 user gets this email" in seen and "1 user has no email address" in seen and address in seen
    assert letters.to(address) == []
    made = ran(mailing, *wish, "--expect", "1")
    (letter,) = eventually(lambda: letters.to(address))
    assert letter["subject"] == "A new sign-in" and "staff account" in letter["text"]
    announcement = re.findall(r"\(([0-9a-f-]{36})\)", made)[0]
    assert "A new sign-in" in ran(mailing, "announcement", "list")
    assert "already" in ran(mailing, "announcement", "withdraw", announcement, code=2)

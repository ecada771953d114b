"""Events, notification rules, webhooks, messages and the texts of emails.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, TypedDict

if TYPE_CHECKING:
    from dravo.client.types.common import KeyAndLabel


class Addressee(TypedDict):
    """A recipient of an announcement."""

    id: str
    display_name: str
    email: str


class Announcement(TypedDict):
    """An announcement."""

    id: str
    about: str
    about_label: str
    subject: str
    text: str
    status: str
    send_at: str
    created_at: str
    created_by: str
    ended_at: str | None
    written: int


class AnnouncementPreview(TypedDict):
    """The recipients of an announcement, and the email."""

    recipients: int
    without: int
    first: list[Addressee]
    subject: str
    text: str


class Event(TypedDict):
    """A condition that needs an operator or needed one, or what happened once."""

    id: str
    kind: str
    label: str
    status: str
    subject: str
    application: KeyAndLabel | None
    source: KeyAndLabel | None
    title: str
    text: str
    path: str
    number: int
    began_at: str
    ended_at: str | None
    reports: int
    messages: int


class EventKind(TypedDict):
    """A kind of event."""

    key: str
    label: str
    about: str
    lasts: bool


class EventKinds(TypedDict):
    """All kinds of events."""

    items: list[EventKind]


class JsonSchema(TypedDict):
    """A JSON Schema."""

    document: dict[str, Any]


class MailText(TypedDict):
    """The text around a kind of email."""

    kind: str
    label: str
    subject: str
    greeting: str
    footer: str
    changed: bool


class MailTexts(TypedDict):
    """The texts of all kinds of emails."""

    items: list[MailText]
    placeholders: dict[str, str]


class Message(TypedDict):
    """An email or a webhook message."""

    id: str
    channel: str
    kind: str
    recipient: str
    subject: str
    status: str
    created_at: str
    ended_at: str | None
    next_at: str | None
    tries: int
    trouble: str | None
    event: str | None
    can_repeat: bool


class PageOfAnnouncements(TypedDict):
    """A page of announcements."""

    items: list[Announcement]
    total: int
    next: str | None


class PageOfEvents(TypedDict):
    """A page of events."""

    items: list[Event]
    total: int
    next: str | None


class PageOfMessages(TypedDict):
    """A page of messages."""

    items: list[Message]
    total: int
    next: str | None


class PageOfRules(TypedDict):
    """A page of notification rules."""

    items: list[Rule]
    total: int
    next: str | None


class PageOfWebhooks(TypedDict):
    """A page of webhooks."""

    items: list[Webhook]
    total: int
    next: str | None


class PreviewedEmail(TypedDict):
    """A sample email."""

    subject: str
    text: str


class Recipient(TypedDict):
    """A recipient of a notification rule."""

    kind: str
    value: str


class Rule(TypedDict):
    """A notification rule."""

    id: str
    label: str
    kinds: list[str] | None
    applications: list[str] | None
    sources: list[str] | None
    recipients: list[ShownRecipient]
    frequency: str
    enabled: bool
    created_at: str


class ShownRecipient(TypedDict):
    """A recipient of a notification rule, with a label."""

    kind: str
    value: str
    label: str


class Webhook(TypedDict):
    """A webhook without its secret."""

    id: str
    label: str
    url: str
    enabled: bool
    created_at: str
    sent_at: str | None
    failing_since: str | None
    trouble: str | None


class WebhookTested(TypedDict):
    """The answer of a webhook to a test message."""

    status: int
    answer: str


class WebhookWithSecret(TypedDict):
    """A webhook with its new secret, which is shown once."""

    id: str
    label: str
    url: str
    enabled: bool
    created_at: str
    sent_at: str | None
    failing_since: str | None
    trouble: str | None
    secret: str

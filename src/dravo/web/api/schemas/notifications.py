"""Events, notification rules, webhooks, messages and the texts of emails."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from dravo.core.notifications.event_kinds import BY_KEY
from dravo.services.notifications.mail_texts import LABELS
from dravo.web.api.schemas.base import Model, RequestModel
from dravo.web.api.schemas.common import KeyAndLabel, Page, PageQuery

LARGEST_LIST = 500


class EventsQuery(PageQuery):
    """Filters of the list of events."""

    kind: str | None = Field(None, description="Only events of this kind.")
    status: Literal["open", "solved", "happened"] | None = Field(
        None, description="Only events with this status: open, solved or happened."
    )
    application: str | None = Field(None, description="Only events about this application.")
    source: str | None = Field(None, description="Only events about this source.")


class Event(Model):
    """A condition that needs an operator or needed one, or what happened once."""

    id: str = Field(description="ID of the event.")
    kind: str = Field(description="Kind of event.")
    label: str = Field(description="Label of the kind.")
    status: Literal["open", "solved", "happened"] = Field(description="Status: open, solved or happened.")
    subject: str = Field(description="What the event is about.")
    application: KeyAndLabel | None
    source: KeyAndLabel | None
    title: str = Field(description="What happened, in one line.")
    text: str = Field(description="Details, and what to do.")
    path: str = Field(description="Page of the console.")
    number: int = Field(description="Number of concerned objects.")
    began_at: str = Field(description="Time at which it began or happened.")
    ended_at: str | None = Field(description="Time at which it was solved, or null.")
    reports: int = Field(description="How often it was reported.")
    messages: int = Field(description="Number of messages about it.")


class PageOfEvents(Page[Event]):
    """A page of events."""


class EventKind(Model):
    """A kind of event."""

    key: str
    label: str
    about: Literal["application", "source", "organization"] = Field(
        description="What it is about: application, source or organization."
    )
    lasts: bool = Field(description="Whether it is a condition that is reported as solved when it ends.")


class EventKinds(Model):
    """All kinds of events."""

    items: list[EventKind]


class Recipient(RequestModel):
    """A recipient of a notification rule."""

    kind: Literal["operators", "owners", "address", "webhook"] = Field(
        description="Kind of recipient: operators, owners, address or webhook."
    )
    value: str = Field(
        "", max_length=320, description="Role of the operators, email address, or ID of the webhook."
    )


class RuleRequest(RequestModel):
    """A notification rule; null stands for all kinds, applications or sources."""

    label: str = Field(max_length=200)
    kinds: list[str] | None = Field(None, max_length=len(BY_KEY))
    applications: list[str] | None = Field(None, max_length=LARGEST_LIST, description="Keys of applications.")
    sources: list[str] | None = Field(None, max_length=LARGEST_LIST, description="Keys of sources.")
    recipients: list[Recipient] = Field(min_length=1, max_length=50, description="Recipients of the rule.")
    frequency: Literal["immediately", "hourly", "daily"] = Field(
        "immediately", description="When emails are sent: immediately, hourly or daily."
    )
    enabled: bool = True


class ShownRecipient(Model):
    """A recipient of a notification rule, with a label."""

    kind: Literal["operators", "owners", "address", "webhook"]
    value: str = Field(description="Role of the operators, email address, or ID of the webhook.")
    label: str


class Rule(Model):
    """A notification rule."""

    id: str = Field(description="ID of the rule.")
    label: str
    kinds: list[str] | None
    applications: list[str] | None
    sources: list[str] | None
    recipients: list[ShownRecipient] = Field(description="Recipients of the rule.")
    frequency: Literal["immediately", "hourly", "daily"] = Field(
        description="When emails are sent: immediately, hourly or daily."
    )
    enabled: bool
    created_at: str


class PageOfRules(Page[Rule]):
    """A page of notification rules."""


class CreateWebhookRequest(RequestModel):
    """A webhook."""

    label: str = Field(max_length=200)
    url: str = Field(max_length=2_000, description="URL to which events are posted.")


class ChangeWebhookRequest(RequestModel):
    """Changes to a webhook; null keeps a value."""

    label: str | None = Field(None, max_length=200)
    url: str | None = Field(None, max_length=2_000, description="URL to which events are posted.")
    enabled: bool | None = None


class Webhook(Model):
    """A webhook without its secret."""

    id: str = Field(description="ID of the webhook.")
    label: str
    url: str = Field(description="URL to which events are posted.")
    enabled: bool
    created_at: str
    sent_at: str | None
    failing_since: str | None = Field(description="Time since which messages fail, or null.")
    trouble: str | None


class WebhookWithSecret(Webhook):
    """A webhook with its new secret, which is shown once."""

    secret: str = Field(description="Secret that signs the messages.")


class PageOfWebhooks(Page[Webhook]):
    """A page of webhooks."""


class WebhookTested(Model):
    """The answer of a webhook to a test message."""

    status: int = Field(description="HTTP status of the answer.")
    answer: str = Field(description="Beginning of the answer.")


class WebhookEvent(Model):
    """The body of a webhook message."""

    id: str = Field(description="ID of the event; its later messages have the same one.")
    kind: str = Field(description="Kind of event.")
    status: Literal["new", "again", "solved", "happened"] = Field(
        description="Whether the event is new, lasts, is solved, or happened once."
    )
    title: str
    text: str
    number: int
    application: str | None = Field(description="Key of the application, or null.")
    source: str | None = Field(description="Key of the source, or null.")
    began_at: str
    at: str = Field(description="Time of this report.")
    url: str = Field(description="Page of the console.")


class JsonSchema(Model):
    """A JSON Schema."""

    document: dict[str, object] = Field(description="The schema (JSON Schema 2020-12).")


class MessagesQuery(PageQuery):
    """Filters of the list of messages."""

    channel: Literal["email", "webhook"] | None = Field(None, description="Only emails or webhook messages.")
    kind: str | None = Field(None, description="Only messages of this kind.")
    status: Literal["collected", "waiting", "sent", "failed", "expired", "unknown"] | None = Field(
        None, description="Only messages with this status."
    )
    q: str | None = Field(None, max_length=200, description="Part of the recipient or the subject.")


class Message(Model):
    """An email or a webhook message."""

    id: str = Field(description="ID of the message.")
    channel: Literal["email", "webhook"] = Field(description="Channel: email or webhook.")
    kind: str = Field(description="Kind of message.")
    recipient: str = Field(description="Email address, or label of the webhook.")
    subject: str
    status: Literal["collected", "waiting", "sent", "failed", "expired", "unknown"] = Field(
        description="Status: collected for a summary, waiting, sent, failed, expired or unknown."
    )
    created_at: str
    ended_at: str | None = Field(description="Time at which it was sent or given up, or null.")
    next_at: str | None = Field(description="Time of the next attempt, or null.")
    tries: int
    trouble: str | None
    event: str | None = Field(description="ID of the event, or null.")
    can_repeat: bool = Field(description="Whether it can be sent again, or sent now if it is collected.")


class PageOfMessages(Page[Message]):
    """A page of messages."""


class MailTextPath(Model):
    """One kind of email."""

    kind: str = Field(description=f"Kind of email: {', '.join(LABELS)}.")


class MailTextRequest(RequestModel):
    """The text around a kind of email, with placeholders."""

    subject: str = Field(max_length=200)
    greeting: str = Field("", max_length=2_000, description="Text above the content.")
    footer: str = Field("", max_length=2_000, description="Text below the content.")


class MailText(Model):
    """The text around a kind of email."""

    kind: str = Field(description="Kind of email.")
    label: str
    subject: str
    greeting: str = Field(description="Text above the content.")
    footer: str = Field(description="Text below the content.")
    changed: bool = Field(description="Whether the organization changed it.")


class MailTexts(Model):
    """The texts of all kinds of emails."""

    items: list[MailText]
    placeholders: dict[str, str] = Field(description="Placeholders with their meanings.")


class PreviewedEmail(Model):
    """A sample email."""

    subject: str
    text: str


class AnnouncementRequest(RequestModel):
    """An announcement to the users of a source or an application."""

    about: Literal["source", "application"] = Field(
        description="Whose users get the email: of a source or an application."
    )
    key: str = Field(max_length=64, description="Key of the source or the application.")
    subject: str = Field(max_length=200)
    text: str = Field(max_length=5_000, description="Text of the email, between greeting and footer.")


class CreateAnnouncementRequest(AnnouncementRequest):
    """An announcement that is sent."""

    send_at: str | None = Field(None, max_length=40, description="Time at which it is sent; null for now.")
    expect: int | None = Field(
        None,
        ge=0,
        description="Number of recipients in the preview. If it changed, the request is refused with 409.",
    )


class Addressee(Model):
    """A recipient of an announcement."""

    id: str = Field(description="ID of the user.")
    display_name: str
    email: str


class AnnouncementPreview(Model):
    """The recipients of an announcement, and the email."""

    recipients: int = Field(description="Number of recipients.")
    without: int = Field(description="Number of users without an email address, who are left out.")
    first: list[Addressee] = Field(description="Some of the recipients.")
    subject: str
    text: str


class Announcement(Model):
    """An announcement."""

    id: str = Field(description="ID of the announcement.")
    about: Literal["source", "application"] = Field(description="What it is about: source or application.")
    about_label: str = Field(description="Label of the source or the application.")
    subject: str
    text: str = Field(description="Text of the email, between greeting and footer.")
    status: Literal["scheduled", "sending", "sent", "withdrawn"] = Field(
        description="Status: scheduled, sending, sent or withdrawn."
    )
    send_at: str = Field(description="Time at which it is sent.")
    created_at: str
    created_by: str
    ended_at: str | None = Field(description="Time at which it was sent or withdrawn, or null.")
    written: int = Field(description="Number of written emails.")


class PageOfAnnouncements(Page[Announcement]):
    """A page of announcements."""

"""Notifications: events, rules, webhooks, messages, the texts of emails, and announcements."""

from __future__ import annotations

from typing import Any

from flask import Response

from dravo.core.notifications.texts import MailText
from dravo.services.notifications import announcements, events, mail_texts, messages, rules, webhooks
from dravo.services.notifications.announcements import (
    AnnouncementLine,
    AnnouncementPreview,
    NewAnnouncement,
)
from dravo.services.notifications.events import EventLine, ListedEvents
from dravo.services.notifications.mail_texts import MailTexts, PreviewedEmail
from dravo.services.notifications.messages import MessageLine
from dravo.services.notifications.rules import EventKindLine, RuleLine
from dravo.services.notifications.webhooks import WebhookLine, WebhookTested, WebhookWithSecret
from dravo.store.notifications.messages import MessageFilter
from dravo.store.pagination import ItemList, Page
from dravo.web.api.auth import api_blueprint, app_context, caller, needs, page_request
from dravo.web.api.openapi import model_named, responses
from dravo.web.api.schemas.common import IdPath, PageQuery
from dravo.web.api.schemas.notifications import (
    AnnouncementRequest,
    ChangeWebhookRequest,
    CreateAnnouncementRequest,
    CreateWebhookRequest,
    EventsQuery,
    MailTextPath,
    MailTextRequest,
    MessagesQuery,
    RuleRequest,
)

READ, CHANGE = "notifications.read", "notifications.change"
routes = api_blueprint("notifications")


@routes.get("/notifications", responses=responses("notifications.PageOfEvents"))
@needs(READ)
def list_events(query: EventsQuery) -> Page[EventLine]:
    """List events.

    Conditions that need an operator or needed one, and what happened once; newest first.
    """
    about = ListedEvents(query.kind, query.status, query.application, query.source)
    return events.list_events(app_context(), page_request(query), about)


@routes.get("/notifications/kinds", responses=responses("notifications.EventKinds"))
@needs(READ)
def list_event_kinds() -> ItemList[EventKindLine]:
    """List the kinds of events.

    Rules choose from them.
    """
    return ItemList(rules.kinds())


@routes.get("/notifications/rules", responses=responses("notifications.PageOfRules"))
@needs(READ)
def list_rules(query: PageQuery) -> Page[RuleLine]:
    """List notification rules.

    Each says which events it reports, to whom, and when.
    """
    return rules.list_rules(app_context(), page_request(query))


@routes.post("/notifications/rules", responses=responses("notifications.Rule", 201))
@needs(CHANGE)
def create_rule(body: RuleRequest) -> tuple[RuleLine, int]:
    """Create a notification rule.

    Events from now on are reported by it.
    """
    return rules.create(app_context(), caller(), body.model_dump()), 201


@routes.put("/notifications/rules/<id>", responses=responses("notifications.Rule"))
@needs(CHANGE)
def change_rule(path: IdPath, body: RuleRequest) -> RuleLine:
    """Change a notification rule.

    Replaces the whole rule.
    """
    return rules.change(app_context(), caller(), path.id, body.model_dump())


@routes.delete("/notifications/rules/<id>", responses={204: None})
@needs(CHANGE)
def delete_rule(path: IdPath) -> Response:
    """Delete a notification rule.

    Messages that it wrote are still sent.
    """
    rules.delete(app_context(), caller(), path.id)
    return Response(status=204)


@routes.get("/notifications/webhooks", responses=responses("notifications.PageOfWebhooks"))
@needs(READ)
def list_webhooks(query: PageQuery) -> Page[WebhookLine]:
    """List webhooks.

    Without their secrets; URLs are complete for callers who can change webhooks.
    """
    return webhooks.list_webhooks(app_context(), caller(), page_request(query))


@routes.post("/notifications/webhooks", responses=responses("notifications.WebhookWithSecret", 201))
@needs(CHANGE)
def create_webhook(body: CreateWebhookRequest) -> tuple[WebhookWithSecret, int]:
    """Create a webhook.

    Returns the secret that signs the messages, the only time. Rules send to it.
    """
    return webhooks.create(app_context(), caller(), body.label, body.url), 201


@routes.patch("/notifications/webhooks/<id>", responses=responses("notifications.Webhook"))
@needs(CHANGE)
def change_webhook(path: IdPath, body: ChangeWebhookRequest) -> WebhookLine:
    """Change a webhook.

    A disabled webhook gets no messages.
    """
    return webhooks.change(app_context(), caller(), path.id, body.model_dump())


@routes.delete("/notifications/webhooks/<id>", responses={204: None})
@needs(CHANGE)
def delete_webhook(path: IdPath) -> Response:
    """Delete a webhook.

    Refused while a rule sends to it. Messages that wait for it are given up.
    """
    webhooks.delete(app_context(), caller(), path.id)
    return Response(status=204)


@routes.post("/notifications/webhooks/<id>/secret", responses=responses("notifications.WebhookWithSecret"))
@needs(CHANGE)
def rotate_webhook_secret(path: IdPath) -> WebhookWithSecret:
    """Rotate the secret of a webhook.

    Returns the new secret, the only time. It signs all messages from now on.
    """
    return webhooks.rotate_secret(app_context(), caller(), path.id)


@routes.post("/notifications/webhooks/<id>/test", responses=responses("notifications.WebhookTested"))
@needs(CHANGE)
def test_webhook(path: IdPath) -> WebhookTested:
    """Test a webhook.

    Posts a test message now and returns the answer.
    """
    return webhooks.test(app_context(), caller(), path.id)


@routes.get("/notifications/webhook-schema", responses=responses("notifications.JsonSchema"))
@needs(READ)
def get_webhook_schema() -> dict[str, Any]:
    """Get the schema of webhook messages.

    The JSON Schema of their body.
    """
    document = model_named("notifications.WebhookEvent").model_json_schema()
    return {"document": {"$schema": "https://json-schema.org/draft/2020-12/schema", **document}}


@routes.get("/notifications/messages", responses=responses("notifications.PageOfMessages"))
@needs(READ)
def list_messages(query: MessagesQuery) -> Page[MessageLine]:
    """List messages.

    Emails and webhook messages, and whether they arrived; newest first.
    """
    about = MessageFilter(query.channel, query.kind, query.status, query.q)
    return messages.list_messages(app_context(), page_request(query), about)


@routes.post("/notifications/messages/<id>/send-again", responses=responses("notifications.Message", 201))
@needs(CHANGE)
def send_message_again(path: IdPath) -> tuple[MessageLine, int]:
    """Send a message again.

    As a new message; a collected one now, in its summary. Messages with a code in them cannot be sent again.
    """
    return messages.send_again(app_context(), caller(), path.id), 201


@routes.get("/notifications/texts", responses=responses("notifications.MailTexts"))
@needs(READ)
def list_mail_texts() -> MailTexts:
    """List the texts of emails.

    Subject, greeting and footer of each kind, and the placeholders.
    """
    return mail_texts.list_texts(app_context())


@routes.put("/notifications/texts/<kind>", responses=responses("notifications.MailTexts"))
@needs(CHANGE)
def change_mail_text(path: MailTextPath, body: MailTextRequest) -> MailTexts:
    """Change the text of a kind of email.

    Emails from now on use it.
    """
    return mail_texts.change(app_context(), caller(), path.kind, _text(body))


@routes.delete("/notifications/texts/<kind>", responses=responses("notifications.MailTexts"))
@needs(CHANGE)
def reset_mail_text(path: MailTextPath) -> MailTexts:
    """Reset the text of a kind of email.

    Returns to the text that ships with Dravo.
    """
    return mail_texts.change(app_context(), caller(), path.kind, None)


@routes.post("/notifications/texts/<kind>/preview", responses=responses("notifications.PreviewedEmail"))
@needs(READ)
def preview_mail_text(path: MailTextPath, body: MailTextRequest) -> PreviewedEmail:
    """Preview the text of a kind of email.

    Returns a sample email. Changes nothing.
    """
    return mail_texts.preview(app_context(), path.kind, _text(body))


@routes.get("/notifications/announcements", responses=responses("notifications.PageOfAnnouncements"))
@needs(READ)
def list_announcements(query: PageQuery) -> Page[AnnouncementLine]:
    """List announcements.

    Emails to the users of a source or an application; newest first.
    """
    return announcements.list_announcements(app_context(), page_request(query))


@routes.post("/notifications/announcements", responses=responses("notifications.Announcement", 201))
@needs(CHANGE)
def create_announcement(body: CreateAnnouncementRequest) -> tuple[AnnouncementLine, int]:
    """Create an announcement.

    Sends an email to each active user of a source or an application, now or at a time.
    """
    new = NewAnnouncement(**body.model_dump())
    return announcements.create(app_context(), caller(), new), 201


@routes.post("/notifications/announcements/preview", responses=responses("notifications.AnnouncementPreview"))
@needs(CHANGE)
def preview_announcement(body: AnnouncementRequest) -> AnnouncementPreview:
    """Preview an announcement.

    Returns the recipients and the email. Sends nothing.
    """
    return announcements.preview(app_context(), NewAnnouncement(**body.model_dump()))


@routes.post("/notifications/announcements/<id>/withdraw", responses=responses("notifications.Announcement"))
@needs(CHANGE)
def withdraw_announcement(path: IdPath) -> AnnouncementLine:
    """Withdraw an announcement.

    Emails that are written already are still sent.
    """
    return announcements.withdraw(app_context(), caller(), path.id)


def _text(body: MailTextRequest) -> MailText:
    return MailText(body.subject, body.greeting, body.footer)

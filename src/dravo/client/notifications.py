"""Notifications: events, rules, webhooks, messages and the texts of emails."""

from __future__ import annotations

import builtins
from collections.abc import Mapping, Sequence
from typing import Any, cast

from dravo.client import types as t
from dravo.client.pages import Pages
from dravo.client.resource import Noun, part


class Notifications(Noun):
    """What operators are told, by which rules, and whether it arrived."""

    def list(
        self,
        *,
        kind: str | None = None,
        status: str | None = None,
        application: str | None = None,
        source: str | None = None,
    ) -> Pages[t.Event]:
        """List events, newest first.

        Args:
            kind: a kind, as `kinds` returns it.
            status: "open", "solved" or "happened".
            application, source: by key.
        """
        only = {"kind": kind, "status": status, "application": application, "source": source}
        return self._dravo.pages("/notifications", only)

    def kinds(self) -> builtins.list[t.EventKind]:
        """Return the kinds of events."""
        return cast(t.EventKinds, self._call("GET", "/notifications/kinds"))["items"]

    def rules(self) -> Pages[t.Rule]:
        """List notification rules."""
        return self._dravo.pages("/notifications/rules")

    def create_rule(self, label: str, recipients: Sequence[Mapping[str, str]], **given: Any) -> t.Rule:
        """Create a notification rule.

        Args:
            label: its name.
            recipients: each with "kind" ("operators", "owners", "address" or "webhook") and "value".
            given: `kinds=`, `applications=`, `sources=` (all, if omitted), `frequency=` "immediately",
                "hourly" or "daily", `enabled=`.
        """
        body = {"label": label, "recipients": recipients, **given}
        return cast(t.Rule, self._call("POST", "/notifications/rules", body=body))

    def change_rule(
        self, rule: str, label: str, recipients: Sequence[Mapping[str, str]], **given: Any
    ) -> t.Rule:
        """Replace a notification rule; arguments as for `create_rule`."""
        body = {"label": label, "recipients": recipients, **given}
        return cast(t.Rule, self._call("PUT", f"/notifications/rules/{part(rule)}", body=body))

    def delete_rule(self, rule: str) -> None:
        """Delete a notification rule."""
        self._call("DELETE", f"/notifications/rules/{part(rule)}")

    def webhooks(self) -> Pages[t.Webhook]:
        """List webhooks."""
        return self._dravo.pages("/notifications/webhooks")

    def create_webhook(self, label: str, url: str) -> t.WebhookWithSecret:
        """Create a webhook; the answer has its secret, the only time."""
        body = {"label": label, "url": url}
        return cast(t.WebhookWithSecret, self._call("POST", "/notifications/webhooks", body=body))

    def change_webhook(self, webhook: str, **given: Any) -> t.Webhook:
        """Change `label=`, `url=` or `enabled=` of a webhook."""
        return cast(t.Webhook, self._call("PATCH", f"/notifications/webhooks/{part(webhook)}", body=given))

    def delete_webhook(self, webhook: str) -> None:
        """Delete a webhook that no rule names."""
        self._call("DELETE", f"/notifications/webhooks/{part(webhook)}")

    def rotate_webhook_secret(self, webhook: str) -> t.WebhookWithSecret:
        """Replace the secret of a webhook; the answer has the new one, the only time."""
        path = f"/notifications/webhooks/{part(webhook)}/secret"
        return cast(t.WebhookWithSecret, self._call("POST", path))

    def test_webhook(self, webhook: str) -> t.WebhookTested:
        """Post a test message and return the answer; raises `ApiError` without one."""
        path = f"/notifications/webhooks/{part(webhook)}/test"
        return cast(t.WebhookTested, self._call("POST", path))

    def webhook_schema(self) -> dict[str, Any]:
        """Return the JSON Schema of webhook messages."""
        found = cast(t.JsonSchema, self._call("GET", "/notifications/webhook-schema"))
        return found["document"]

    def messages(
        self,
        *,
        channel: str | None = None,
        kind: str | None = None,
        status: str | None = None,
        words: str | None = None,
    ) -> Pages[t.Message]:
        """List emails and webhook messages, newest first.

        Args:
            channel: "email" or "webhook".
            kind: a kind of email.
            status: "collected", "waiting", "sent", "failed", "expired" or "unknown".
            words: a part of the recipient or the subject.
        """
        only = {"channel": channel, "kind": kind, "status": status, "q": words}
        return self._dravo.pages("/notifications/messages", only)

    def send_again(self, message: str) -> t.Message:
        """Send a message again, as a new one."""
        path = f"/notifications/messages/{part(message)}/send-again"
        return cast(t.Message, self._call("POST", path))

    def texts(self) -> t.MailTexts:
        """Return the texts of all kinds of emails, and the placeholders."""
        return cast(t.MailTexts, self._call("GET", "/notifications/texts"))

    def change_text(self, kind: str, subject: str, greeting: str = "", footer: str = "") -> t.MailTexts:
        """Change the text around a kind of email."""
        body = {"subject": subject, "greeting": greeting, "footer": footer}
        return cast(t.MailTexts, self._call("PUT", f"/notifications/texts/{part(kind)}", body=body))

    def reset_text(self, kind: str) -> t.MailTexts:
        """Return to the text that ships with Dravo."""
        return cast(t.MailTexts, self._call("DELETE", f"/notifications/texts/{part(kind)}"))

    def preview_text(self, kind: str, subject: str, greeting: str = "", footer: str = "") -> t.PreviewedEmail:
        """Return a sample email with a text; nothing is changed."""
        body = {"subject": subject, "greeting": greeting, "footer": footer}
        path = f"/notifications/texts/{part(kind)}/preview"
        return cast(t.PreviewedEmail, self._call("POST", path, body=body))

    def announcements(self) -> Pages[t.Announcement]:
        """List announcements, newest first."""
        return self._dravo.pages("/notifications/announcements")

    def preview_announcement(self, about: str, key: str, subject: str, text: str) -> t.AnnouncementPreview:
        """Return the recipients of an announcement and the email; nothing is sent.

        Args:
            about: "source" or "application".
            key: its key.
            subject, text: of the email.
        """
        body = {"about": about, "key": key, "subject": subject, "text": text}
        path = "/notifications/announcements/preview"
        return cast(t.AnnouncementPreview, self._call("POST", path, body=body))

    def announce(self, about: str, key: str, subject: str, text: str, **given: Any) -> t.Announcement:
        """Send an announcement.

        Args:
            about, key, subject, text: as for `preview_announcement`.
            given: `send_at=` for a later time, `expect=` for the number of recipients in the preview.
        """
        body = {"about": about, "key": key, "subject": subject, "text": text, **given}
        return cast(t.Announcement, self._call("POST", "/notifications/announcements", body=body))

    def withdraw_announcement(self, announcement: str) -> t.Announcement:
        """Withdraw an announcement; emails that are written already are still sent."""
        path = f"/notifications/announcements/{part(announcement)}/withdraw"
        return cast(t.Announcement, self._call("POST", path))

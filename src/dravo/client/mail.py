"""The email server."""

from __future__ import annotations

from typing import Any, cast

from dravo.client import types as t
from dravo.client.resource import Noun


class Mail(Noun):
    """The email server, and a test email."""

    def get(self) -> t.MailSettings:
        """Return the email server, without its password, and the result of the last email."""
        return cast(t.MailSettings, self._call("GET", "/mail"))

    def change(self, **given: Any) -> t.MailSettings:
        """Change the email server; omitted values stay.

        Args:
            given: `host=` ("" for none), `port=`, `security=` "tls", "starttls" or "none", `user=`,
                `password=`, `sender=`.
        """
        return cast(t.MailSettings, self._call("PUT", "/mail", body=given))

    def test(self, to: str) -> t.MailTested:
        """Send a test email; raises `ApiError` if the server refuses it."""
        return cast(t.MailTested, self._call("POST", "/mail/test", body={"to": to}))

"""By which server mail goes."""

from __future__ import annotations

from typing import Any, cast

from dravo.client import types as t
from dravo.client.resource import Noun


class Mail(Noun):
    """Mail: the server that takes it, and a test."""

    def get(self) -> t.MailSettings:
        """Return by which server mail goes, without its password, and how it went last."""
        return cast(t.MailSettings, self._call("GET", "/mail"))

    def change(self, **given: Any) -> t.MailSettings:
        """Set by which server mail goes; what is left out stays.

        Args:
            given: `host=` ("" for none), `port=`, `security=` "tls", "starttls" or "none", `user=`,
                `password=`, `sender=`.
        """
        return cast(t.MailSettings, self._call("PUT", "/mail", body=given))

    def test(self, to: str) -> t.MailTested:
        """Send one letter now; raises `ApiError` with what is wrong if it is not taken."""
        return cast(t.MailTested, self._call("POST", "/mail/test", body={"to": to}))

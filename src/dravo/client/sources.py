"""Sources and how they reach the service."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, cast

from dravo.client import types as t
from dravo.client.noun import Noun, part
from dravo.client.pages import Pages


class Sources(Noun):
    """Sources, their tokens and exchange sheets."""

    def list(self) -> Pages[t.Source]:
        """List sources."""
        return self._dravo.pages("/sources")

    def get(self, key: str) -> t.Source:
        """Return one source."""
        return cast(t.Source, self._call("GET", f"/sources/{part(key)}"))

    def add(self, key: str, label: str) -> t.Source:
        """Add a source that pushes."""
        return cast(t.Source, self._call("POST", "/sources", body={"key": key, "label": label}))

    def rename(self, key: str, label: str) -> t.Source:
        """Give a source another label."""
        return cast(t.Source, self._call("PATCH", f"/sources/{part(key)}", body={"label": label}))

    def remove(self, key: str) -> None:
        """Remove a source that has brought nobody."""
        self._call("DELETE", f"/sources/{part(key)}")

    def sheet(self, key: str) -> t.ExchangeSheet:
        """Return the exchange sheet of a source's push channel."""
        return cast(t.ExchangeSheet, self._call("GET", f"/sources/{part(key)}/sheet"))

    def tokens(self, key: str) -> Pages[t.PushToken]:
        """List a source's push tokens, without their texts."""
        return self._dravo.pages(f"/sources/{part(key)}/tokens")

    def add_token(self, key: str, label: str, expires_at: str | None = None, *, kinds: str = "both", access: str = "write") -> t.NewToken:
        """Make a push token for `kinds` "users", "groups" or "both"; its text is in the answer, the only time."""
        body = {"label": label, "expires_at": expires_at, "kinds": kinds, "access": access}
        return cast(t.NewToken, self._call("POST", f"/sources/{part(key)}/tokens", body=body))

    def revoke_token(self, key: str, token_id: str) -> None:
        """Revoke a push token."""
        self._call("DELETE", f"/sources/{part(key)}/tokens/{part(token_id)}")

    def schemas(self, key: str) -> Sequence[t.SourceSchema]:
        """Return the extension schemas of a source."""
        return cast(t.SourceSchemas, self._call("GET", f"/sources/{part(key)}/schemas"))["items"]

    def add_schema(self, key: str, kind: str, document: dict[str, Any]) -> Sequence[t.SourceSchema]:
        """Add an extension schema (RFC 7643, section 7) to a source's people ("User") or groups ("Group")."""
        body = {"kind": kind, "document": document}
        return cast(t.SourceSchemas, self._call("POST", f"/sources/{part(key)}/schemas", body=body))["items"]

    def remove_schema(self, key: str, urn: str) -> None:
        """Remove an extension schema from a source."""
        self._call("DELETE", f"/sources/{part(key)}/schemas/{part(urn)}")

    def requests(self, key: str, *, words: str | None = None, outcome: str | None = None, method: str | None = None) -> Pages[t.TraceLine]:
        """List what a source asked for, newest first; `outcome` is "refused", "changed" or "read"."""
        return self._dravo.pages(f"/sources/{part(key)}/requests", {"q": words, "outcome": outcome, "method": method})

    def request(self, key: str, request_id: str) -> t.Trace:
        """Return one request with its body."""
        return cast(t.Trace, self._call("GET", f"/sources/{part(key)}/requests/{part(request_id)}"))

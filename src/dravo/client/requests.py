"""Access requests: users ask for access, operators approve or refuse."""

from __future__ import annotations

from typing import cast

from dravo.client import types as t
from dravo.client.pages import Pages
from dravo.client.resource import Noun, part


class AccessRequests(Noun):
    """Access requests of users."""

    def list(
        self, *, status: str | None = None, application: str | None = None, words: str | None = None
    ) -> Pages[t.AccessRequestLine]:
        """List access requests, newest first; `status` is "open", "approved", "refused" or "withdrawn"."""
        wanted = {"status": status, "application": application, "q": words}
        return self._dravo.pages("/access/requests", wanted)

    def get(self, request_id: str) -> t.AccessRequestLine:
        """Return one access request."""
        return cast(t.AccessRequestLine, self._call("GET", f"/access/requests/{part(request_id)}"))

    def preview_approval(
        self, request_id: str, *, role: str | None = None, until: str | None = None
    ) -> t.Preview:
        """Preview an approval; the values as in `approve`."""
        path = f"/access/requests/{part(request_id)}/approve/preview"
        return cast(t.Preview, self._call("POST", path, body={"role": role, "until": until}))

    def approve(
        self, request_id: str, *, confirm: str | None = None, **given: str | None
    ) -> t.AccessRequestLine:
        """Approve a request by an assignment.

        Args:
            confirm: the label of the application, for a serious change.
            given: `role`: the key of the role, if it is not the requested one; `until`: the last day;
                `answer`: a text for the user.
        """
        path = f"/access/requests/{part(request_id)}/approve"
        return cast(t.AccessRequestLine, self._call("POST", path, body={**given, "confirm": confirm}))

    def refuse(self, request_id: str, answer: str) -> t.AccessRequestLine:
        """Refuse a request with a reason, which the user sees."""
        path = f"/access/requests/{part(request_id)}/refuse"
        return cast(t.AccessRequestLine, self._call("POST", path, body={"answer": answer}))

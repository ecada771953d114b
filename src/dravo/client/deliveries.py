"""Accounts, and the deliveries that bring them to what is due."""

from __future__ import annotations

import time
from collections.abc import Sequence
from typing import cast

from dravo.client import types as t
from dravo.client.pages import Pages
from dravo.client.resource import Noun, part

# Below the client's own timeout of an answer.
_LONGEST_WAIT = 30.0
_PAUSE_SECONDS = 0.2


class Accounts(Noun):
    """Accounts: how people stand in applications."""

    def list(
        self, *, application: str | None = None, person: str | None = None, state: str | None = None, words: str | None = None
    ) -> Pages[t.Account]:
        """List accounts by the person's name."""
        return self._dravo.pages("/accounts", {"application": application, "person": person, "state": state, "q": words})

    def get(self, account_id: str) -> t.AccountDetail:
        """Return one account, with what is due and what was agreed."""
        return cast(t.AccountDetail, self._call("GET", f"/accounts/{part(account_id)}"))


class Provisioning(Noun):
    """Provisioning as a whole."""

    def summary(self, application: str | None = None, *, wait: float = 0.0) -> t.ProvisioningSummary:
        """Return how much is pending; with `wait`, as soon as nothing is, or after that many seconds.

        Args:
            application: the key of one application; None for all.
            wait: seconds. The service lets one request wait for at most 60, so that several may be made.
        """
        end = time.monotonic() + wait
        while True:
            left = max(0.0, end - time.monotonic())
            query = {"application": application, "wait": min(left, _LONGEST_WAIT) or None}
            summary = cast(t.ProvisioningSummary, self._call("GET", "/provisioning/summary", query=query))
            if summary["settled"] or not time.monotonic() < end:
                return summary
            # The service answers early where many callers wait: pause, so that asking again does not slow it down.
            time.sleep(min(_PAUSE_SECONDS, max(0.0, end - time.monotonic())))


class Deliveries(Noun):
    """Deliveries and their attempts."""

    def list(
        self, *, state: str | None = None, application: str | None = None, person: str | None = None, words: str | None = None
    ) -> Pages[t.DeliveryLine]:
        """List deliveries, newest first."""
        return self._dravo.pages("/provisioning/tasks", {"state": state, "application": application, "person": person, "q": words})

    def get(self, task_id: str) -> t.Delivery:
        """Return one delivery with its attempts."""
        return cast(t.Delivery, self._call("GET", f"/provisioning/tasks/{part(task_id)}"))

    def again(self, task_id: str) -> t.Delivery:
        """Try a delivery again now."""
        return cast(t.Delivery, self._call("POST", f"/provisioning/tasks/{part(task_id)}/retry"))

    def kinds(self, application: str | None = None) -> Sequence[t.TroubleKind]:
        """Return what open deliveries failed by, with how many of each kind."""
        return cast(t.TroubleKinds, self._call("GET", "/provisioning/errors", query={"application": application}))["items"]

    def again_all(self, application: str, kind: str | None = None) -> int:
        """Try all of an application again that failed or are held, of one kind if that is said; return how many."""
        return cast(t.Number, self._call("POST", "/provisioning/tasks/retry", body={"application": application, "kind": kind}))["number"]

    def found(self, task_id: str, found: str, remote_id: str | None = None) -> t.Delivery:
        """Say what was found ("there" with its id, or "not there") where it could not be known whether an account was made."""
        return cast(t.Delivery, self._call("POST", f"/provisioning/tasks/{part(task_id)}/resolve", body={"found": found, "remote_id": remote_id}))

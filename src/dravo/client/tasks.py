"""Accounts, and the tasks that bring them to what is due."""

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
    """Accounts: how users stand in applications."""

    def list(
        self,
        *,
        application: str | None = None,
        user: str | None = None,
        status: str | None = None,
        words: str | None = None,
    ) -> Pages[t.Account]:
        """List accounts by the user's name."""
        return self._dravo.pages(
            "/accounts", {"application": application, "user": user, "status": status, "q": words}
        )

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
            # The service answers early where many callers wait: pause, so that asking again does not slow it
            # down.
            time.sleep(min(_PAUSE_SECONDS, max(0.0, end - time.monotonic())))


class Tasks(Noun):
    """Tasks and their attempts."""

    def list(
        self,
        *,
        status: str | None = None,
        application: str | None = None,
        user: str | None = None,
        words: str | None = None,
    ) -> Pages[t.TaskLine]:
        """List tasks, newest first."""
        return self._dravo.pages(
            "/provisioning/tasks", {"status": status, "application": application, "user": user, "q": words}
        )

    def get(self, task_id: str) -> t.Task:
        """Return one task with its attempts."""
        return cast(t.Task, self._call("GET", f"/provisioning/tasks/{part(task_id)}"))

    def again(self, task_id: str) -> t.Task:
        """Try a task again now."""
        return cast(t.Task, self._call("POST", f"/provisioning/tasks/{part(task_id)}/retry"))

    def kinds(self, application: str | None = None) -> Sequence[t.TaskError]:
        """Return what open tasks failed by, with how many of each kind."""
        return cast(
            t.TaskErrors, self._call("GET", "/provisioning/errors", query={"application": application})
        )["items"]

    def again_all(self, application: str, kind: str | None = None) -> int:
        """Try all of an application again that failed or are held, of one kind if that is said; return how
        many.
        """
        return cast(
            t.Number,
            self._call("POST", "/provisioning/tasks/retry", body={"application": application, "kind": kind}),
        )["number"]

    def found(self, task_id: str, found: str, remote_id: str | None = None) -> t.Task:
        """Say what was found ("there" with its id, or "not there") where it could not be known whether an
        account was made.
        """
        return cast(
            t.Task,
            self._call(
                "POST",
                f"/provisioning/tasks/{part(task_id)}/resolve",
                body={"found": found, "remote_id": remote_id},
            ),
        )

"""Accounts, and their provisioning tasks."""

from __future__ import annotations

import time
from collections.abc import Iterable, Sequence
from typing import cast

from dravo.client import types as t
from dravo.client.pages import Pages
from dravo.client.resource import Noun, part

# Below the client's own timeout of an answer.
_LONGEST_WAIT = 30.0
_PAUSE_SECONDS = 0.2


class Accounts(Noun):
    """Accounts of users in applications."""

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
        """Return one account with its desired and applied state."""
        return cast(t.AccountDetail, self._call("GET", f"/accounts/{part(account_id)}"))


class Provisioning(Noun):
    """The status of provisioning as a whole."""

    def summary(self, application: str | None = None, *, wait: float = 0.0) -> t.ProvisioningSummary:
        """Return how much is pending; with `wait`, as soon as nothing is pending, or after that many seconds.

        Args:
            application: the key of one application; None for all.
            wait: seconds to wait. The service lets one request wait for at most 60, so that several may be
                made.
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
    """Provisioning tasks and their attempts."""

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

    def retry(self, task_id: str) -> t.Task:
        """Retry a task now."""
        return cast(t.Task, self._call("POST", f"/provisioning/tasks/{part(task_id)}/retry"))

    def approve(self, application: str, tasks: Iterable[t.TaskLine]) -> int:
        """Approve tasks of an application that asks for approval, as `list` returns them; return how many."""
        listed = [{"id": each["id"], "version": each["version"]} for each in tasks]
        body = {"application": application, "tasks": listed}
        return cast(t.Number, self._call("POST", "/provisioning/tasks/approve", body=body))["number"]

    def errors(self, application: str | None = None) -> Sequence[t.TaskError]:
        """Return the errors of open tasks, with the number of tasks."""
        return cast(
            t.TaskErrors, self._call("GET", "/provisioning/errors", query={"application": application})
        )["items"]

    def retry_all(self, application: str, kind: str | None = None) -> int:
        """Retry the failed and held tasks of an application, or those with one error; return how many."""
        return cast(
            t.Number,
            self._call("POST", "/provisioning/tasks/retry", body={"application": application, "kind": kind}),
        )["number"]

    def resolve(self, task_id: str, found: str, remote_id: str | None = None) -> t.Task:
        """Record an outcome that Dravo could not learn.

        Args:
            found: "exists" or "missing".
            remote_id: the ID of the account, if it exists.
        """
        return cast(
            t.Task,
            self._call(
                "POST",
                f"/provisioning/tasks/{part(task_id)}/resolve",
                body={"found": found, "remote_id": remote_id},
            ),
        )

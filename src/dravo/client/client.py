"""The client: one attribute for each noun of the work."""

from __future__ import annotations

import threading
import uuid
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from typing import Any, TypeVar, cast

import httpx

from dravo.client import types as t
from dravo.client.applications import Applications
from dravo.client.assignments import Assignments
from dravo.client.errors import ApiError, ServiceUnreachable, error_for
from dravo.client.mail import Mail
from dravo.client.manual_tasks import ManualTasks
from dravo.client.notifications import Notifications
from dravo.client.operators import Operators, Tokens
from dravo.client.pages import Pages
from dravo.client.requests import AccessRequests
from dravo.client.resource import part, plain
from dravo.client.reviews import Reviews
from dravo.client.sign_ins import SignIns
from dravo.client.sources import Sources
from dravo.client.tasks import Accounts, Provisioning, Tasks
from dravo.client.users import Groups, Invitations, Users

Item = TypeVar("Item")


def _checks_certificates(url: str) -> bool:
    """Return whether certificates must be read and checked; reading them takes longer than most plain HTTP
    calls.
    """
    return not url.strip().lower().startswith("http:")


class Dravo:
    """A service, called with an API token.

    Args:
        url: the address of the service, such as http://127.0.0.1:8420.
        token: an API token, from the console or `dravo token create`.
        timeout: seconds to wait for a response.
    """

    def __init__(self, url: str, token: str, timeout: float = 60.0) -> None:
        self._http = httpx.Client(
            base_url=url.rstrip("/") + "/api/v1",
            headers={"Authorization": f"Bearer {token}"},
            timeout=timeout,
            trust_env=False,
            verify=_checks_certificates(url),
        )
        self.url = url
        self.sources = Sources(self)
        self.sign_ins = SignIns(self)
        self.mail = Mail(self)
        self.notifications = Notifications(self)
        self.users = Users(self)
        self.invitations = Invitations(self)
        self.groups = Groups(self)
        self.applications = Applications(self)
        self.assignments = Assignments(self)
        self.accounts = Accounts(self)
        self.tasks = Tasks(self)
        self.manual_tasks = ManualTasks(self)
        self.provisioning = Provisioning(self)
        self.reviews = Reviews(self)
        self.requests = AccessRequests(self)
        self.operators = Operators(self)
        self.tokens = Tokens(self)

    def __enter__(self) -> Dravo:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """Close the connections."""
        self._http.close()

    def call(
        self,
        method: str,
        path: str,
        *,
        query: dict[str, Any] | None = None,
        body: dict[str, Any] | None = None,
    ) -> Any:
        """Call the service and return its response; None values are left out.

        Raises:
            ApiError: one of its subclasses, with the service's message.
        """
        parameters = {name: plain(value) for name, value in (query or {}).items() if value is not None}
        content = (
            {name: value for name, value in body.items() if value is not None} if body is not None else None
        )
        try:
            answer = self._http.request(method, path, params=parameters, json=content)
        except httpx.HTTPError as wrong:
            raise ServiceUnreachable(
                f"The service at {self.url} does not respond ({wrong}).",
                "Check that the service is running and the URL is right.",
            ) from wrong
        if answer.is_success:
            try:
                return answer.json() if answer.content else None
            except ValueError:
                raise ApiError(
                    f"The response of {self.url} is not JSON.",
                    "Check that the URL belongs to Dravo.",
                    status=answer.status_code,
                ) from None
        raise self._wrong(answer)

    @contextmanager
    def watched(self, show: Callable[[int, int], None], every: float = 1.0) -> Iterator[None]:
        """Report the progress of long calls within, such as a preview of all users.

        An exception within, such as KeyboardInterrupt, stops the job in the service too.

        Args:
            show: called with the number of users done and of all, from a separate thread.
            every: seconds between two reports.
        """
        name, ended = uuid.uuid4().hex, threading.Event()
        other = httpx.Client(
            base_url=self._http.base_url,
            headers=self._http.headers,
            timeout=10.0,
            trust_env=False,
            verify=_checks_certificates(self.url),
        )

        def look() -> None:
            while not ended.wait(every):
                try:
                    answer = other.get(f"/jobs/{name}")
                except httpx.HTTPError:
                    # The caller gets the error; there is nothing to show here.
                    continue
                if answer.is_success and answer.json()["total"]:
                    show(answer.json()["done"], answer.json()["total"])

        watcher = threading.Thread(target=look, daemon=True)
        self._http.headers["Dravo-Job"] = name
        watcher.start()
        try:
            yield
        except BaseException:
            other.delete(f"/jobs/{name}")
            raise
        finally:
            self._http.headers.pop("Dravo-Job", None)
            ended.set()
            watcher.join()
            other.close()

    def stream(self, path: str, query: dict[str, Any]) -> Iterator[bytes]:
        """Yield the response to a GET, piece by piece.

        Raises:
            ApiError: as `call`.
        """
        parameters = {name: plain(value) for name, value in query.items() if value is not None}
        try:
            with self._http.stream("GET", path, params=parameters) as answer:
                if not answer.is_success:
                    answer.read()
                    raise self._wrong(answer)
                yield from answer.iter_bytes()
        except httpx.HTTPError as wrong:
            raise ServiceUnreachable(
                f"The service at {self.url} does not respond ({wrong}).",
                "Check that the service is running and the URL is right.",
            ) from wrong

    def _wrong(self, answer: httpx.Response) -> ApiError:
        try:
            told = dict(answer.json()["error"])
        except (ValueError, KeyError, TypeError):
            told = {
                "message": f"{self.url} returned status {answer.status_code} without an error from Dravo.",
                "hint": "Check that the URL belongs to Dravo.",
            }
        kind = error_for(answer.status_code)
        return kind(
            told.get("message", ""),
            told.get("hint") or "",
            told.get("code", "error"),
            answer.status_code,
            told.get("field"),
        )

    def overview(self) -> t.Overview:
        """Return the numbers of each stage, and what needs an operator."""
        return cast(t.Overview, self.call("GET", "/overview"))

    def flow(self) -> t.Flow:
        """Return the flow picture: users from sources through groups and roles into applications, as counted
        last.
        """
        return cast(t.Flow, self.call("GET", "/overview/flow"))

    def access(
        self,
        *,
        application: str | None = None,
        role: str | None = None,
        user: str | None = None,
        group: str | None = None,
        words: str | None = None,
        ended: bool = False,
    ) -> Pages[t.Access]:
        """List access with its reasons; `user` and `group` are IDs."""
        return self.pages(
            "/access",
            {
                "application": application,
                "role": role,
                "user": user,
                "group": group,
                "q": words,
                "ended": ended or None,
            },
        )

    def activity(
        self,
        *,
        kind: str | None = None,
        source: str | None = None,
        application: str | None = None,
        user: str | None = None,
        trouble: bool | None = None,
        until: str | None = None,
    ) -> Pages[t.ActivityLine]:
        """Return the timeline, newest first.

        Args:
            kind: "request", "run", "task", "reconciliation" or "change".
            source, application: by key.
            user: by ID.
            trouble: only errors and refusals.
            until: only events before this instant.
        """
        about = {
            "kind": kind,
            "source": source,
            "application": application,
            "user": user,
            "trouble": trouble,
            "until": until,
        }
        return self.pages("/activity", about)

    def matrix(
        self,
        *,
        words: str | None = None,
        application: str | None = None,
        role: str | None = None,
        only: str | None = None,
        at: str | None = None,
    ) -> Pages[t.MatrixUser]:
        """Return users with their roles by application, now or at a past instant (or the end of a day).

        Args:
            words: a part of a name, user name or email.
            application, role: by key: only users with them.
            only: "direct only", "inactive but assigned" or "highest role".
            at: an instant or a day.
        """
        return self.pages(
            "/access/matrix", {"q": words, "application": application, "role": role, "only": only, "at": at}
        )

    def matrix_of_groups(
        self, *, words: str | None = None, source: str | None = None, application: str | None = None
    ) -> Pages[t.MatrixGroup]:
        """Return groups with the roles they assign in each application."""
        return self.pages("/access/matrix/groups", {"q": words, "source": source, "application": application})

    def compare(self, one: str, two: str) -> t.Compared:
        """Compare the access and the groups of two users."""
        return cast(t.Compared, self.call("GET", "/access/compare", query={"one": one, "two": two}))

    def export_matrix(self, form: str = "csv", **view: str | None) -> Iterator[bytes]:
        """Yield the whole matrix in pieces, as "csv" or "json"; `view` as in `matrix`."""
        query = {**view, "form": form, "q": view.get("words")}
        query.pop("words", None)
        return self.stream("/access/matrix/export", query)

    def changes(self, since: str, until: str, application: str | None = None) -> Pages[t.AccessDifference]:
        """List users whose roles differ between two times, with the reasons; each is an instant or a day."""
        return self.pages("/access/changes", {"since": since, "until": until, "application": application})

    def simulate(self, source: str, attributes: dict[str, Any], groups: Sequence[str] = ()) -> t.Expected:
        """Simulate the access of a new user."""
        body = {"source": source, "attributes": attributes, "groups": [*groups]}
        return cast(t.Expected, self.call("POST", "/access/simulate", body=body))

    def holds(self) -> Sequence[t.HoldItem]:
        """Return the held removals of each application."""
        return cast(Sequence[t.HoldItem], self.call("GET", "/holds")["items"])

    def approve_holds(self, application: str, confirm: str) -> int:
        """Approve the held removals of an application; return how many.

        Args:
            confirm: the label of the application.
        """
        return int(
            self.call("POST", f"/holds/{part(application)}/approve", body={"confirm": confirm})["number"]
        )

    def discard_holds(self, application: str, confirm: str) -> int:
        """Discard the held removals of an application; return how many.

        Args:
            confirm: the label of the application.
        """
        return int(
            self.call("POST", f"/holds/{part(application)}/discard", body={"confirm": confirm})["number"]
        )

    def audit(self, kind: str | None = None, object_id: str | None = None) -> Pages[t.AuditEntry]:
        """List what operators changed, newest first."""
        return self.pages("/audit", {"kind": kind, "object": object_id})

    def preview_undo(self, entry: int) -> t.Preview:
        """Preview the undo of an audit entry: a change of an assignment or access policy."""
        return cast(t.Preview, self.call("GET", f"/audit/{entry}/undo"))

    def undo(self, entry: int, confirm: str | None = None) -> None:
        """Take an entry of the audit log back; `confirm` is the application's label, where that is
        serious.
        """
        self.call("POST", f"/audit/{entry}/undo", body={"confirm": confirm})

    def audit_verification(self) -> t.AuditVerification:
        """Verify the chain of the audit log."""
        return cast(t.AuditVerification, self.call("GET", "/audit/verify"))

    def settings(self) -> list[t.Setting]:
        """Return the organization settings."""
        return cast(t.OrganizationSettings, self.call("GET", "/settings"))["items"]

    def change_setting(self, name: str, value: bool | int | str) -> list[t.Setting]:
        """Change an organization setting."""
        return cast(
            t.OrganizationSettings, self.call("PUT", f"/settings/{part(name)}", body={"value": value})
        )["items"]

    def preview_setting(self, name: str, value: bool | int | str) -> t.ChangeEffects:
        """Return what another value of an organization setting would do."""
        path = f"/settings/{part(name)}/preview"
        return cast(t.ChangeEffects, self.call("POST", path, body={"value": value}))

    def evaluate_expression(
        self, expression: str, user: str | None = None, attribute: str | None = None
    ) -> t.ExpressionResult:
        """Evaluate an expression for a user; return its result and its meaning in words."""
        return cast(
            t.ExpressionResult,
            self.call(
                "POST",
                "/expressions/evaluate",
                body={"expression": expression, "user": user, "attribute": attribute},
            ),
        )

    def pages(self, path: str, query: dict[str, Any] | None = None) -> Pages[Any]:
        """Return a paged list."""
        return Pages(
            lambda after, count: self.call(
                "GET", path, query={**(query or {}), "after": after, "count": count}
            )
        )

"""The connection check: step by step, each with its answer and its hint."""

from __future__ import annotations

import secrets
from collections.abc import Callable, Generator
from dataclasses import dataclass, replace
from typing import Any

from dravo.core.provisioning.seen_values import SeenValue, collect
from dravo.core.scim.patches import PATCH_SCHEMA
from dravo.core.scim.schemas import USER_URN
from dravo.protocols.addresses import AddressNotAllowed, Unreachable
from dravo.protocols.http_client import Client, Connection, Request, Response
from dravo.protocols.scim_client.account_sync import segment
from dravo.protocols.scim_client.capabilities import Capabilities, discover
from dravo.protocols.scim_client.responses import ProvisioningError, looks_like_a_page, not_scim, said

OK, WRONG, SKIPPED, NOT_YET = "ok", "failed", "skipped", "pending"
READING = ("Address", "Service", "Token", "Reading")
WRITING = ("Creating", "Changing", "Deactivating", "Removing")
# Usual paths of SCIM services, tried if only the host was entered.
USUAL_ENDINGS = ("/scim/v2", "/scim", "/v2")


@dataclass(frozen=True)
class CheckStep:
    """A step of a connection test; `outcome` is "ok", "wrong", "not yet" or "not tried"."""

    name: str
    outcome: str
    message: str
    hint: str


@dataclass(frozen=True)
class CheckResult:
    """The result of a connection test.

    Attributes:
        base_url: the address that was tested, after repairs.
        capabilities: as they are stored, or None.
        seen: the roles, entitlements and groups of a sample of accounts.
        complete: whether the sample has all accounts.
    """

    ok: bool
    base_url: str
    steps: list[CheckStep]
    capabilities: dict[str, Any] | None
    seen: list[SeenValue]
    complete: bool


class _Stop(Exception):
    """The steps after this one need it to work."""


class Check:
    """One check of one connection."""

    def __init__(self, client: Client, base_url: str, sign_in: Callable[[], Connection | None]) -> None:
        self._client, self._base_url, self._sign_in = client, base_url, sign_in
        self._connection = Connection(base_url, "")
        self._steps: list[CheckStep] = []
        self._capabilities: Capabilities | None = None
        self._seen: list[SeenValue] = []
        self._complete = False

    def run(self, *, writing: bool) -> CheckResult:
        """Test the connection.

        Args:
            writing: whether to create, change, deactivate and delete a test user.

        Returns:
            the steps, and the capabilities of the application.
        """
        try:
            config = self._address_and_service()
            self._token_and_reading(config)
            if writing:
                self._test_user()
        except _Stop:
            pass
        for name in (*READING, *(WRITING if writing else ())):
            if name not in {each.name for each in self._steps}:
                self._step(name, SKIPPED, "Fix the earlier step first.")
        fine = all(each.outcome == OK for each in self._steps)
        return CheckResult(
            ok=fine,
            base_url=self._base_url,
            steps=self._steps,
            capabilities=self._capabilities.document() if self._capabilities else None,
            seen=self._seen,
            complete=self._complete,
        )

    def _step(self, name: str, outcome: str, message: str, hint: str = "") -> None:
        self._steps.append(CheckStep(name, outcome, message, hint))

    def _fail(self, name: str, message: str, hint: str = "", outcome: str = WRONG) -> _Stop:
        self._step(name, outcome, message, hint)
        return _Stop()

    def _send(self, name: str, request: Request) -> Response:
        try:
            return self._client.send(self._connection, request)
        except AddressNotAllowed as wrong:
            raise self._fail(name, wrong.message, wrong.hint) from None
        except Unreachable as wrong:
            hint = (
                "Check the host and the port, and that the application is running."
                if name == "Address"
                else "Try again. If it fails again, contact the vendor of the application."
            )
            raise self._fail(name, f"{self._base_url}: {wrong}.", hint) from None

    def _address_and_service(self) -> Response:
        signed, refused = None, None
        try:
            signed = self._sign_in()
        except ProvisioningError as trouble:
            refused = trouble
        if signed is not None:
            self._connection = signed
        config = self._send("Address", Request("GET", "/ServiceProviderConfig"))
        self._step("Address", OK, f"{self._base_url} answers.")
        if 300 <= config.status < 400:
            raise self._fail(
                "Service",
                f"The URL redirects ({config.status} to {config.location}).",
                "Enter the URL that it redirects to.",
            )
        if config.status not in (401, 403) and (not config.ok or config.body is None):
            message, hint = (
                not_scim(config)
                if config.status < 500 or looks_like_a_page(config)
                else (said(config), "Try again later.")
            )
            offer = _offer(self._client, self._connection)
            raise self._fail(
                "Service", message, f"A SCIM service responds at {offer}. Use this URL." if offer else hint
            )
        self._step("Service", OK, "SCIM service found." if config.ok else "The application requires a token.")
        if refused is not None:
            raise self._fail("Token", refused.message, refused.hint)
        if signed is None:
            raise self._fail(
                "Token",
                "The token is missing.",
                "Create a token in the application and enter it here.",
                NOT_YET,
            )
        return config

    def _token_and_reading(self, config: Response) -> None:
        listing = self._send("Token", Request("GET", "/Users", {"startIndex": "1", "count": "1"}))
        if listing.status in (401, 403):
            message = f"The application rejected the token ({listing.status}): {said(listing)}"
            raise self._fail("Token", message, "Enter a complete token that can read and change users.")
        self._step("Token", OK, "The token is accepted.")
        if not listing.ok or listing.body is None or "totalResults" not in listing.body:
            message, hint = (
                not_scim(listing)
                if listing.body is None
                else (said(listing), "Contact the administrator of the application.")
            )
            raise self._fail("Reading", f"The list of users cannot be read: {message}", hint)
        try:
            self._capabilities = self._drive(discover(config.body if config.ok else None))
        except ProvisioningError as trouble:
            raise self._fail("Reading", trouble.message, trouble.hint) from None
        self._step("Reading", OK, f"The application has {listing.body['totalResults']} accounts.")
        self._look_for_roles()

    def _look_for_roles(self) -> None:
        """Read a page of accounts and of groups, and collect their roles; none are needed to go on."""
        assert self._capabilities is not None
        count = str(self._capabilities.page)
        accounts, self._complete = self._page_of("/Users", count)
        groups = self._page_of("/Groups", count)[0] if self._capabilities.groups else []
        self._seen = collect(accounts, groups)

    def _page_of(self, path: str, count: str) -> tuple[list[dict[str, Any]], bool]:
        """Return the resources of the first page, and whether these are all."""
        try:
            answer = self._client.send(
                self._connection, Request("GET", path, {"startIndex": "1", "count": count})
            )
        except (Unreachable, AddressNotAllowed):
            return [], False
        resources = (answer.body or {}).get("Resources") if answer.ok else None
        found = (
            [each for each in resources or [] if isinstance(each, dict)]
            if isinstance(resources, list)
            else []
        )
        return found, answer.ok and (answer.body or {}).get("totalResults") == len(found)

    def _drive(self, conversation: Generator[Request, Response, Capabilities]) -> Capabilities:
        answer: Any = None
        while True:
            try:
                request = conversation.send(answer)
            except StopIteration as end:
                found: Capabilities = end.value
                return found
            try:
                answer = self._client.send(self._connection, request)
            except Unreachable as wrong:
                answer = Response(504, None, str(wrong), "")

    def _test_user(self) -> None:
        """Create a test user, change it, deactivate it, and delete it in any case."""
        assert self._capabilities is not None
        mark = secrets.token_hex(4)
        name = f"dravo-check-{mark}"
        user: dict[str, Any] = {
            "schemas": [USER_URN],
            "userName": name,
            "externalId": name,
            "displayName": f"Connection check {mark}",
            "active": True,
            "name": {"givenName": "Connection", "familyName": f"Check {mark}"},
            "emails": [{"value": f"{name}@check.invalid", "type": "work", "primary": True}],
        }
        body = {key: value for key, value in user.items() if self._capabilities.takes(key)}
        made = self._send("Creating", Request("POST", "/Users", body=body))
        identifier = (made.body or {}).get("id")
        if not made.ok or not identifier:
            message = f"The test account '{name}' could not be created ({made.status}): {said(made)}"
            raise self._fail(
                "Creating",
                message,
                "Use a token that can create users, or add an expression for a required attribute.",
            )
        self._step("Creating", OK, f"The test account '{name}' was created.")
        path = f"/Users/{segment(str(identifier))}"
        try:
            self._change(
                "Changing",
                path,
                body,
                "title" if self._capabilities.takes("title") else "displayName",
                "Checked",
                "Attributes can be updated.",
            )
            if self._capabilities.active:
                self._change("Deactivating", path, body, "active", False, "Accounts can be deactivated.")
            else:
                self._step(
                    "Deactivating",
                    NOT_YET,
                    "Accounts cannot be deactivated.",
                    "Choose 'delete' or 'do_nothing' in the settings.",
                )
        finally:
            gone = self._client.send(self._connection, Request("DELETE", path))
            if gone.ok or gone.status == 404:
                self._step("Removing", OK, "The test account was deleted.")
            else:
                hint = (
                    f"Delete '{name}' in the application. Choose deactivate instead of delete in "
                    "the settings."
                )
                self._step(
                    "Removing",
                    WRONG,
                    f"The test account could not be deleted ({gone.status}): {said(gone)}",
                    hint,
                )

    def _change(
        self, step: str, path: str, body: dict[str, Any], attribute: str, value: Any, fine: str
    ) -> None:
        assert self._capabilities is not None
        body[attribute] = value
        if self._capabilities.patch:
            operation = {"op": "replace", "path": attribute, "value": value}
            answer = self._send(
                step, Request("PATCH", path, body={"schemas": [PATCH_SCHEMA], "Operations": [operation]})
            )
        else:
            answer = self._send(step, Request("PUT", path, body=body))
        if not answer.ok:
            raise self._fail(
                step,
                f"The test account could not be updated ({answer.status}): {said(answer)}",
                "Use a token that can update users.",
            )
        self._step(step, OK, fine)


def check_connection(
    client: Client, base_url: str, sign_in: Callable[[], Connection | None], *, writing: bool = False
) -> CheckResult:
    """Test a connection.

    Args:
        client: sends the requests.
        base_url: the base URL of the SCIM service.
        sign_in: returns the authenticated connection; None without a token; raises an error if there is none
            to get.
        writing: whether to test with a user, who is deleted afterwards.

    Returns:
        As `Check.run`.
    """
    return Check(client, base_url, sign_in).run(writing=writing)


def _offer(client: Client, connection: Connection) -> str | None:
    """Return an address near the given one at which a SCIM service answers."""
    for ending in USUAL_ENDINGS:
        if connection.base_url.endswith(ending):
            continue
        address = connection.base_url + ending
        try:
            response = client.send(
                replace(connection, base_url=address), Request("GET", "/ServiceProviderConfig")
            )
        except (Unreachable, AddressNotAllowed):
            continue
        if _is_scim(response):
            return address
    return None


def _is_scim(response: Response) -> bool:
    return response.ok and response.body is not None and "schemas" in response.body

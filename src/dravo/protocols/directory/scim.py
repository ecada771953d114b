"""Reads another party's SCIM service (RFC 7644) as a directory: in pages by number or by cursor (RFC 9865),
by token or client credentials.
"""

from __future__ import annotations

import time
from collections.abc import Iterator, Mapping, Sequence
from typing import Any, ClassVar, Literal

from pydantic import BaseModel, Field

from dravo.core.expressions import SCIM_USER
from dravo.protocols.addresses import AddressNotAllowed, Unreachable
from dravo.protocols.directory.reader import (
    NOTED,
    OK,
    BadLine,
    Checked,
    DirectoryTrouble,
    Entry,
    GroupEntry,
    Step,
    checked_by,
)
from dravo.protocols.http_client import Client, Connection, Request, Response, check_url, repair_address
from dravo.protocols.scim_client.capabilities import Capabilities, read_capabilities

PAGE = 200
TRIES = 4
LONGEST_PAUSE = 60.0
STEPS = ("Address", "Authentication", "Users", "Groups", "Attribute mapping")


class ScimSettings(BaseModel):
    """How another party's SCIM service is reached and read."""

    address: str = Field(title="Address", description="such as https://people.fernhollow.example/scim/v2")
    sign_in: Literal["token", "client_credentials", "basic"] = Field("token", title="Authentication")
    token_address: str = Field(
        "", title="Token URL", description="of the authorization server, for client credentials"
    )
    client_id: str = Field("", title="Client ID or user name", description="for client credentials and basic")
    scope: str = Field("", title="Scope", description="for client credentials; optional")
    users_filter: str = Field("", title="User filter", description="RFC 7644, 3.4.2.2; empty: all users")
    read_groups: bool = Field(True, title="Read groups")
    ca: str = Field(
        "",
        title="CA certificate",
        description="PEM of your own certificate authority; empty for public ones",
        json_schema_extra={"lines": True},
    )


class ScimReader:
    """Reads one SCIM service."""

    kind: ClassVar[str] = "scim"
    label: ClassVar[str] = "SCIM service"
    reads: ClassVar[str] = SCIM_USER
    Settings: ClassVar[type[BaseModel]] = ScimSettings
    usual_attributes: ClassVar[tuple[tuple[str, str], ...]] = (
        ("userName", "userName"),
        ("displayName", 'displayName else name.formatted else "{name.givenName} {name.familyName}"'),
        ("name.givenName", "name.givenName"),
        ("name.familyName", "name.familyName"),
        ('emails[type eq "work"].value', 'emails[type eq "work"].value else emails.value then first'),
        ("title", "title"),
        ("active", "active"),
        *(
            (f"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:{name}",) * 2
            for name in ("department", "employeeNumber")
        ),
    )

    def __init__(self, settings: ScimSettings, secret: str, uses: Sequence[str] = ()) -> None:
        self.settings, self._secret = settings, secret
        self._client = Client()
        self._connection: Connection | None = None
        self._capabilities: Capabilities | None = None
        self._newest: str | None = None

    def close(self) -> None:
        """Close connections."""
        self._client.close()

    # The connection

    def _connect(self) -> Connection:
        if self._connection is None:
            settings = self.settings
            address = repair_address(settings.address)
            if settings.sign_in == "client_credentials":
                self._connection = Connection(address, self._token(), ca=settings.ca)
            else:
                user = settings.client_id if settings.sign_in == "basic" else ""
                self._connection = Connection(address, self._secret, user, settings.ca)
        return self._connection

    def _token(self) -> str:
        settings = self.settings
        try:
            answer = self._client.ask_for_token(
                check_url(settings.token_address, "token_address"),
                settings.client_id,
                self._secret,
                settings.scope or None,
                settings.ca,
            )
        except (Unreachable, AddressNotAllowed) as wrong:
            raise DirectoryTrouble(
                f"The authorization server does not respond: {wrong}.", "Check the token URL."
            ) from None
        token = (answer.body or {}).get("access_token")
        if not answer.ok or not isinstance(token, str):
            said = (
                (answer.body or {}).get("error_description")
                or (answer.body or {}).get("error")
                or answer.excerpt[:200]
                or "no reason given"
            )
            raise DirectoryTrouble(
                f"The authorization server issued no token ({answer.status}): {said}",
                "Check the token URL, the client ID and the client secret.",
            )
        return token

    def _ask(self, path: str, query: Mapping[str, str] | None = None) -> Mapping[str, Any]:
        """Return the answer to a reading request; again, after a pause, where it fails in passing.

        Raises:
            DirectoryTrouble.
        """
        answer = self._send(path, query)
        for number in range(TRIES - 1):
            if answer.status not in (429, 500, 502, 503, 504):
                break
            time.sleep(
                min(answer.retry_after if answer.retry_after is not None else 0.3 * 2**number, LONGEST_PAUSE)
            )
            answer = self._send(path, query)
        if answer.status == 401 and self.settings.sign_in == "client_credentials":
            # A token can expire during a long list.
            self._connection = None
            answer = self._send(path, query)
        if answer.status in (401, 403):
            raise DirectoryTrouble(
                f"The service refused {path} ({answer.status}).",
                "Check the token, and that it can read users and groups.",
            )
        if not answer.ok or answer.body is None:
            what = "a response that is not SCIM" if answer.ok else str(answer.status)
            raise DirectoryTrouble(
                f"The service responded to {path} with {what}: {answer.excerpt[:200]}",
                "Check the base URL. It ends before /Users.",
            )
        return answer.body

    def _send(self, path: str, query: Mapping[str, str] | None) -> Response:
        connection = self._connect()
        try:
            return self._client.send(connection, Request("GET", path, query or {}))
        except AddressNotAllowed as wrong:
            raise DirectoryTrouble(wrong.message, wrong.hint) from None
        except Unreachable as wrong:
            raise DirectoryTrouble(
                f"The service does not respond: {wrong}.",
                "Check the address, and that the service is running.",
            ) from None

    def _can(self) -> Capabilities:
        if self._capabilities is None:
            try:
                body = self._ask("/ServiceProviderConfig")
            except DirectoryTrouble:
                # Some services have no ServiceProviderConfig; reading the list is the real check.
                body = {}
            offered = body.get("pagination") if isinstance(body.get("pagination"), Mapping) else {}
            self._capabilities = read_capabilities(
                {"cursor": bool((offered or {}).get("cursor")), "page": PAGE}
            )
        return self._capabilities

    # Reading

    def users(self, since: str | None = None) -> Iterator[Entry | BadLine]:
        """Yield all users, or users who changed since a mark."""
        wanted = [f"({self.settings.users_filter})"] if self.settings.users_filter else []
        changed = [*wanted, f'meta.lastModified ge "{since}"']
        # A service that cannot filter by time returns an error; then all users are read.
        text = " and ".join(changed if since is not None and self._finds(" and ".join(changed)) else wanted)
        for resource in self._listing("/Users", {"filter": text} if text else {}):
            entry = self._entry(resource)
            yield (
                entry
                if entry is not None
                else BadLine(
                    "/Users",
                    "The service returned a user without an ID.",
                    "Contact the administrator of the service.",
                )
            )

    def _finds(self, text: str) -> bool:
        """Whether the service accepts a filter."""
        first = {"cursor": ""} if self._can().cursor else {"startIndex": "1"}
        return self._send("/Users", {"filter": text, "count": "1", **first}).status != 400

    def _entry(self, resource: Mapping[str, Any]) -> Entry | None:
        native_id = resource.get("id")
        if not isinstance(native_id, str) or not native_id:
            return None
        self._note_change(resource)
        kept = {
            name: value
            for name, value in resource.items()
            if name not in ("meta", "id", "schemas", "groups", "password")
        }
        return Entry(native_id, native_id, kept)

    def _note_change(self, resource: Mapping[str, Any]) -> None:
        at = (resource.get("meta") or {}).get("lastModified")
        if isinstance(at, str) and (self._newest is None or at > self._newest):
            self._newest = at

    def groups(self, since: str | None = None) -> Iterator[GroupEntry | BadLine]:
        """Yield all groups: not every service reports when members of a group changed."""
        if not self.settings.read_groups:
            return
        for resource in self._listing("/Groups", {}):
            native_id, name = resource.get("id"), resource.get("displayName")
            if not isinstance(native_id, str) or not isinstance(name, str) or not name:
                yield BadLine(
                    "/Groups",
                    "The service returned a group without an ID or a name.",
                    "Contact the administrator of the service.",
                )
                continue
            members = resource.get("members") or ()
            yield GroupEntry(
                native_id,
                native_id,
                name,
                tuple(
                    str(each["value"]) for each in members if isinstance(each, Mapping) and each.get("value")
                ),
            )

    def _listing(self, path: str, query: Mapping[str, str]) -> Iterator[Mapping[str, Any]]:
        """Yield each resource once, page by page; an incomplete list is an error."""
        cursor_given = self._can().cursor
        start, cursor, came, total = 1, "", set[str](), 0
        while True:
            where = {"cursor": cursor} if cursor_given else {"startIndex": str(start)}
            body = self._ask(path, {**query, **where, "count": str(PAGE)})
            resources = body.get("Resources") or []
            given = body.get("totalResults")
            total = given if isinstance(given, int) else total
            before = len(came)
            for each in resources:
                if isinstance(each, Mapping) and each.get("id") not in came:
                    came.add(str(each.get("id")))
                    yield each
            if cursor_given:
                cursor = str(body.get("nextCursor") or "")
                if not cursor:
                    break
            else:
                start += max(len(resources), 1)
                if start > total or not resources:
                    break
            if len(came) == before and resources:
                raise DirectoryTrouble(
                    "The list does not continue: the service returned the same page twice.",
                    "Contact the administrator of the service.",
                )
        if len(came) < total:
            raise DirectoryTrouble(
                f"The list has {total:,} entries, but the service returned {len(came):,}.",
                "Dravo reads the list again.",
            )

    def mark(self) -> str | None:
        """Return the newest meta.lastModified."""
        return self._newest

    def one(self, native_id: str) -> Entry | None:
        """Return one user by ID."""
        found = (
            list(self._listing("/Users", {"filter": f'id eq "{native_id}"'}))
            if '"' not in native_id and "\\" not in native_id
            else []
        )
        return self._entry(found[0]) if found else None

    def groups_of(self, entry: Entry) -> list[GroupEntry] | None:
        """Return the groups that list a user."""
        if not self.settings.read_groups:
            return None
        found = self._listing(
            "/Groups", {"filter": f'members.value eq "{entry.native_id}"', "excludedAttributes": "members"}
        )
        return [
            GroupEntry(str(each["id"]), str(each["id"]), str(each["displayName"]))
            for each in found
            if each.get("id") and each.get("displayName")
        ]

    # The check

    def check(self, uses: Sequence[str]) -> Checked:
        """Try the connection: address, signing in, users, groups, and the attributes that expressions
        need.
        """
        return checked_by(STEPS, lambda checked: self._check(checked, uses))

    def _check(self, checked: Checked, uses: Sequence[str]) -> None:
        address = repair_address(self.settings.address)
        try:
            self._client.send(
                Connection(address, "", ca=self.settings.ca), Request("GET", "/ServiceProviderConfig")
            )
        except (Unreachable, AddressNotAllowed) as wrong:
            raise DirectoryTrouble(
                f"The service does not respond: {wrong}.",
                "Check the address, and that the service is running.",
            ) from None
        checked.steps.append(Step("Address", OK, f"{address} answers."))
        first = {"cursor": ""} if self._can().cursor else {"startIndex": "1"}
        narrowed = {"filter": self.settings.users_filter} if self.settings.users_filter else {}
        page = self._ask("/Users", {**first, "count": "50", **narrowed})
        checked.steps.append(Step("Authentication", OK, "Dravo can read the service."))
        for resource in page.get("Resources") or ():
            entry = self._entry(resource) if isinstance(resource, Mapping) else None
            if entry is not None:
                checked.sample.append(entry)
                _names(checked.attributes, entry.attributes)
        if not checked.sample:
            raise DirectoryTrouble(
                "The service has no users.", "Check the filter, and the rights of the token."
            )
        how = "by cursor" if self._can().cursor else "by index"
        checked.steps.append(
            Step(
                "Users",
                OK,
                f"The service has {page.get('totalResults', len(checked.sample)):,} users, paged {how}.",
            )
        )
        if self.settings.read_groups:
            groups = self._ask("/Groups", {**first, "count": "10", "excludedAttributes": "members"})
            number = groups.get("totalResults", 0)
            checked.steps.append(
                Step("Groups", OK if number else NOTED, f"The service has {number:,} groups.")
            )
        else:
            checked.steps.append(Step("Groups", OK, "Groups are not imported."))
        known = {name.partition(".")[0].partition("[")[0] for name in checked.attributes}
        missing = [name for name in uses if name not in known and name not in checked.attributes]
        outcome, message = (
            (NOTED, f"No user of the sample has: {', '.join(missing)}.")
            if missing
            else (OK, "All attributes are available.")
        )
        checked.steps.append(Step("Attribute mapping", outcome, message))


def _names(found: dict[str, list[str]], resource: Mapping[str, Any], prefix: str = "") -> None:
    """Add the attributes of a User to the sample, each by the path that an expression would use."""
    for name, value in resource.items():
        if isinstance(value, Mapping):
            _names(found, value, f"{prefix}{name}{':' if name.startswith('urn:') else '.'}")
            continue
        for each in value if isinstance(value, list) else [value]:
            shown = each.get("value") if isinstance(each, Mapping) else each
            path = f"{prefix}{name}.value" if isinstance(each, Mapping) else f"{prefix}{name}"
            kept = found.setdefault(path, [])
            if shown is not None and len(kept) < 3 and str(shown) not in kept:
                kept.append(str(shown)[:120])

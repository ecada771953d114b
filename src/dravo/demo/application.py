"""A stand-in for an application that receives users by SCIM, with faults that can be switched on.

    python -m dravo.demo.application --name "Plant Records" --port 8431 --data-file FILE

Its token stands in the environment variable STAND_IN_TOKEN.

Its page at / shows what it knows; its SCIM service is at /scim/v2. POST /faults takes a JSON object:
`down` (answer 503), `html` (answer with a web page), `refuse` (answer 400 to writes; a text is what it
says), `slow` (milliseconds), `lose` (cut so many replies to writes after the work is done), `lose_every` and
`fail_every` (cut, or answer 503, every so many), `limit` (requests a second, else 429 with Retry-After),
`token` (another token from now on), `doubles` (the same user name may be there twice); and what it cannot
do: `no_patch` (501), `no_filter` (400), `no_list` (403), `no_groups`, `no_active`, `no_schemas`,
`role_texts` (roles are texts), `page` (most in a page), `cursor` (pages by cursor only), `members_left_out`
(of the list of groups);
and what it can do beside: `bulk` (so many operations in one request), `no_bulk_after_all` (it says so and
answers 501). GET /faults shows them; GET /log the last requests, GET /counts how many, GET /state all that
it knows. Its token may also be had from /oauth/token with any client id and its token as the secret; then
what it gives is good for `lasts` seconds.
"""

from __future__ import annotations

import base64
import copy
import html
import json
import os
import re
import sqlite3
import threading
import time
import uuid
from collections import deque
from pathlib import Path
from typing import Any
from urllib.parse import unquote_plus

from dravo.demo.http_server import Answer, Call, end_with_parent, make_server, page, stand_in_arguments

# Where the stand-in finds its token: other users of the machine can read the arguments of a process.
TOKEN_VARIABLE = "STAND_IN_TOKEN"
USER = "urn:ietf:params:scim:schemas:core:2.0:User"
LIST = "urn:ietf:params:scim:api:messages:2.0:ListResponse"
ERROR = "urn:ietf:params:scim:api:messages:2.0:Error"
GROUP = "urn:ietf:params:scim:schemas:core:2.0:Group"
ENTERPRISE = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
KNOWN = (
    "userName",
    "name",
    "displayName",
    "nickName",
    "title",
    "userType",
    "preferredLanguage",
    "locale",
    "timezone",
    "active",
    "emails",
    "phoneNumbers",
    "entitlements",
    "roles",
)
MEMBER = re.compile(r'members\[value eq ("(?:\\.|[^"\\])*")\]')
FILTER = re.compile(r'^\s*(userName|externalId|displayName|id)\s+eq\s+("(?:\\.|[^"\\])*")\s*$', re.IGNORECASE)


def refusal(status: int, detail: str, kind: str | None = None) -> Answer:
    """Return a SCIM error."""
    body = {"schemas": [ERROR], "status": str(status), "detail": detail}
    return Answer(status, {**body, "scimType": kind} if kind else body)


def role_of(role: Any) -> str:
    """Return a role's name, whether it is an object or a text."""
    return str(role.get("value", "")) if isinstance(role, dict) else str(role)


class Application:
    """The accounts of an application, stored in a small file."""

    def __init__(self, name: str, token: str, data_file: Path) -> None:
        self.name, self.token = name, token
        self.lock = threading.RLock()
        self.kept = sqlite3.connect(data_file, check_same_thread=False, isolation_level=None)
        self.kept.execute("PRAGMA journal_mode=WAL")
        self.kept.execute("PRAGMA synchronous=OFF")
        self.kept.execute("CREATE TABLE IF NOT EXISTS account (id TEXT PRIMARY KEY, body TEXT)")
        self.kept.execute("CREATE TABLE IF NOT EXISTS team (id TEXT PRIMARY KEY, body TEXT)")
        self.accounts: dict[str, dict[str, Any]] = {
            row[0]: json.loads(row[1])
            for row in self.kept.execute("SELECT id, body FROM account ORDER BY rowid")
        }
        self.by_name = {account["userName"].casefold(): account["id"] for account in self.accounts.values()}
        self.by_external: dict[str, str] = {
            each["externalId"]: each["id"] for each in self.accounts.values() if each.get("externalId")
        }
        self.groups: dict[str, dict[str, Any]] = {
            row[0]: json.loads(row[1])
            for row in self.kept.execute("SELECT id, body FROM team ORDER BY rowid")
        }
        self.faults: dict[str, Any] = {}
        self.counted = {"all": 0, "writes": 0}
        self.access_tokens: dict[str, float] = {}
        self.log: deque[dict[str, Any]] = deque(maxlen=2000)
        self.recent: deque[float] = deque()
        self.at_once = self.most_at_once = 0

    def handle(self, call: Call) -> Answer:
        """Answer one request."""
        if not call.path.startswith("/scim/v2"):
            return self.beside(call)
        with self.lock:
            self.at_once += 1
            self.most_at_once = max(self.most_at_once, self.at_once)
        try:
            answer = self.scim(call)
        finally:
            with self.lock:
                self.at_once -= 1
        self.log.append(
            {
                "at": time.time(),
                "method": call.method,
                "path": call.path,
                "query": call.query,
                "status": answer.status,
                "cut": answer.cut,
            }
        )
        return answer

    def beside(self, call: Call) -> Answer:
        """Answer requests other than SCIM: the page, the faults, the log."""
        if call.path == "/faults":
            if call.method == "POST" and isinstance(call.body, dict):
                self.faults = {**self.faults, **call.body}
                self.token = self.faults.pop("token", self.token)
            return Answer(200, self.faults, "application/json")
        if call.path == "/status":
            with self.lock:
                return Answer(
                    200,
                    {"accounts": list(self.accounts.values()), "groups": list(self.groups.values())},
                    "application/json",
                )
        if call.path == "/counts":
            return Answer(200, {**self.counted, "accounts": len(self.accounts)}, "application/json")
        if call.path == "/log":
            return Answer(
                200, {"requests": list(self.log), "most_at_once": self.most_at_once}, "application/json"
            )
        if call.path == "/oauth/token":
            return self.give_token(call)
        if call.path != "/":
            return Answer(404, "<!doctype html><title>Not found</title><p>No such page.", "text/html")
        rows = "".join(
            f"<tr><td>{html.escape(a.get('displayName', ''))}<td>{html.escape(a['userName'])}"
            f"<td>{'active' if a.get('active', True) else 'inactive'}"
            f"<td>{html.escape(', '.join(role_of(role) for role in a.get('roles', [])))}"
            f"<td>{html.escape(a.get('externalId') or '')}"
            for a in sorted(self.accounts.values(), key=lambda a: a["userName"])
        )
        head = "<tr><th>Name<th>User name<th>Status<th>Roles<th>External ID"
        teams = "".join(
            f"<tr><td>{html.escape(g['displayName'])}<td>{len(g.get('members', []))}"
            for g in self.groups.values()
        )
        shown = [
            f"<p>{len(self.accounts)} accounts. A stand-in for an application.</p><table>{head}{rows}</table>"
        ]
        return page(
            self.name,
            [*shown, f"<h2>Groups</h2><table><tr><th>Name<th>Members{teams}</table>"] if teams else shown,
        )

    def give_token(self, call: Call) -> Answer:
        """Issue a token for client credentials (RFC 6749, section 4.4)."""
        scheme, _, signed = call.headers.get("Authorization", "").partition(" ")
        secret = (
            unquote_plus(base64.b64decode(signed).decode().partition(":")[2]) if scheme == "Basic" else ""
        )
        if secret != self.token:
            return Answer(
                401,
                {"error": "invalid_client", "error_description": "The client secret is wrong."},
                "application/json",
            )
        given, lasts = uuid.uuid4().hex, self.faults.get("lasts", 60)
        self.access_tokens[given] = time.monotonic() + lasts
        return Answer(
            200, {"access_token": given, "token_type": "Bearer", "expires_in": lasts}, "application/json"
        )

    def knows(self, header: str) -> bool:
        """Whether a request is authenticated: by the token, by a user's password, or by an issued token."""
        scheme, _, value = header.partition(" ")
        if scheme == "Basic":
            return base64.b64decode(value).decode() == f"dravo:{self.token}"
        return scheme == "Bearer" and (
            value == self.token or self.access_tokens.get(value, 0) > time.monotonic()
        )

    def scim(self, call: Call) -> Answer:
        """Answer a SCIM request, faults first."""
        faults = self.faults
        if faults.get("slow"):
            time.sleep(faults["slow"] / 1000)
        if faults.get("down"):
            return refusal(503, "Down for maintenance.")
        if faults.get("html"):
            return Answer(
                200, "<!doctype html><html><title>Welcome</title><p>Please sign in.</html>", "text/html"
            )
        if faults.get("limit") and not self.within_limit(faults["limit"]):
            return Answer(
                429,
                {"schemas": [ERROR], "status": "429", "detail": "Too many requests."},
                headers={"Retry-After": "1"},
            )
        if not self.knows(call.headers.get("Authorization", "")):
            return refusal(401, "The token is not valid.")
        writing = call.method in ("POST", "PUT", "PATCH", "DELETE")
        with self.lock:
            self.counted["all"] += 1
            self.counted["writes"] += writing
            if faults.get("fail_every") and self.counted["all"] % faults["fail_every"] == 0:
                return refusal(503, "Try again in a moment.")
            if writing and faults.get("refuse"):
                said = (
                    faults["refuse"]
                    if isinstance(faults["refuse"], str)
                    else "All seats are used. Buy more seats."
                )
                return refusal(400, said, "invalidValue")
            answer = self.route(call)
            if writing and answer.status < 400 and faults.get("lose", 0) > 0:
                faults["lose"] -= 1
                answer.cut = True
            if (
                writing
                and answer.status < 400
                and faults.get("lose_every")
                and self.counted["writes"] % faults["lose_every"] == 0
            ):
                answer.cut = True
        return answer

    def within_limit(self, limit: int) -> bool:
        """Whether one more request is within the rate."""
        with self.lock:
            present = time.monotonic()
            while self.recent and present - self.recent[0] > 1:
                self.recent.popleft()
            if len(self.recent) >= limit:
                return False
            self.recent.append(present)
            return True

    def route(self, call: Call) -> Answer:
        """Answer a SCIM request that may go ahead."""
        path = call.path.removeprefix("/scim/v2").strip("/")
        if path == "ServiceProviderConfig":
            return Answer(200, self.config())
        if path == "Bulk":
            return self.bulk(call)
        if path in ("ResourceTypes", "Schemas"):
            return (
                refusal(404, "Not found.")
                if self.faults.get("no_schemas")
                else Answer(200, self.described(path))
            )
        kind, _, identifier = path.partition("/")
        if kind == "Groups" and not self.faults.get("no_groups"):
            return self.group(call, identifier)
        if path == "Users":
            return self.create(call.body) if call.method == "POST" else self.find(call.query, self.accounts)
        if kind != "Users" or identifier not in self.accounts:
            return refusal(404, f"Nothing at {call.path}.")
        if call.method == "GET":
            return Answer(200, self.accounts[identifier])
        if call.method == "DELETE":
            gone = self.accounts.pop(identifier)
            self.by_name.pop(gone["userName"].casefold(), None)
            self.by_external.pop(gone.get("externalId") or "", None)
            self.kept.execute("DELETE FROM account WHERE id = ?", (identifier,))
            for group in self.groups.values():
                group["members"] = [each for each in group.get("members", []) if each["value"] != identifier]
            return Answer(204)
        if call.method == "PUT":
            return self.replace(identifier, call.body)
        if self.faults.get("no_patch"):
            return refusal(501, "PATCH is not supported.")
        return self.patch(identifier, call.body)

    def config(self) -> dict[str, Any]:
        """Return the capabilities of the application."""
        return {
            "schemas": ["urn:ietf:params:scim:schemas:core:2.0:ServiceProviderConfig"],
            "patch": {"supported": not self.faults.get("no_patch")},
            "bulk": {
                "supported": bool(self.faults.get("bulk")),
                "maxOperations": self.faults.get("bulk", 0),
                "maxPayloadSize": 1_000_000,
            },
            "filter": {
                "supported": not self.faults.get("no_filter"),
                "maxResults": self.faults.get("page", 100),
            },
            "changePassword": {"supported": False},
            "sort": {"supported": False},
            "etag": {"supported": False},
            **({"pagination": {"cursor": True, "index": False}} if self.faults.get("cursor") else {}),
            "authenticationSchemes": [
                {"type": "oauthbearertoken", "name": "Bearer token", "description": "A token."}
            ],
        }

    def bulk(self, call: Call) -> Answer:
        """Carry out many operations, each by itself (RFC 7644, section 3.7); created resources are returned
        by location only.
        """
        operations = (call.body or {}).get("Operations", [])
        if not self.faults.get("bulk") or self.faults.get("no_bulk_after_all"):
            return refusal(501, "Bulk is not supported.")
        if len(operations) > self.faults["bulk"]:
            return refusal(413, f"At most {self.faults['bulk']} operations.", "tooMany")
        results = []
        for each in operations:
            answer = self.route(
                Call(each["method"], f"/scim/v2{each['path']}", {}, call.headers, each.get("data"))
            )
            body = answer.body if isinstance(answer.body, dict) else {}
            made = {"location": f"/scim/v2/Users/{body['id']}"} if answer.status == 201 else {}
            said = {"response": body} if answer.status >= 300 else {}
            results.append(
                {
                    "method": each["method"],
                    "bulkId": each.get("bulkId"),
                    "status": str(answer.status),
                    **made,
                    **said,
                }
            )
        return Answer(
            200, {"schemas": ["urn:ietf:params:scim:api:messages:2.0:BulkResponse"], "Operations": results}
        )

    def described(self, path: str) -> dict[str, Any]:
        """Return the application's resource types, or its schemas."""
        groups = not self.faults.get("no_groups")
        if path == "ResourceTypes":
            user = {
                "id": "User",
                "name": "User",
                "endpoint": "/Users",
                "schema": USER,
                "schemaExtensions": [{"schema": ENTERPRISE, "required": False}],
            }
            listed = [
                user,
                *(
                    [{"id": "Group", "name": "Group", "endpoint": "/Groups", "schema": GROUP}]
                    if groups
                    else []
                ),
            ]
        else:
            known = [
                {
                    "name": name,
                    "type": "complex" if name in ("name", "emails", "roles", "entitlements") else "string",
                }
                for name in KNOWN
            ]
            if self.faults.get("no_active"):
                known = [each for each in known if each["name"] != "active"]
            if self.faults.get("role_texts"):
                known = [{**each, "type": "string"} if each["name"] == "roles" else each for each in known]
            listed = [
                {"id": USER, "name": "User", "attributes": known},
                {"id": ENTERPRISE, "name": "EnterpriseUser", "attributes": []},
            ]
        return {"schemas": [LIST], "totalResults": len(listed), "Resources": listed}

    def find(self, query: dict[str, str], among: dict[str, dict[str, Any]]) -> Answer:
        """Return a page of accounts or groups, or those that one comparison finds."""
        found = list(among.values())
        if query.get("filter"):
            compared = None if self.faults.get("no_filter") else FILTER.match(query["filter"])
            if compared is None:
                return refusal(400, "This filter is not supported.", "invalidFilter")
            spelt = {each.lower(): each for each in ("userName", "externalId", "displayName", "id")}
            name, value = spelt[compared.group(1).lower()], json.loads(compared.group(2))
            if (
                among is self.accounts
                and name in ("userName", "externalId")
                and not self.faults.get("doubles")
            ):
                identifier = (
                    self.by_name.get(value.casefold()) if name == "userName" else self.by_external.get(value)
                )
                found = [among[identifier]] if identifier in among else []
            else:
                found = [each for each in found if str(each.get(name, "")).casefold() == value.casefold()]
        elif self.faults.get("no_list"):
            return refusal(403, "The list cannot be read.")
        count = min(int(query.get("count", 100)), self.faults.get("page", 100))
        if self.faults.get("cursor"):
            return self.page_by_cursor(found, query, count)
        start = max(int(query.get("startIndex", 1)), 1)
        some = found[start - 1 : start - 1 + count]
        return Answer(
            200,
            {
                "schemas": [LIST],
                "totalResults": len(found),
                "startIndex": start,
                "itemsPerPage": len(some),
                "Resources": some,
            },
        )

    def page_by_cursor(self, found: list[dict[str, Any]], query: dict[str, str], count: int) -> Answer:
        """Return a page after a cursor (RFC 9865, section 2); pages by number are refused in this mode."""
        if "cursor" not in query:
            return refusal(400, "Use cursor-based pagination.", "invalidValue")
        offset = int(base64.b64decode(query["cursor"]).decode()) if query["cursor"] else 0
        some, behind = found[offset : offset + count], offset + count
        following = (
            {"nextCursor": base64.b64encode(str(behind).encode()).decode()} if behind < len(found) else {}
        )
        return Answer(
            200,
            {
                "schemas": [LIST],
                "totalResults": len(found),
                "itemsPerPage": len(some),
                "Resources": some,
                **following,
            },
        )

    def group(self, call: Call, identifier: str) -> Answer:
        """Answer requests for groups."""
        if not identifier:
            if call.method == "GET":
                bare = {
                    key: {name: value for name, value in each.items() if name != "members"}
                    for key, each in self.groups.items()
                }
                return self.find(call.query, bare if self.faults.get("members_left_out") else self.groups)
            if not isinstance(call.body, dict) or not call.body.get("displayName"):
                return refusal(400, "displayName is required.", "invalidValue")
            if call.body["displayName"].casefold() in {
                each["displayName"].casefold() for each in self.groups.values()
            }:
                return refusal(409, f"A group '{call.body['displayName']}' exists already.", "uniqueness")
            return self.keep_group({**call.body, "id": uuid.uuid4().hex[:12]}, 201)
        group = copy.deepcopy(self.groups.get(identifier))
        if group is None:
            return refusal(404, f"Nothing at {call.path}.")
        if call.method == "GET":
            return Answer(200, group)
        if call.method == "DELETE":
            del self.groups[identifier]
            self.kept.execute("DELETE FROM team WHERE id = ?", (identifier,))
            return Answer(204)
        if call.method == "PUT":
            return self.keep_group({**call.body, "id": identifier})
        if self.faults.get("no_patch"):
            return refusal(501, "PATCH is not supported.")
        for operation in (call.body or {}).get("Operations", []):
            wrong = self.operate_on_group(group, operation)
            if wrong:
                return refusal(400, wrong, "invalidPath")
        return self.keep_group(group)

    @staticmethod
    def operate_on_group(group: dict[str, Any], operation: dict[str, Any]) -> str | None:
        """Carry out one operation on a group; return an error, or None."""
        kind, path, value = operation.get("op", "").lower(), operation.get("path", ""), operation.get("value")
        members = {each["value"]: each for each in group.get("members", [])}
        named = MEMBER.fullmatch(path)
        if named and kind == "remove":
            members.pop(json.loads(named.group(1)), None)
        elif path == "members" and kind == "add":
            members |= {each["value"]: {"value": each["value"]} for each in value or []}
        elif path == "displayName" and kind == "replace":
            group["displayName"] = value
        else:
            return f"'{kind}' of '{path}' is not supported."
        group["members"] = list(members.values())
        return None

    def keep_group(self, group: dict[str, Any], status: int = 200) -> Answer:
        """Store a group, if all its members exist."""
        for member in group.get("members", []):
            if member["value"] not in self.accounts:
                return refusal(400, f"There is no user '{member['value']}'.", "invalidValue")
        self.groups[group["id"]] = group
        self.kept.execute("INSERT OR REPLACE INTO team VALUES (?, ?)", (group["id"], json.dumps(group)))
        return Answer(status, group)

    def create(self, body: Any) -> Answer:
        """Make an account."""
        if not isinstance(body, dict) or not body.get("userName"):
            return refusal(400, "userName is required.", "invalidValue")
        if body["userName"].casefold() in self.by_name and not self.faults.get("doubles"):
            return refusal(409, f"userName '{body['userName']}' is taken.", "uniqueness")
        account = {**body, "id": uuid.uuid4().hex[:12]}
        self.keep(account)
        return Answer(201, account)

    def keep(self, account: dict[str, Any]) -> None:
        """Write an account down."""
        account["meta"] = {"resourceType": "User"}
        before = self.accounts.get(account["id"])
        if before:
            self.by_name.pop(before["userName"].casefold(), None)
            self.by_external.pop(before.get("externalId") or "", None)
        self.accounts[account["id"]] = account
        self.by_name[account["userName"].casefold()] = account["id"]
        if account.get("externalId"):
            self.by_external[account["externalId"]] = account["id"]
        self.kept.execute(
            "INSERT OR REPLACE INTO account VALUES (?, ?)", (account["id"], json.dumps(account))
        )

    def replace(self, identifier: str, body: Any) -> Answer:
        """Replace an account."""
        if not isinstance(body, dict) or not body.get("userName"):
            return refusal(400, "userName is required.", "invalidValue")
        account = {**body, "id": identifier}
        self.keep(account)
        return Answer(200, account)

    def patch(self, identifier: str, body: Any) -> Answer:
        """Change an account by operations, all or none."""
        account = copy.deepcopy(self.accounts[identifier])
        for operation in (body or {}).get("Operations", []):
            wrong = self.operate(account, operation)
            if wrong:
                return refusal(400, wrong, "invalidPath")
        other = self.by_name.get(account["userName"].casefold())
        if other not in (None, identifier):
            return refusal(409, f"userName '{account['userName']}' is taken.", "uniqueness")
        self.keep(account)
        return Answer(200, account)

    @staticmethod
    def operate(account: dict[str, Any], operation: dict[str, Any]) -> str | None:
        """Carry out one operation; return an error, or None."""
        kind, path, value = operation.get("op", "").lower(), operation.get("path", ""), operation.get("value")
        holder: dict[str, Any] = account
        urn, separator, name = path.rpartition(":")
        if separator and urn != USER:
            holder = account.setdefault(urn, {})
        whole, _, part = name.partition(".")
        if not re.fullmatch(r"[A-Za-z$][\w$-]*", whole) or (part and not re.fullmatch(r"[A-Za-z]\w*", part)):
            return f"The path '{path}' is not supported."
        if part:
            holder, name = holder.setdefault(whole, {}), part
        if kind == "remove":
            holder.pop(name, None)
        elif kind in ("add", "replace"):
            holder[name] = value
        else:
            return f"The operation '{kind}' is not known."
        return None


def main() -> None:
    """Run the stand-in until its parent ends."""
    parser = stand_in_arguments("A stand-in for an application that receives users through SCIM.")
    given = parser.parse_args()
    end_with_parent()
    application = Application(given.name, os.environ[TOKEN_VARIABLE], given.data_file)
    make_server("127.0.0.1", given.port, application.handle, listening=given.listening).serve_forever()


if __name__ == "__main__":
    main()

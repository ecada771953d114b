"""Users and groups of the stand-in application: stored, found and changed."""

from __future__ import annotations

import base64
import copy
import json
import re
import sqlite3
import threading
import uuid
from collections import deque
from pathlib import Path
from typing import Any

from dravo.demo.http_server import Answer, Call

ERROR = "urn:ietf:params:scim:api:messages:2.0:Error"


USER = "urn:ietf:params:scim:schemas:core:2.0:User"
LIST = "urn:ietf:params:scim:api:messages:2.0:ListResponse"
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


class StoredResources:
    """The users and groups of the stand-in, in memory."""

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

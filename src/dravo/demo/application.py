"""A stand-in for an application that receives people by SCIM, with faults that can be switched on.

    python -m dravo.demo.application --name "Plant Records" --port 8431 --token SECRET --state FILE

Its page at / shows what it knows; its SCIM service is at /scim/v2. POST /faults takes a JSON object:
`down` (answer 503), `html` (answer with a web page), `refuse` (answer 400 to writes), `slow` (milliseconds), `lose` (cut so many
replies to writes after the work is done), `no_patch` (501), `limit` (requests a second, else 429 with Retry-After), `token`
(another token from now on). GET /faults shows them; GET /log the last requests.
"""

from __future__ import annotations

import argparse
import copy
import html
import json
import re
import sqlite3
import threading
import time
import uuid
from collections import deque
from pathlib import Path
from typing import Any

from dravo.demo.wire import Answer, Call, end_with_parent, make_server, page

USER = "urn:ietf:params:scim:schemas:core:2.0:User"
LIST = "urn:ietf:params:scim:api:messages:2.0:ListResponse"
ERROR = "urn:ietf:params:scim:api:messages:2.0:Error"
FILTER = re.compile(r'^\s*(userName|externalId|id)\s+eq\s+("(?:\\.|[^"\\])*")\s*$', re.IGNORECASE)


def refusal(status: int, detail: str, kind: str | None = None) -> Answer:
    """Return a SCIM error."""
    body = {"schemas": [ERROR], "status": str(status), "detail": detail}
    return Answer(status, {**body, "scimType": kind} if kind else body)


class Application:
    """An application's accounts, kept in a small file."""

    def __init__(self, name: str, token: str, state: Path) -> None:
        self.name, self.token = name, token
        self.lock = threading.RLock()
        self.kept = sqlite3.connect(state, check_same_thread=False, isolation_level=None)
        self.kept.execute("PRAGMA journal_mode=WAL")
        self.kept.execute("PRAGMA synchronous=OFF")
        self.kept.execute("CREATE TABLE IF NOT EXISTS account (id TEXT PRIMARY KEY, body TEXT)")
        self.accounts: dict[str, dict[str, Any]] = {
            row[0]: json.loads(row[1]) for row in self.kept.execute("SELECT id, body FROM account ORDER BY rowid")
        }
        self.by_name = {account["userName"].casefold(): account["id"] for account in self.accounts.values()}
        self.by_external: dict[str, str] = {each["externalId"]: each["id"] for each in self.accounts.values() if each.get("externalId")}
        self.faults: dict[str, Any] = {}
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
            {"at": time.time(), "method": call.method, "path": call.path, "query": call.query, "status": answer.status, "cut": answer.cut}
        )
        return answer

    def beside(self, call: Call) -> Answer:
        """Answer what is not SCIM: the page, the faults, the log."""
        if call.path == "/faults":
            if call.method == "POST" and isinstance(call.body, dict):
                self.faults = {**self.faults, **call.body}
                self.token = self.faults.pop("token", self.token)
            return Answer(200, self.faults, "application/json")
        if call.path == "/log":
            return Answer(200, {"requests": list(self.log), "most_at_once": self.most_at_once}, "application/json")
        if call.path != "/":
            return Answer(404, "<!doctype html><title>Not found</title><p>No such page.", "text/html")
        rows = "".join(
            f"<tr><td>{html.escape(a.get('displayName', ''))}<td>{html.escape(a['userName'])}<td>{'active' if a.get('active', True) else 'inactive'}"
            f"<td>{html.escape(', '.join(role.get('value', '') for role in a.get('roles', [])))}<td>{html.escape(a.get('externalId') or '')}"
            for a in sorted(self.accounts.values(), key=lambda a: a["userName"])
        )
        head = "<tr><th>Name<th>User name<th>State<th>Roles<th>External id"
        return page(self.name, [f"<p>{len(self.accounts)} accounts. A stand-in for an application.</p><table>{head}{rows}</table>"])

    def scim(self, call: Call) -> Answer:
        """Answer a SCIM request, faults first."""
        faults = self.faults
        if faults.get("slow"):
            time.sleep(faults["slow"] / 1000)
        if faults.get("down"):
            return refusal(503, "Down for maintenance.")
        if faults.get("html"):
            return Answer(200, "<!doctype html><html><title>Welcome</title><p>Please sign in.</html>", "text/html")
        if faults.get("limit") and not self.within_limit(faults["limit"]):
            return Answer(429, {"schemas": [ERROR], "status": "429", "detail": "Too many requests."}, headers={"Retry-After": "1"})
        if call.headers.get("Authorization") != f"Bearer {self.token}":
            return refusal(401, "The token is not valid.")
        writing = call.method in ("POST", "PUT", "PATCH", "DELETE")
        if writing and faults.get("refuse"):
            return refusal(400, "Seats are used up; ask for more seats.", "invalidValue")
        with self.lock:
            answer = self.route(call)
            if writing and answer.status < 400 and faults.get("lose", 0) > 0:
                faults["lose"] -= 1
                answer.cut = True
        return answer

    def within_limit(self, limit: int) -> bool:
        """Whether one more request keeps to so many a second."""
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
        if path == "Users":
            return self.create(call.body) if call.method == "POST" else self.find(call.query)
        kind, _, identifier = path.partition("/")
        if kind != "Users" or identifier not in self.accounts:
            return refusal(404, f"Nothing at {call.path}.")
        if call.method == "GET":
            return Answer(200, self.accounts[identifier])
        if call.method == "DELETE":
            gone = self.accounts.pop(identifier)
            self.by_name.pop(gone["userName"].casefold(), None)
            self.by_external.pop(gone.get("externalId") or "", None)
            self.kept.execute("DELETE FROM account WHERE id = ?", (identifier,))
            return Answer(204)
        if call.method == "PUT":
            return self.replace(identifier, call.body)
        if self.faults.get("no_patch"):
            return refusal(501, "PATCH is not supported.")
        return self.patch(identifier, call.body)

    def config(self) -> dict[str, Any]:
        """Return what the application can do."""
        return {
            "schemas": ["urn:ietf:params:scim:schemas:core:2.0:ServiceProviderConfig"],
            "patch": {"supported": not self.faults.get("no_patch")},
            "bulk": {"supported": False, "maxOperations": 0, "maxPayloadSize": 0},
            "filter": {"supported": True, "maxResults": 100},
            "changePassword": {"supported": False},
            "sort": {"supported": False},
            "etag": {"supported": False},
            "authenticationSchemes": [{"type": "oauthbearertoken", "name": "Bearer token", "description": "A token."}],
        }

    def find(self, query: dict[str, str]) -> Answer:
        """Return a page of accounts, or those that one comparison finds."""
        found = list(self.accounts.values())
        if query.get("filter"):
            compared = FILTER.match(query["filter"])
            if compared is None:
                return refusal(400, "This filter is not supported.", "invalidFilter")
            name, value = compared.group(1).lower(), json.loads(compared.group(2))
            identifier = {"username": self.by_name.get(value.casefold()), "externalid": self.by_external.get(value), "id": value}[name]
            found = [self.accounts[identifier]] if identifier in self.accounts else []
        start, count = max(int(query.get("startIndex", 1)), 1), min(int(query.get("count", 100)), 100)
        some = found[start - 1 : start - 1 + count]
        return Answer(200, {"schemas": [LIST], "totalResults": len(found), "startIndex": start, "itemsPerPage": len(some), "Resources": some})

    def create(self, body: Any) -> Answer:
        """Make an account."""
        if not isinstance(body, dict) or not body.get("userName"):
            return refusal(400, "userName is required.", "invalidValue")
        if body["userName"].casefold() in self.by_name:
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
        self.kept.execute("INSERT OR REPLACE INTO account VALUES (?, ?)", (account["id"], json.dumps(account)))

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
        """Carry out one operation; return what is wrong with it, if anything is."""
        kind, path, value = operation.get("op", "").lower(), operation.get("path", ""), operation.get("value")
        holder: dict[str, Any] = account
        urn, separator, name = path.rpartition(":")
        if separator and urn != USER:
            holder = account.setdefault(urn, {})
        if not re.fullmatch(r"[A-Za-z$][\w$-]*", name):
            return f"The path '{path}' is not supported."
        if kind == "remove":
            holder.pop(name, None)
        elif kind in ("add", "replace"):
            holder[name] = value
        else:
            return f"The operation '{kind}' is not known."
        return None


def main() -> None:
    """Run the stand-in until its parent is gone."""
    parser = argparse.ArgumentParser(description="A stand-in for an application that receives people by SCIM.")
    parser.add_argument("--name", required=True)
    parser.add_argument("--port", type=int, required=True)
    parser.add_argument("--token", required=True)
    parser.add_argument("--state", type=Path, required=True)
    given = parser.parse_args()
    end_with_parent()
    application = Application(given.name, given.token, given.state)
    make_server("127.0.0.1", given.port, application.handle).serve_forever()


if __name__ == "__main__":
    main()

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
import html
import os
import time
import uuid
from typing import Any
from urllib.parse import unquote_plus

from dravo.demo.application_resources import ERROR, StoredResources, refusal
from dravo.demo.http_server import Answer, Call, end_with_parent, make_server, page, stand_in_arguments

# Where the stand-in finds its token: other users of the machine can read the arguments of a process.
TOKEN_VARIABLE = "STAND_IN_TOKEN"


def role_of(role: Any) -> str:
    """Return a role's name, whether it is an object or a text."""
    return str(role.get("value", "")) if isinstance(role, dict) else str(role)


class Application(StoredResources):
    """The accounts of an application, stored in a small file."""

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


def main() -> None:
    """Run the stand-in until its parent ends."""
    parser = stand_in_arguments("A stand-in for an application that receives users through SCIM.")
    given = parser.parse_args()
    end_with_parent()
    application = Application(given.name, os.environ[TOKEN_VARIABLE], given.data_file)
    make_server("127.0.0.1", given.port, application.handle, listening=given.listening).serve_forever()


if __name__ == "__main__":
    main()

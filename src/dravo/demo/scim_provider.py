"""A stand-in for an identity provider that pushes its users and groups by SCIM.

    python -m dravo.demo.scim_provider --name "Fernhollow staff" --port 8430 --data-file FILE

It keeps a directory of its own and sends each change to every service it is connected to, as providers in the
field do: it looks for a user name before it creates, makes groups empty and fills them in chunks, and writes
`op` and booleans its own way.

PUT /connection {"base_url", "token"}; PUT /users/NAME {a SCIM User}; DELETE /users/NAME; PUT /groups/NAME
{"members": [NAMES]}; DELETE /groups/NAME; POST /load {"users": [...], "groups": {NAME: [NAMES]}} in the
background, GET /progress; the page is at /.
"""

from __future__ import annotations

import html
import json
import threading
from pathlib import Path
from typing import Any

import httpx

from dravo.demo.http_server import Answer, Call, end_with_parent, make_server, page, stand_in_arguments

CHUNK = 100
CORE = "urn:ietf:params:scim:schemas:core:2.0:"
PATCH = "urn:ietf:params:scim:api:messages:2.0:PatchOp"


class PushFailed(Exception):
    """The other side did not take it."""


class Provider:
    """A directory of users and groups, pushed to one place."""

    def __init__(self, name: str, data_file: Path) -> None:
        self.name, self.data_file = name, data_file
        self.lock = threading.RLock()
        empty: dict[str, Any] = {"connection": {}, "users": {}, "groups": {}, "ids": {}, "group_ids": {}}
        self.kept: dict[str, Any] = json.loads(data_file.read_text()) if data_file.exists() else empty
        self.http = httpx.Client(timeout=60, trust_env=False)
        self.done = self.total = 0
        self.trouble: str | None = None

    def handle(self, call: Call) -> Answer:
        """Answer a request to the stand-in's own interface."""
        kind, _, name = call.path.strip("/").partition("/")
        try:
            with self.lock:
                return self.route(call.method, kind, name, call.body)
        except (PushFailed, httpx.HTTPError) as wrong:
            return Answer(502, {"error": str(wrong)}, "application/json")

    def route(self, method: str, kind: str, name: str, body: Any) -> Answer:
        """Route a request."""
        if (method, kind) == ("GET", ""):
            return self.show()
        if (method, kind) == ("GET", "progress"):
            return Answer(
                200, {"done": self.done, "total": self.total, "trouble": self.trouble}, "application/json"
            )
        if (method, kind) == ("PUT", "connection"):
            self.kept["connection"] = body
        elif (method, kind) == ("PUT", "users") and name:
            self.put_user(name, body)
        elif (method, kind) == ("DELETE", "users") and name in self.kept["users"]:
            self.drop_user(name)
        elif (method, kind) == ("PUT", "groups") and name:
            self.put_group(name, list(body["members"]))
        elif (method, kind) == ("DELETE", "groups") and name in self.kept["groups"]:
            self.call("DELETE", f"/Groups/{self.kept['group_ids'].pop(name)}")
            del self.kept["groups"][name]
        elif (method, kind) == ("POST", "load"):
            self.done, self.total, self.trouble = 0, len(body["users"]) + len(body["groups"]), None
            threading.Thread(target=self.load, args=(body,), daemon=True).start()
        else:
            return Answer(404, {"error": "Not found."}, "application/json")
        self.keep()
        return Answer(200, {"ok": True}, "application/json")

    def load(self, body: dict[str, Any]) -> None:
        """Push many users and groups, counting."""
        try:
            for user in body["users"]:
                self.put_user(user["userName"], user)
                self.done += 1
            for name, members in body["groups"].items():
                self.put_group(name, members)
                self.done += 1
        except (PushFailed, httpx.HTTPError) as wrong:
            self.trouble = str(wrong)
        self.keep()

    def keep(self) -> None:
        """Write the directory down."""
        with self.lock:
            self.data_file.write_text(json.dumps(self.kept))

    def call(self, method: str, path: str, body: Any = None, **query: str) -> Any:
        """Send one request to the other side."""
        connection = self.kept["connection"]
        answer = self.http.request(
            method,
            connection["base_url"] + path,
            params=query,
            content=json.dumps(body) if body is not None else None,
            headers={
                "Authorization": f"Bearer {connection['token']}",
                "Content-Type": "application/scim+json",
            },
        )
        if answer.status_code >= 400:
            raise PushFailed(f"{method} {path} returned {answer.status_code}: {answer.text[:300]}")
        return answer.json() if answer.content else None

    def put_user(self, name: str, user: dict[str, Any]) -> None:
        """Create or change a user at the service."""
        user = {"schemas": [CORE + "User"], **user}
        identifier = self.kept["ids"].get(name)
        if identifier is None:
            found = self.call("GET", "/Users", filter=f"userName eq {json.dumps(user['userName'])}")[
                "Resources"
            ]
            identifier = found[0]["id"] if found else None
        if identifier is None:
            identifier = self.call("POST", "/Users", user)["id"]
        else:
            value = {key: part for key, part in user.items() if key != "schemas"}
            if "active" in value:
                value["active"] = str(value["active"])
            self.call(
                "PATCH",
                f"/Users/{identifier}",
                {"schemas": [PATCH], "Operations": [{"op": "Replace", "value": value}]},
            )
        self.kept["ids"][name] = identifier
        self.kept["users"][name] = user

    def drop_user(self, name: str) -> None:
        """Deactivate a user at the service, then delete the user."""
        identifier = self.kept["ids"].pop(name)
        off = [{"op": "Replace", "path": "active", "value": "False"}]
        self.call("PATCH", f"/Users/{identifier}", {"schemas": [PATCH], "Operations": off})
        self.call("DELETE", f"/Users/{identifier}")
        del self.kept["users"][name]
        for members in self.kept["groups"].values():
            if name in members:
                members.remove(name)

    def put_group(self, name: str, members: list[str]) -> None:
        """Create a group at the service if necessary, and update its members in portions."""
        if name not in self.kept["group_ids"]:
            made = self.call(
                "POST", "/Groups", {"schemas": [CORE + "Group"], "displayName": name, "members": []}
            )
            self.kept["group_ids"][name] = made["id"]
        before = self.kept["groups"].get(name, [])
        identifier = self.kept["group_ids"][name]
        for kind, names in (
            ("Add", [m for m in members if m not in before]),
            ("Remove", [m for m in before if m not in members]),
        ):
            for start in range(0, len(names), CHUNK):
                value = [{"value": self.kept["ids"][each]} for each in names[start : start + CHUNK]]
                operation = {"op": kind, "path": "members", "value": value}
                self.call("PATCH", f"/Groups/{identifier}", {"schemas": [PATCH], "Operations": [operation]})
        self.kept["groups"][name] = members

    def show(self) -> Answer:
        """Return the page for users."""
        users = "".join(
            f"<tr><td>{html.escape(p.get('displayName', name))}<td>{html.escape(name)}"
            f"<td>{'active' if p.get('active', True) else 'inactive'}"
            for name, p in sorted(self.kept["users"].items())
        )
        groups = "".join(
            f"<tr><td>{html.escape(name)}<td>{len(members)}"
            for name, members in sorted(self.kept["groups"].items())
        )
        return page(
            self.name,
            [
                f"<p>{len(self.kept['users'])} users, sent to "
                f"{html.escape(self.kept['connection'].get('base_url', 'nowhere yet'))}.</p>",
                f"<table><tr><th>Group<th>Members{groups}</table><p>",
                f"<table><tr><th>Name<th>User name<th>Status{users}</table>",
            ],
        )


def main() -> None:
    """Run the stand-in until its parent ends."""
    parser = stand_in_arguments("A stand-in for an identity provider that sends users through SCIM.")
    given = parser.parse_args()
    end_with_parent()
    provider = Provider(given.name, given.data_file)
    make_server("127.0.0.1", given.port, provider.handle, listening=given.listening).serve_forever()


if __name__ == "__main__":
    main()

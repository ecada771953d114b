"""A stand-in for an identity provider at which users sign in: SAML 2.0 and OpenID Connect.

    python -m dravo.demo.sign_in_provider --name "Contractors' sign-in" --port 8440 --data-file FILE

Users choose who they are; a stand-in has no passwords. It accepts any service that
asks.

PUT /users/NAME {"given", "family", "email", "verified", "groups": [NAMES]}; DELETE /users/NAME; PUT /groups
{NAME: ID}; PUT /faults {"ids for names", "no groups", "namespaced", "other certificate", "clock apart":
SECONDS, "wrong audience", "wrong address", "not assigned", "transient", "letter case"}; PUT /client {"id",
"secret"}; POST /keys makes new keys; the page is at /.

SAML: /metadata, /saml; OpenID Connect: /.well-known/openid-configuration, /authorize, /token, /userinfo,
    /keys.
"""

from __future__ import annotations

import base64
import hashlib
import html
import json
import secrets
import time
import zlib
from typing import Any
from urllib.parse import urlencode

from joserfc import jwt
from joserfc.jwk import RSAKey
from lxml import etree

from dravo.demo.http_server import Answer, Call, end_with_parent, make_server, page, stand_in_arguments
from dravo.demo.saml_provider import SAML, SamlProvider


class Identity(SamlProvider):
    """A provider with users, groups and keys, and faults that can be switched on."""

    def handle(self, call: Call) -> Answer:
        """Answer one request."""
        with self.lock:
            return self.route(call)

    def route(self, call: Call) -> Answer:
        """Route a request."""
        kind, _, name = call.path.strip("/").partition("/")
        known = {
            "": self.show,
            "metadata": self.metadata,
            "saml": self.saml,
            ".well-known": self.configuration,
            "authorize": self.authorize,
            "token": self.token,
            "userinfo": self.userinfo,
            "sign-out": self.sign_out,
        }
        if kind in known:
            return known[kind](call)
        if (call.method, kind) == ("GET", "keys"):
            return self.json({"keys": [self.key(each).as_dict(private=False) for each in self.kept["keys"]]})
        if (call.method, kind) == ("POST", "keys"):
            self.new_keys()
        elif (call.method, kind) == ("PUT", "users") and name:
            self.kept["users"][name] = {
                "id": secrets.token_hex(8),
                **self.kept["users"].get(name, {}),
                **call.body,
            }
        elif (call.method, kind) == ("DELETE", "users") and name in self.kept["users"]:
            del self.kept["users"][name]
        elif call.method == "PUT" and kind in ("faults", "groups", "client"):
            self.kept[kind] = call.body
        else:
            return Answer(404, {"error": "Not found."}, "application/json")
        self.data_file.write_text(json.dumps(self.kept))
        return self.json({"ok": True})

    def json(self, body: Any, status: int = 200) -> Answer:
        """Return JSON."""
        return Answer(status, body, "application/json")

    # Keys

    def key(self, kept: dict[str, str]) -> RSAKey:
        """Return a key as JOSE has it."""
        return RSAKey.import_key(kept["key"], {"kid": kept["id"], "use": "sig", "alg": "RS256"})

    # What is said of a user

    # SAML

    # OpenID Connect

    def configuration(self, _: Call) -> Answer:
        """Return who we are, as OpenID Connect has it."""
        return self.json(
            {
                "issuer": self.url,
                "authorization_endpoint": f"{self.url}/authorize",
                "token_endpoint": f"{self.url}/token",
                "jwks_uri": f"{self.url}/keys",
                "userinfo_endpoint": f"{self.url}/userinfo",
                "response_types_supported": ["code"],
                "end_session_endpoint": f"{self.url}/sign-out",
                "subject_types_supported": ["public"],
                "id_token_signing_alg_values_supported": ["RS256"],
                "token_endpoint_auth_methods_supported": ["client_secret_basic"],
                "scopes_supported": ["openid", "profile", "email", "groups"],
            }
        )

    def authorize(self, call: Call) -> Answer:
        """Ask for the user, and send the browser back with a code."""
        if call.method == "GET":
            return self.chooser("Who are you?", call.query, "/authorize")
        form = call.form
        back, state = form["redirect_uri"], form.get("state", "")
        if form["who"] not in self.kept["users"] or self.fault("not_assigned"):
            query = {
                "error": "access_denied",
                "error_description": "You are not assigned to this service.",
                "state": state,
            }
        else:
            code = secrets.token_urlsafe(16)
            self.codes[code] = form
            query = {"code": code, "state": state, "iss": self.url}
        return Answer(303, None, headers={"Location": f"{back}?{urlencode(query)}"})

    def token(self, call: Call) -> Answer:
        """Issue tokens for a code, once."""
        form, client = call.form, self.kept["client"]
        pair = base64.b64encode(f"{client['id']}:{client['secret']}".encode()).decode()
        if call.headers.get("Authorization") != f"Basic {pair}":
            return self.json(
                {
                    "error": "invalid_client",
                    "error_description": "The client ID or the client secret is wrong.",
                },
                401,
            )
        asked = self.codes.pop(form.get("code", ""), None)
        verified = (
            base64.urlsafe_b64encode(hashlib.sha256(form.get("code_verifier", "").encode()).digest())
            .decode()
            .rstrip("=")
        )
        if (
            asked is None
            or asked.get("code_challenge") != verified
            or asked["redirect_uri"] != form.get("redirect_uri")
        ):
            return self.json({"error": "invalid_grant"}, 400)
        access = secrets.token_urlsafe(16)
        self.access[access] = asked["who"]
        now = int(time.time()) + int(self.fault("clock_skew") or 0)
        user = self.kept["users"][asked["who"]]
        claims: dict[str, Any] = {
            "iss": self.url,
            "sub": user["id"],
            "aud": client["id"] if not self.fault("wrong_audience") else "some-other-client",
            "exp": now + 300,
            "iat": now,
            "nonce": asked.get("nonce"),
            "sid": secrets.token_hex(8),
        }
        kept = self.kept["keys"][0]
        key = (
            RSAKey.generate_key(2048, {"kid": kept["id"]})
            if self.fault("other_certificate")
            else self.key(kept)
        )
        token = jwt.encode({"alg": "RS256", "kid": kept["id"]}, claims, key)
        return self.json(
            {"access_token": access, "token_type": "Bearer", "expires_in": 300, "id_token": token}
        )

    def userinfo(self, call: Call) -> Answer:
        """Return the claims of a token's user."""
        who = self.access.get(call.headers.get("Authorization", "").removeprefix("Bearer "))
        if who is None:
            return self.json({"error": "invalid_token"}, 401)
        user, said = self.kept["users"][who], self.claims(who)
        groups = next((values for name, values in said.items() if name.endswith("groups")), None)
        told = {
            "sub": user["id"],
            "preferred_username": who,
            "name": f"{user['given']} {user['family']}",
            "given_name": user["given"],
            "family_name": user["family"],
            "email": user["email"],
            "email_verified": user.get("verified", True),
        }
        return self.json(told if groups is None else {**told, "groups": groups})

    def sign_out(self, call: Call) -> Answer:
        """Sign a user out, and send the browser back."""
        back = call.query.get("post_logout_redirect_uri")
        if back is None and call.query.get("SAMLRequest"):
            asked = etree.fromstring(zlib.decompress(base64.b64decode(call.query["SAMLRequest"]), -15))
            back = (asked.findtext(f"{{{SAML}}}Issuer") or "").replace("/saml/metadata", "/saml/sign-out")
        self.signed_out += 1
        return Answer(303, None, headers={"Location": back or "/"})

    def show(self, _: Call) -> Answer:
        """Return the page for users."""
        users = "".join(
            f"<tr><td>{html.escape(p['given'])} {html.escape(p['family'])}"
            f"<td>{html.escape(name)}<td>{html.escape(', '.join(p.get('groups', [])))}"
            for name, p in sorted(self.kept["users"].items())
        )
        faults = (
            html.escape(", ".join(f"{name}: {how}" for name, how in self.kept["faults"].items() if how))
            or "none"
        )
        return page(
            self.name,
            [
                f"<p>SAML metadata at <a href=/metadata>{self.url}/metadata</a>; OpenID issuer "
                f"{self.url}.</p>",
                f"<p>Faults switched on: {faults}. Signed out: {self.signed_out}.</p>",
                f"<table><tr><th>Name<th>User name<th>Groups{users}</table>",
            ],
        )


def main() -> None:
    """Run the stand-in until its parent ends."""
    parser = stand_in_arguments("A stand-in for an identity provider where users sign in.")
    given = parser.parse_args()
    end_with_parent()
    make_server(
        "127.0.0.1",
        given.port,
        Identity(given.name, given.port, given.data_file).handle,
        listening=given.listening,
    ).serve_forever()


if __name__ == "__main__":
    main()

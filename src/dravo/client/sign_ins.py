"""Signing in by sources: settings with the setup checklist, test sign-ins, traces."""

from __future__ import annotations

from typing import Any, cast

from dravo.client import types as t
from dravo.client.pages import Pages
from dravo.client.resource import Noun, part


class SignIns(Noun):
    """Sign-in settings of sources, test sign-ins, traces, and sign-in options of users."""

    def get(self, key: str) -> t.SignIn:
        """Return the sign-in settings of a source with its setup checklist."""
        return cast(t.SignIn, self._call("GET", self._at(key)))

    def change(self, key: str, **given: Any) -> t.SignIn:
        """Change the sign-in settings; omitted values stay.

        Args:
            given: `protocol=` "saml", "oidc" or "email_code" (the first time), `serves=` "users", "operators"
                or "both", `settings=`, `secret=`, `policy=`, `metadata=` (its text), `fields=` (single values
                in place of metadata, as in the API), `look=` (fetch the metadata now).
        """
        return cast(t.SignIn, self._call("PUT", self._at(key), body=given))

    def remove(self, key: str) -> None:
        """Remove the sign-in of a source; its users stay."""
        self._call("DELETE", self._at(key))

    def set_status(
        self, key: str, status: str, *, enabled_from: str | None = None, confirm: str | None = None
    ) -> t.SignIn:
        """Change the sign-in status: "disabled", "pilot", "enabled"; `confirm` is the source's label, for
        untested settings.
        """
        body = {"status": status, "enabled_from": enabled_from, "confirm": confirm}
        return cast(t.SignIn, self._call("POST", f"{self._at(key)}/status", body=body))

    def preview(self, key: str, **given: Any) -> t.ChangeEffects:
        """Return what other sign-in settings would do; `given` as in `change`."""
        return cast(t.ChangeEffects, self._call("POST", f"{self._at(key)}/preview", body=given))

    def preview_status(self, key: str, status: str) -> t.ChangeEffects:
        """Return what another sign-in status would do."""
        path = f"{self._at(key)}/status/preview"
        return cast(t.ChangeEffects, self._call("POST", path, body={"status": status}))

    def use_certificates(self, key: str) -> t.SignIn:
        """Accept the certificates in the current metadata of the provider."""
        return cast(t.SignIn, self._call("POST", f"{self._at(key)}/certificates"))

    def change_keys(self, key: str, what: str, private_key: str = "", certificate: str = "") -> t.SignIn:
        """Rotate our key without a gap: "next" creates one, "upload" takes yours, "use" activates it."""
        body = {"what": what, "private_key": private_key, "certificate": certificate}
        return cast(t.SignIn, self._call("POST", f"{self._at(key)}/keys", body=body))

    def check(self, key: str, **given: Any) -> t.SignInCheck:
        """Test sign-in settings against the provider before they are saved; `given` as in `change`."""
        return cast(t.SignInCheck, self._call("POST", f"{self._at(key)}/check", body=given))

    def change_protocol(self, key: str, protocol: str, *, confirm: str | None = None) -> t.SignIn:
        """Change the protocol of a disabled sign-in; `confirm` is the label of the source."""
        body = {"protocol": protocol, "confirm": confirm}
        return cast(t.SignIn, self._call("POST", f"{self._at(key)}/protocol", body=body))

    def preview_protocol(self, key: str, protocol: str) -> t.ChangeEffects:
        """Return what another protocol would keep and delete."""
        path = f"{self._at(key)}/protocol/preview"
        return cast(t.ChangeEffects, self._call("POST", path, body={"protocol": protocol}))

    def create_sign_in_test(
        self, key: str, user: str, *, mode: str = "observe", minutes: int = 30
    ) -> t.NewSignInTest:
        """Create a test sign-in for one user; return its link, the only time.

        `mode` is "observe" or "apply".
        """
        return cast(
            t.NewSignInTest,
            self._call(
                "POST", f"{self._at(key)}/tests", body={"user": user, "mode": mode, "minutes": minutes}
            ),
        )

    def sign_in_tests(self, key: str) -> Pages[t.SignInTest]:
        """List test sign-ins, newest first."""
        return self._dravo.pages(f"{self._at(key)}/tests")

    def traces(
        self,
        key: str,
        *,
        outcome: str | None = None,
        sign_in_test: str | None = None,
        words: str | None = None,
    ) -> Pages[t.SignInLine]:
        """List sign-ins, newest first; `outcome` is "signed_in", "observed" or "refused"."""
        return self._dravo.pages(
            f"{self._at(key)}/traces", {"outcome": outcome, "sign_in_test": sign_in_test, "q": words}
        )

    def trace(self, key: str, trace: str) -> t.SignInTrace:
        """Return one sign-in with its steps."""
        return cast(t.SignInTrace, self._call("GET", f"{self._at(key)}/traces/{part(trace)}"))

    def plan_trace(self, key: str, trace: str, policy: dict[str, Any] | None = None) -> t.PlannedSignIn:
        """Plan a stored sign-in again with the current or another source policy; nothing is changed."""
        return cast(
            t.PlannedSignIn,
            self._call("POST", f"{self._at(key)}/traces/{part(trace)}/rerun", body={"policy": policy or {}}),
        )

    def claimed_groups(self, words: str = "") -> t.GroupsInClaims:
        """Return groups from claims that do not exist yet, also from test sign-ins."""
        return cast(t.GroupsInClaims, self._call("GET", "/claimed-groups", query={"q": words}))

    def create_group(self, key: str, name: str) -> t.GroupMadeAhead:
        """Create a group with its name in the claims, to map it before the first sign-in."""
        return cast(t.GroupMadeAhead, self._call("POST", f"{self._at(key)}/groups", body={"name": name}))

    def user_sessions(self, user: str) -> t.UserSessions:
        """Return the sessions of a user."""
        return cast(t.UserSessions, self._call("GET", f"/users/{part(user)}/sessions"))

    def options(self, user: str) -> t.SignInOptions:
        """Return the sign-in options of a user, with the messages that the user would see, and the user's
        applications.
        """
        return cast(t.SignInOptions, self._call("GET", f"/users/{part(user)}/sign-in-options"))

    def end_sessions(self, user: str) -> t.UserSessions:
        """End all sessions of a user."""
        return cast(t.UserSessions, self._call("DELETE", f"/users/{part(user)}/sessions"))

    def _at(self, key: str) -> str:
        return f"/sources/{part(key)}/sign-in"

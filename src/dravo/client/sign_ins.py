"""Signing in by sources: settings with the exchange sheet, trials, traces."""

from __future__ import annotations

from typing import Any, cast

from dravo.client import types as t
from dravo.client.pages import Pages
from dravo.client.resource import Noun, part


class SignIns(Noun):
    """How people sign in by sources, and what it came to."""

    def get(self, key: str) -> t.SignIn:
        """Return how people sign in by a source, with its exchange sheet."""
        return cast(t.SignIn, self._call("GET", self._at(key)))

    def change(self, key: str, **given: Any) -> t.SignIn:
        """Set how people sign in; what is left out stays.

        Args:
            given: `protocol=` "saml", "oidc" or "mail" (the first time), `serves=` "people", "operators" or "both", `settings=`,
                `secret=`, `policy=`, `metadata=` (its text), `fields=` ({"entity_id", "sign_in", "sign_out", "certificates"}),
                `look=` (fetch what is at the address now).
        """
        return cast(t.SignIn, self._call("PUT", self._at(key), body=given))

    def forget(self, key: str) -> None:
        """Have nobody sign in by a source any more; whom it brought stay."""
        self._call("DELETE", self._at(key))

    def set_state(self, key: str, state: str, *, enabled_from: str | None = None, confirm: str | None = None) -> t.SignIn:
        """Set for whom it is in force: "off", "pilot", "everybody"; `confirm` is the source's label, where nobody has proved it yet."""
        body = {"state": state, "enabled_from": enabled_from, "confirm": confirm}
        return cast(t.SignIn, self._call("POST", f"{self._at(key)}/status", body=body))

    def use_certificates(self, key: str) -> t.SignIn:
        """Take over the certificates that the provider's metadata has now."""
        return cast(t.SignIn, self._call("POST", f"{self._at(key)}/certificates"))

    def change_keys(self, key: str, what: str) -> t.SignIn:
        """Change our key without a gap: "next" makes one, "use" has it sign."""
        return cast(t.SignIn, self._call("POST", f"{self._at(key)}/keys", body={"what": what}))

    def begin_trial(self, key: str, person: str, *, mode: str = "observe", minutes: int = 30) -> t.NewTrial:
        """Let one named person try; the link is in the answer, the only time. `mode` is "observe" or "for real"."""
        return cast(t.NewTrial, self._call("POST", f"{self._at(key)}/tests", body={"person": person, "mode": mode, "minutes": minutes}))

    def trials(self, key: str) -> Pages[t.Trial]:
        """List trials, newest first."""
        return self._dravo.pages(f"{self._at(key)}/tests")

    def traces(self, key: str, *, outcome: str | None = None, trial: str | None = None, words: str | None = None) -> Pages[t.SignInLine]:
        """List what sign-ins came to, newest first; `outcome` is "in", "observed" or "refused"."""
        return self._dravo.pages(f"{self._at(key)}/traces", {"outcome": outcome, "trial": trial, "q": words})

    def trace(self, key: str, trace: str) -> t.SignInTrace:
        """Return one sign-in whole."""
        return cast(t.SignInTrace, self._call("GET", f"{self._at(key)}/traces/{part(trace)}"))

    def plan_again(self, key: str, trace: str, policy: dict[str, Any] | None = None) -> t.PlannedSignIn:
        """Return what a kept sign-in would come to now, or with other answers; nothing is changed."""
        return cast(t.PlannedSignIn, self._call("POST", f"{self._at(key)}/traces/{part(trace)}/rerun", body={"policy": policy or {}}))

    def claimed_groups(self, words: str = "") -> t.GroupsInClaims:
        """Return groups that sign-ins claimed, trials too, and that their source does not have yet."""
        return cast(t.GroupsInClaims, self._call("GET", "/claimed-groups", query={"q": words}))

    def make_group(self, key: str, name: str) -> t.GroupMadeAhead:
        """Make a group of a source by the name in its claims, to be mapped before anybody comes."""
        return cast(t.GroupMadeAhead, self._call("POST", f"{self._at(key)}/groups", body={"name": name}))

    def visits(self, person: str) -> t.Visits:
        """Return where a person is signed in to see what is theirs."""
        return cast(t.Visits, self._call("GET", f"/users/{part(person)}/sessions"))

    def ways(self, person: str) -> t.Ways:
        """By which ways a person could sign in now, what they would be told, and what they would see."""
        return cast(t.Ways, self._call("GET", f"/users/{part(person)}/sign-in-options"))

    def end_visits(self, person: str) -> t.Visits:
        """End every visit of a person."""
        return cast(t.Visits, self._call("DELETE", f"/users/{part(person)}/sessions"))

    def _at(self, key: str) -> str:
        return f"/sources/{part(key)}/sign-in"

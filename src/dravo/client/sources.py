"""Sources, their tokens, imports and checklists."""

from __future__ import annotations

import base64
from collections.abc import Sequence
from typing import Any, cast

from dravo.client import types as t
from dravo.client.pages import Pages
from dravo.client.resource import Noun, part


class Sources(Noun):
    """Sources with their tokens, imports and setup checklists."""

    def list(self) -> Pages[t.Source]:
        """List sources."""
        return self._dravo.pages("/sources")

    def get(self, key: str) -> t.Source:
        """Return one source."""
        return cast(t.Source, self._call("GET", f"/sources/{part(key)}"))

    def add(
        self, key: str, label: str, connection_type: str = "inbound_scim", template: str | None = None
    ) -> t.Source:
        """Add a source with its first connection type: "inbound_scim", "import" or "sign_in".

        A template decides the connection type, and presets settings and policy.
        """
        body = {"key": key, "label": label, "connection_type": connection_type, "template": template}
        return cast(t.Source, self._call("POST", "/sources", body=body))

    def templates(self) -> t.SourceTemplates:
        """List the source templates."""
        return cast(t.SourceTemplates, self._call("GET", "/source-templates"))

    def change(
        self,
        key: str,
        label: str | None = None,
        domains: Sequence[str] | None = None,
        note: str | None = None,
    ) -> t.Source:
        """Change a source's label, all its email domains or its note; None keeps a value."""
        given = {"label": label, "domains": domains if domains is None else [*domains], "note": note}
        return cast(
            t.Source,
            self._call(
                "PATCH",
                f"/sources/{part(key)}",
                body={name: value for name, value in given.items() if value is not None},
            ),
        )

    def retire(self, key: str, *, confirm: str | None = None) -> t.RetiredSource:
        """Retire a source: users that no other source reports become leavers; `confirm` is the label."""
        return cast(
            t.RetiredSource, self._call("POST", f"/sources/{part(key)}/retire", body={"confirm": confirm})
        )

    def preview_retiring(self, key: str) -> t.ChangeEffects:
        """Return the effects of `retire`; nothing is changed."""
        return cast(t.ChangeEffects, self._call("POST", f"/sources/{part(key)}/retire/preview"))

    def hand_over(
        self, key: str, to: str, group: str | None = None, *, confirm: str | None = None
    ) -> t.HandOverState:
        """Hand the users over to another source: those in a group, or all; `confirm` is the label."""
        body = {"to": to, "group": group, "confirm": confirm}
        return cast(t.HandOverState, self._call("POST", f"/sources/{part(key)}/hand-over", body=body))

    def preview_hand_over(self, key: str, to: str, group: str | None = None) -> t.HandOverImpact:
        """Return the impact list of `hand_over`; nothing is changed."""
        path = f"/sources/{part(key)}/hand-over/preview"
        return cast(t.HandOverImpact, self._call("POST", path, body={"to": to, "group": group}))

    def undo_hand_over(self, key: str) -> t.HandOverState:
        """Take a hand-over back."""
        return cast(t.HandOverState, self._call("POST", f"/sources/{part(key)}/hand-over/undo"))

    def hand_over_state(self, key: str) -> t.HandOverState:
        """Return the last hand-over of a source."""
        return cast(t.HandOverState, self._call("GET", f"/sources/{part(key)}/hand-over"))

    def restore(self, key: str) -> t.RetiredSource:
        """Restore a retired source: its users, groups and memberships return."""
        return cast(t.RetiredSource, self._call("POST", f"/sources/{part(key)}/restore"))

    def policies(self, key: str) -> Sequence[t.SourcePolicyDetail]:
        """Return the policies of a source, one for each connection type that it uses."""
        found = cast(t.SourcePolicies, self._call("GET", f"/sources/{part(key)}/policy"))
        return found["items"]

    def policy(self, key: str, connection_type: str = "inbound_scim") -> t.SourcePolicyDetail:
        """Return the policy of one connection type: "inbound_scim", "import" or "sign_in"."""
        return cast(t.SourcePolicyDetail, self._call("GET", _policy(key, connection_type)))

    def change_policy(
        self, key: str, policy: dict[str, Any], connection_type: str = "inbound_scim"
    ) -> t.SourcePolicyDetail:
        """Change values of a policy, such as `{"users": 'department eq "Estates"'}`; others stay."""
        return cast(t.SourcePolicyDetail, self._call("PUT", _policy(key, connection_type), body=policy))

    def preview_policy(
        self, key: str, policy: dict[str, Any], connection_type: str = "inbound_scim"
    ) -> t.PolicyPreview:
        """Preview another policy with all stored users; nothing is changed."""
        path = f"{_policy(key, connection_type)}/preview"
        return cast(t.PolicyPreview, self._call("POST", path, body=policy))

    def set_status(
        self,
        key: str,
        status: str,
        connection_type: str = "inbound_scim",
        enabled_from: str | None = None,
        confirm: str | None = None,
    ) -> t.SourcePolicyDetail:
        """Change the status of a connection type: "disabled", "pilot" or "enabled"."""
        body = {"status": status, "enabled_from": enabled_from, "confirm": confirm}
        path = f"{_policy(key, connection_type)}/status"
        return cast(t.SourcePolicyDetail, self._call("PUT", path, body=body))

    def preview_status(self, key: str, status: str, connection_type: str = "inbound_scim") -> t.ChangeEffects:
        """Return the effects of `set_status`; nothing is changed."""
        path = f"{_policy(key, connection_type)}/status/preview"
        return cast(t.ChangeEffects, self._call("POST", path, body={"status": status}))

    def links(self, key: str) -> Pages[t.LinkAhead]:
        """List links that wait for their first record."""
        return self._dravo.pages(f"/sources/{part(key)}/links")

    def link_ahead(self, key: str, subject: str, user: str, connection_type: str = "sign_in") -> t.LinkAhead:
        """Link the first record with a subject, or ID of an import, to a user."""
        body = {"subject": subject, "user": user, "connection_type": connection_type}
        return cast(t.LinkAhead, self._call("POST", f"/sources/{part(key)}/links", body=body))

    def remove_link(self, key: str, link_id: str) -> None:
        """Remove a link that waits."""
        self._call("DELETE", f"/sources/{part(key)}/links/{part(link_id)}")

    def matching_groups(self, key: str, *, names: Sequence[str] = (), pattern: str = "") -> t.GroupMatches:
        """Return the groups of a source that have one of some names or IDs, or match a pattern, now."""
        which = "pattern" if pattern else "named"
        body = {"which": which, "names": list(names), "pattern": pattern}
        return cast(t.GroupMatches, self._call("POST", f"/sources/{part(key)}/group-matches", body=body))

    def left_out(self, key: str, reason: str | None = None) -> Pages[t.RecordStanding]:
        """List records of inbound SCIM that do not count; `reason` limits the list."""
        return self._dravo.pages(f"/sources/{part(key)}/left-out", {"reason": reason})

    def remove(self, key: str) -> None:
        """Delete a source without users and groups."""
        self._call("DELETE", f"/sources/{part(key)}")

    def checklist(self, key: str) -> t.SetupChecklist:
        """Return the setup checklist of a source's inbound SCIM."""
        return cast(t.SetupChecklist, self._call("GET", f"/sources/{part(key)}/checklist"))

    def tokens(self, key: str) -> Pages[t.ScimToken]:
        """List the SCIM tokens of a source, without their secrets."""
        return self._dravo.pages(f"/sources/{part(key)}/tokens")

    def add_token(
        self,
        key: str,
        label: str,
        expires_at: str | None = None,
        *,
        kinds: str = "both",
        access: str = "write",
    ) -> t.NewScimToken:
        """Make a push token for `kinds` "users", "groups" or "both"; its text is in the answer, the only
        time.
        """
        body = {"label": label, "expires_at": expires_at, "kinds": kinds, "access": access}
        return cast(t.NewScimToken, self._call("POST", f"/sources/{part(key)}/tokens", body=body))

    def revoke_token(self, key: str, token_id: str) -> None:
        """Revoke a SCIM token."""
        self._call("DELETE", f"/sources/{part(key)}/tokens/{part(token_id)}")

    def schemas(self, key: str) -> Sequence[t.SourceSchema]:
        """Return the extension schemas of a source."""
        return cast(t.SourceSchemas, self._call("GET", f"/sources/{part(key)}/schemas"))["items"]

    def add_schema(self, key: str, kind: str, document: dict[str, Any]) -> Sequence[t.SourceSchema]:
        """Add an extension schema (RFC 7643, section 7) to a source's users ("User") or groups ("Group")."""
        body = {"kind": kind, "document": document}
        return cast(t.SourceSchemas, self._call("POST", f"/sources/{part(key)}/schemas", body=body))["items"]

    def remove_schema(self, key: str, urn: str) -> None:
        """Remove an extension schema from a source."""
        self._call("DELETE", f"/sources/{part(key)}/schemas/{part(urn)}")

    def requests(
        self, key: str, *, words: str | None = None, outcome: str | None = None, method: str | None = None
    ) -> Pages[t.ScimRequestLine]:
        """List the SCIM requests of a source, newest first; `outcome` is "refused", "changed" or "read"."""
        return self._dravo.pages(
            f"/sources/{part(key)}/requests", {"q": words, "outcome": outcome, "method": method}
        )

    def request(self, key: str, request_id: str) -> t.ScimRequestDetail:
        """Return one request with its body."""
        return cast(
            t.ScimRequestDetail, self._call("GET", f"/sources/{part(key)}/requests/{part(request_id)}")
        )

    def preview_priority(self, key: str, **values: Any) -> t.Preview:
        """Preview another priority of a source; the values as in `change_priority`."""
        return cast(t.Preview, self._call("POST", f"/sources/{part(key)}/priority/preview", body=values))

    def change_priority(self, key: str, *, confirm: str | None = None, **values: Any) -> t.Source:
        """Change the priority of a source: `priority`, `deactivation_wins`, `updates`, `members_from`.

        Args:
            confirm: the label of the source; required for a serious change.
        """
        return cast(
            t.Source, self._call("PUT", f"/sources/{part(key)}/priority", body={**values, "confirm": confirm})
        )

    # Import

    def connectors(self) -> Sequence[t.Connector]:
        """Return the connectors with their settings."""
        return cast(t.Connectors, self._call("GET", "/connectors"))["items"]

    def import_settings(self, key: str) -> t.ImportSettings:
        """Return the import settings of a source."""
        return cast(t.ImportSettings, self._call("GET", f"/sources/{part(key)}/import"))

    def change_import(self, key: str, **values: Any) -> t.ImportSettings:
        """Change the import settings of a source; omitted values stay.

        Values: `kind` (required once), `settings`, `secret`, `schedule`, `policy`, `enabled`, `enabled_from`.
        """
        return cast(t.ImportSettings, self._call("PUT", f"/sources/{part(key)}/import", body=values))

    def remove_import(self, key: str) -> None:
        """Remove the import of a source; its users stay."""
        self._call("DELETE", f"/sources/{part(key)}/import")

    def check(self, key: str, **values: Any) -> t.ImportCheck:
        """Test a source's connection step by step, as saved, or with other `kind`, `settings`, `secret`."""
        return cast(t.ImportCheck, self._call("POST", f"/sources/{part(key)}/import/check", body=values))

    def upload(self, key: str, name: str, content: bytes) -> t.ImportSettings:
        """Upload a file of a source, "users.csv", "groups.csv" or "memberships.csv", in place of the former
        one.
        """
        body = {"name": name, "content": base64.b64encode(content).decode()}
        return cast(t.ImportSettings, self._call("POST", f"/sources/{part(key)}/import/files", body=body))

    def runs(self, key: str) -> Pages[t.ImportRun]:
        """List the import runs of a source, newest first."""
        return self._dravo.pages(f"/sources/{part(key)}/import/runs")

    def start_run(
        self,
        key: str,
        *,
        preview: bool = False,
        whole: bool = False,
        allow_removals: bool = False,
        confirm: str | None = None,
    ) -> t.ImportRun:
        """Start an import run, or a preview of one."""
        body = {"preview": preview, "whole": whole, "allow_removals": allow_removals, "confirm": confirm}
        return cast(t.ImportRun, self._call("POST", f"/sources/{part(key)}/import/runs", body=body))

    def run(self, key: str, run_id: str) -> t.ImportRun:
        """Return one import run with its progress or result."""
        return cast(t.ImportRun, self._call("GET", f"/sources/{part(key)}/import/runs/{part(run_id)}"))

    def stop_run(self, key: str, run_id: str) -> t.ImportRun:
        """Stop an import run at its next batch."""
        return cast(t.ImportRun, self._call("POST", f"/sources/{part(key)}/import/runs/{part(run_id)}/stop"))

    def run_entries(
        self, key: str, run_id: str, *, kind: str | None = None, words: str | None = None
    ) -> Pages[t.ImportRunEntry]:
        """List the entries of an import run."""
        return self._dravo.pages(
            f"/sources/{part(key)}/import/runs/{part(run_id)}/entries", {"kind": kind, "q": words}
        )

    def refresh(self, key: str, user: str) -> t.ImportRun:
        """Refresh one user of a source now, by ID."""
        return cast(t.ImportRun, self._call("POST", f"/sources/{part(key)}/users/{part(user)}/refresh"))

    def conflicts(self, key: str, *, status: str = "open") -> Pages[t.SourceConflict]:
        """List the conflicts of a source."""
        return self._dravo.pages(f"/sources/{part(key)}/conflicts", {"status": status})

    def decide_many(self, key: str, conflict_ids: Sequence[str], decision: str) -> t.ConflictDecisions:
        """Decide several conflicts in the same way: "link" (to the only possible user), "create", "accept" or
        "ignore".
        """
        body = {"ids": list(conflict_ids), "decision": decision}
        return cast(t.ConflictDecisions, self._call("POST", f"/sources/{part(key)}/conflicts", body=body))

    def decide(self, key: str, conflict_id: str, decision: str, user: str | None = None) -> t.SourceConflict:
        """Decide a conflict: "link" (with `user`), "create", "accept" or "ignore"."""
        body = {"decision": decision, "user": user}
        return cast(
            t.SourceConflict,
            self._call("POST", f"/sources/{part(key)}/conflicts/{part(conflict_id)}", body=body),
        )


def _policy(key: str, connection_type: str) -> str:
    return f"/sources/{part(key)}/policy/{part(connection_type)}"

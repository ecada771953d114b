"""Applications: roles, mapping, settings, connections, drift."""

from __future__ import annotations

import base64
import builtins
from collections.abc import Iterator, Sequence
from typing import Any, cast

from dravo.client import types as t
from dravo.client.pages import Pages
from dravo.client.resource import Noun, part


class Applications(Noun):
    """Applications with their roles, plans and connections."""

    def list(self) -> Pages[t.ApplicationLine]:
        """List applications."""
        return self._dravo.pages("/applications")

    def get(self, key: str) -> t.Application:
        """Return one application."""
        return cast(t.Application, self._call("GET", f"/applications/{part(key)}"))

    def add(
        self,
        key: str,
        label: str,
        *,
        owner: str | None = None,
        tracked_only: bool = False,
        **template: Any,
    ) -> t.Application:
        """Add an application.

        Args:
            template: `template`: the key of a template; `answers`: to its questions, by name.
        """
        body = {"key": key, "label": label, "owner": owner, "tracked_only": tracked_only, **template}
        return cast(t.Application, self._call("POST", "/applications", body=body))

    def set_icon(self, key: str, image: bytes) -> t.Application:
        """Upload the icon of an application: PNG, JPEG, WebP or GIF."""
        body = {"image": base64.b64encode(image).decode()}
        return cast(t.Application, self._call("PUT", f"/applications/{part(key)}/icon", body=body))

    def icon(self, key: str) -> Iterator[bytes]:
        """Return the icon of an application as PNG, piece by piece."""
        return self._dravo.stream(f"/applications/{part(key)}/icon", {})

    def remove_icon(self, key: str) -> t.Application:
        """Delete the icon of an application."""
        return cast(t.Application, self._call("DELETE", f"/applications/{part(key)}/icon"))

    def copy(self, key: str, new_key: str, label: str) -> t.Application:
        """Copy an application as another instance, without its address, token and assignments."""
        body = {"key": new_key, "label": label}
        return cast(t.Application, self._call("POST", f"/applications/{part(key)}/copy", body=body))

    def check_password(self, key: str, name: str, password: str, *, code: str = "") -> t.PasswordCheck:
        """Check the password of a local user for an application with its own sign-in form.

        Returns:
            The outcome, and for a user with access the user and the roles.
        """
        body = {"name": name, "password": password, "code": code}
        return cast(
            t.PasswordCheck, self._call("POST", f"/applications/{part(key)}/password-check", body=body)
        )

    def templates(self) -> builtins.list[t.ApplicationTemplate]:
        """Return the application templates."""
        found = cast(t.ApplicationTemplates, self._call("GET", "/application-templates"))
        return found["items"]

    def create_template(
        self, key: str, application: str, label: str, description: str = ""
    ) -> t.ApplicationTemplate:
        """Create a template from an application."""
        body = {"key": key, "application": application, "label": label, "description": description}
        return cast(t.ApplicationTemplate, self._call("POST", "/application-templates", body=body))

    def add_several(self, templates: Sequence[str], owner: str | None = None) -> t.AddedApplications:
        """Add an application for each template, one at a time; return what was added, and why others were
        not.
        """
        body = {"templates": list(templates), "owner": owner}
        return cast(t.AddedApplications, self._call("POST", "/applications/several", body=body))

    def template(self, key: str) -> dict[str, Any]:
        """Return a template as a data file has it."""
        found = self._call("GET", f"/application-templates/{part(key)}")
        return cast(t.TemplateDocument, found)["document"]

    def save_template(self, key: str, document: dict[str, Any]) -> t.ApplicationTemplate:
        """Create or replace a template of your organization from a data file."""
        path = f"/application-templates/{part(key)}"
        return cast(t.ApplicationTemplate, self._call("PUT", path, body={"document": document}))

    def template_schema(self) -> dict[str, Any]:
        """Return the JSON Schema of templates."""
        return cast(t.TemplateSchema, self._call("GET", "/application-templates/schema"))["json_schema"]

    def delete_template(self, key: str) -> None:
        """Delete a template of your organization."""
        self._call("DELETE", f"/application-templates/{part(key)}")

    def change(self, key: str, **values: Any) -> t.Application:
        """Change label, owner or settings, such as `enabled=True` or `on_leaving="delete"`."""
        return cast(t.Application, self._call("PATCH", f"/applications/{part(key)}", body=values))

    def remove(self, key: str, confirm: str | None) -> None:
        """Remove an application without access; its label confirms."""
        self._call("DELETE", f"/applications/{part(key)}", query={"confirm": confirm})

    def preview_removal(self, key: str) -> t.ChangeEffects:
        """Return the effects of `remove`; nothing is changed."""
        return cast(t.ChangeEffects, self._call("GET", f"/applications/{part(key)}/removal"))

    def set_status(self, key: str, status: str, **more: Any) -> t.Application:
        """Change the provisioning status.

        Args:
            status: "disabled", "pilot" or "enabled".
            more: `pilot_group`: by ID, external ID or name, with the key of its `source`; without it, the
                present one stays. `enabled_from`: with "disabled", the time at which it is enabled.
        """
        body = {"status": status, **more}
        return cast(t.Application, self._call("PUT", f"/applications/{part(key)}/status", body=body))

    def preview_status(self, key: str, status: str, **more: Any) -> t.ChangeEffects:
        """Return what another status would do; the values as in `set_status`."""
        body = {"status": status, **more}
        path = f"/applications/{part(key)}/status/preview"
        return cast(t.ChangeEffects, self._call("POST", path, body=body))

    def preview_tracked_only(self, key: str, *, tracked_only: bool) -> t.ChangeEffects:
        """Return what `change(key, tracked_only=...)` would do; nothing is changed."""
        path = f"/applications/{part(key)}/tracked-only/preview"
        return cast(t.ChangeEffects, self._call("POST", path, body={"tracked_only": tracked_only}))

    def checklist(self, key: str) -> t.ApplicationChecklist:
        """Return the setup checklist: what both sides need, what is missing, what traffic has verified."""
        return cast(t.ApplicationChecklist, self._call("GET", f"/applications/{part(key)}/checklist"))

    def add_role(
        self, key: str, role: str, label: str, rank: int = 1, *, sent_value: str = "", description: str = ""
    ) -> t.Application:
        """Add a role.

        Args:
            rank: a higher rank means more permissions.
            sent_value: what is sent to the application for the role, such as a URN; "" for the key.
            description: what the role permits.
        """
        body = {"key": role, "label": label, "rank": rank}
        body |= {"sent_value": sent_value, "description": description}
        return cast(t.Application, self._call("POST", f"/applications/{part(key)}/roles", body=body))

    def change_role(
        self,
        key: str,
        role: str,
        *,
        confirm: str | None = None,
        **values: Any,
    ) -> t.Application:
        """Change a role: `label=`, `rank=`, `sent_value=`, `description=`; `confirm` is the label of the
        application.
        """
        path = f"/applications/{part(key)}/roles/{part(role)}"
        return cast(t.Application, self._call("PATCH", path, body={**values, "confirm": confirm}))

    def preview_role(self, key: str, role: str, **values: Any) -> t.ChangeEffects:
        """Return what other values of a role would do; the values as in `change_role`."""
        path = f"/applications/{part(key)}/roles/{part(role)}/preview"
        return cast(t.ChangeEffects, self._call("POST", path, body=values))

    def remove_role(self, key: str, role: str) -> t.Application:
        """Remove a role that was never assigned."""
        return cast(t.Application, self._call("DELETE", f"/applications/{part(key)}/roles/{part(role)}"))

    def add_plan(
        self, key: str, plan: str, label: str, *, seats: int | None = None, rank: int = 1, **values: str
    ) -> t.Application:
        """Create a license plan; without `seats` there is no limit. Also `sent_value=` and `description=`."""
        body = {"key": plan, "label": label, "seats": seats, "rank": rank, **values}
        return cast(t.Application, self._call("POST", f"/applications/{part(key)}/license-plans", body=body))

    def change_plan(self, key: str, plan: str, **values: Any) -> t.Application:
        """Change a license plan: `label=`, `rank=`, `seats=` (0: no limit; users keep their seats),
        `sent_value=`, `description=`.
        """
        path = f"/applications/{part(key)}/license-plans/{part(plan)}"
        return cast(t.Application, self._call("PATCH", path, body=values))

    def preview_plan(self, key: str, plan: str, **values: Any) -> t.ChangeEffects:
        """Return what other values of a license plan would do; the values as in `change_plan`."""
        path = f"/applications/{part(key)}/license-plans/{part(plan)}/preview"
        return cast(t.ChangeEffects, self._call("POST", path, body=values))

    def remove_plan(self, key: str, plan: str) -> t.Application:
        """Remove a license plan that was never assigned."""
        return cast(
            t.Application, self._call("DELETE", f"/applications/{part(key)}/license-plans/{part(plan)}")
        )

    def seats(self, key: str, plan: str | None = None, *, waiting: bool | None = None) -> Pages[t.Seat]:
        """List users with a seat by name, or users on the waiting list by position."""
        return self._dravo.pages(f"/applications/{part(key)}/seats", {"plan": plan, "waiting": waiting})

    def mapping(self, key: str) -> Pages[t.Assignment]:
        """List the role mapping with the number of users and warnings."""
        return self._dravo.pages(f"/applications/{part(key)}/mapping")

    def map_many(self, key: str, text: str, *, apply: bool = False) -> t.Bulk:
        """Map many groups at once, by lines of `source, group, role`; a preview, unless `apply` is set."""
        return cast(
            t.Bulk,
            self._call(
                "POST", f"/applications/{part(key)}/mapping/bulk", body={"text": text, "apply": apply}
            ),
        )

    def preview_pattern(self, key: str, source: str, pattern: str) -> t.PatternTried:
        """Preview which groups of a source match a pattern, and their roles."""
        body = {"source": source, "pattern": pattern}
        return cast(
            t.PatternTried, self._call("POST", f"/applications/{part(key)}/mapping/pattern", body=body)
        )

    def change_policy(self, key: str, **policy: Any) -> t.Application:
        """Change the access policy: `eligibility=`, `fallback=`, `fallback_role=`, `several=` or `first=`."""
        return cast(t.Application, self._call("PUT", f"/applications/{part(key)}/policy", body=policy))

    def preview_policy(self, key: str, **policy: str | None) -> t.Preview:
        """Preview another access policy."""
        return cast(t.Preview, self._call("POST", f"/applications/{part(key)}/policy/preview", body=policy))

    def preview_settings(self, key: str, **values: Any) -> t.SettingsPreview:
        """Preview the accounts that `change` would change."""
        return cast(
            t.SettingsPreview, self._call("POST", f"/applications/{part(key)}/settings/preview", body=values)
        )

    def groups(self, key: str) -> Pages[t.ProvisionedGroup]:
        """List the provisioned groups of an application with their status."""
        return self._dravo.pages(f"/applications/{part(key)}/groups")

    def retry_group(self, key: str, group_id: str) -> None:
        """Retry a provisioned group now."""
        self._call("POST", f"/applications/{part(key)}/groups/{part(group_id)}/retry")

    def reconcile(self, key: str) -> t.Run:
        """Start a reconciliation; `run` shows its progress."""
        return cast(t.Run, self._call("POST", f"/applications/{part(key)}/reconciliation/runs"))

    def runs(self, key: str) -> Pages[t.Run]:
        """List the reconciliations of an application, newest first."""
        return self._dravo.pages(f"/applications/{part(key)}/reconciliation/runs")

    def run(self, run_id: str) -> t.Run:
        """Return one reconciliation."""
        return cast(t.Run, self._call("GET", f"/reconciliation/runs/{part(run_id)}"))

    def stop_run(self, run_id: str) -> t.Run:
        """Stop a reconciliation at its next page."""
        return cast(t.Run, self._call("POST", f"/reconciliation/runs/{part(run_id)}/stop"))

    def drift(self, key: str, *, kind: str | None = None, status: str | None = None) -> Pages[t.DriftLine]:
        """List the differences of an application, as of the last complete reconciliation."""
        return self._dravo.pages(f"/applications/{part(key)}/drift", {"kind": kind, "status": status})

    def repair_drift(self, key: str, ids: Sequence[str]) -> int:
        """Repair accounts; return how many."""
        return cast(
            t.Number, self._call("POST", f"/applications/{part(key)}/drift/repair", body={"ids": list(ids)})
        )["number"]

    def preview_repair(self, key: str, ids: Sequence[str]) -> t.RepairPreview:
        """Return what a repair would do to each account and group."""
        path = f"/applications/{part(key)}/drift/repair/preview"
        return cast(t.RepairPreview, self._call("POST", path, body={"ids": list(ids)}))

    def ignore_drift(self, key: str, ids: Sequence[str], *, ignored: bool = True) -> int:
        """Ignore differences, or stop ignoring them; return how many."""
        body = {"ids": list(ids), "ignored": ignored}
        return cast(t.Number, self._call("POST", f"/applications/{part(key)}/drift/ignore", body=body))[
            "number"
        ]

    def adopt_accounts(self, key: str, ids: Sequence[str], *, create_users: bool = False) -> t.FoundAccounts:
        """Link accounts without a user to the users who match, one at a time.

        Args:
            ids: IDs of the differences, at most 1,000.
            create_users: whether to create users for accounts that match no user.
        """
        body = {"ids": list(ids), "create_users": create_users}
        return cast(t.FoundAccounts, self._call("POST", f"/applications/{part(key)}/drift/adopt", body=body))

    def preview_adopting(
        self, key: str, ids: Sequence[str], *, create_users: bool = False
    ) -> t.FoundAccounts:
        """Return what `adopt_accounts` would do; nothing is changed."""
        body = {"ids": list(ids), "create_users": create_users}
        path = f"/applications/{part(key)}/drift/adopt/preview"
        return cast(t.FoundAccounts, self._call("POST", path, body=body))

    def compare_accounts(
        self, key: str, *, status: str | None = None, words: str | None = None
    ) -> Pages[t.ComparedAccount]:
        """List the application's accounts beside the desired ones, as of the last reconciliation.

        Args:
            status: "same", "different", "missing", "pending", "unexpected" or "ignored".
            words: a part of the name, or an ID in the application.
        """
        query = {"status": status, "q": words}
        return self._dravo.pages(f"/applications/{part(key)}/account-comparison", query)

    def link_drift(self, key: str, drift_id: str, user: str) -> None:
        """Link an account without a user to a user."""
        self._call("POST", f"/applications/{part(key)}/drift/{part(drift_id)}/link", body={"user": user})

    def create_user(
        self, key: str, drift_id: str, role: str | None = None, confirm: str | None = None
    ) -> str:
        """Create a local user for an unlinked account, with its role or another one; return the user's ID.

        `confirm` is the name of the account, where the user would get more than that role.
        """
        return str(
            self._call(
                "POST",
                f"/applications/{part(key)}/drift/{part(drift_id)}/create-user",
                body={"role": role, "confirm": confirm},
            )["user"]
        )

    def connect(
        self,
        key: str,
        base_url: str,
        token: str | None = None,
        *,
        auth: dict[str, Any] | None = None,
        expires_at: str | None = None,
    ) -> t.Application:
        """Save the connection of an application.

        Args:
            key: the key of the application.
            base_url: the base URL of its SCIM service.
            token: the bearer token, password or client secret; None keeps the stored one.
            auth: {"kind": "basic", "user": ...} or {"kind": "client credentials", "token_url", "client_id",
                "scope"}; None for a bearer token.
            expires_at: the expiry of the secret, if known.
        """
        body = {"base_url": base_url, "token": token, "auth": auth, "expires_at": expires_at}
        return cast(t.Application, self._call("PUT", f"/applications/{part(key)}/connection", body=body))

    def check(self, key: str, *, with_test_user: bool = False) -> t.Check:
        """Test the connection step by step; `with_test_user` creates, changes and deletes a user."""
        query = {"with_test_user": with_test_user}
        return cast(t.Check, self._call("POST", f"/applications/{part(key)}/connection/test", query=query))

    def preview_connection(
        self, key: str, base_url: str, token: str | None = None, *, auth: dict[str, Any] | None = None
    ) -> t.Check:
        """Test a connection before it is saved; the values as in `connect`."""
        body = {"base_url": base_url, "token": token, "auth": auth}
        path = f"/applications/{part(key)}/connection/preview"
        return cast(t.Check, self._call("POST", path, body=body))

    def available_roles(self, key: str) -> t.AvailableRoles:
        """Return the roles, entitlements and groups that the application was seen with."""
        return cast(t.AvailableRoles, self._call("GET", f"/applications/{part(key)}/available-roles"))

    def pause(self, key: str) -> t.Application:
        """Pause provisioning to an application."""
        return cast(t.Application, self._call("POST", f"/applications/{part(key)}/pause"))

    def resume(self, key: str) -> t.Application:
        """Resume provisioning to an application."""
        return cast(t.Application, self._call("POST", f"/applications/{part(key)}/resume"))

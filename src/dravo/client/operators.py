"""Operators and API tokens."""

from __future__ import annotations

from collections.abc import Sequence
from typing import cast

from dravo.client import types as t
from dravo.client.pages import Pages
from dravo.client.resource import Noun, part


class Operators(Noun):
    """Operators."""

    def list(self) -> Pages[t.Operator]:
        """List operators."""
        return self._dravo.pages("/operators")

    def add(
        self,
        name: str,
        kind: str = "administrator",
        password: str | None = None,
        applications: Sequence[str] = (),
        **view: object,
    ) -> t.NewOperator:
        """Create an operator; without a password one is generated and returned, the only time.

        Args:
            kind: "super_administrator", "administrator", "help_desk", "auditor" or "application_owner".
            applications: the keys of an application owner's applications.
            view: `email`: the address for notices. For help desk and auditors, `masked`, `masked_names` and
                `masked_networks`: mask users' attributes, their names, or network addresses;
                `hidden_areas`: "requests", "sign_ins" and "audit" hide these areas.
        """
        body = {
            "name": name,
            "kind": kind,
            "password": password,
            "applications": [*applications],
            **view,
        }
        return cast(t.NewOperator, self._call("POST", "/operators", body=body))

    def change(self, operator_id: str, **changes: object) -> t.Operator:
        """Change an operator: `name`, `kind`, `email`, `applications`, and the view, as in `add`."""
        return cast(t.Operator, self._call("PATCH", f"/operators/{part(operator_id)}", body=changes))

    def reset_second_factor(self, operator_id: str) -> t.Operator:
        """Reset the second factor of an operator who lost the app and the recovery codes."""
        return cast(t.Operator, self._call("POST", f"/operators/{part(operator_id)}/second-factor/reset"))

    def new_password(self, operator_id: str) -> t.NewOperator:
        """Reset an operator's password; return the new one, the only time."""
        return cast(t.NewOperator, self._call("POST", f"/operators/{part(operator_id)}/password"))

    def own_links(self) -> t.OperatorLinks:
        """Return the sources through which you sign in, and those to link; links are made in the console."""
        return cast(t.OperatorLinks, self._call("GET", "/session/links"))

    def unlink(self, link_id: str) -> t.OperatorLinks:
        """Remove the link of a source to your operator."""
        return cast(t.OperatorLinks, self._call("DELETE", f"/session/links/{part(link_id)}"))

    def disable(self, operator_id: str) -> t.Operator:
        """Disable an operator."""
        return cast(t.Operator, self._call("POST", f"/operators/{part(operator_id)}/disable"))

    def enable(self, operator_id: str) -> t.Operator:
        """Enable a disabled operator."""
        return cast(t.Operator, self._call("POST", f"/operators/{part(operator_id)}/enable"))


class Tokens(Noun):
    """API tokens: your own, and as a super administrator everyone's."""

    def list(self, *, of_all: bool = False) -> Pages[t.ApiToken]:
        """List your API tokens, or those of all operators, without their texts."""
        return self._dravo.pages("/tokens", {"whose": "all" if of_all else "own"})

    def add(
        self,
        label: str,
        scope: str = "read",
        expires_at: str | None = None,
        permissions: Sequence[str] | None = None,
    ) -> t.NewApiToken:
        """Create an API token. Its text is in this answer only.

        Args:
            scope: "read" or "write".
            expires_at: such as 2031-12-31T00:00:00Z; None for no expiry.
            permissions: the permissions of the token; None for all yours.
        """
        body = {
            "label": label,
            "scope": scope,
            "expires_at": expires_at,
            "permissions": None if permissions is None else [*permissions],
        }
        return cast(t.NewApiToken, self._call("POST", "/tokens", body=body))

    def revoke(self, token_id: str) -> None:
        """Revoke one of your tokens; super administrators can revoke all tokens."""
        self._call("DELETE", f"/tokens/{part(token_id)}")

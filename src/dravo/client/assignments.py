"""Assignments: who gets which role."""

from __future__ import annotations

import builtins
from collections.abc import Mapping, Sequence
from typing import Any, cast

from dravo.client import types as t
from dravo.client.pages import Pages
from dravo.client.resource import Noun, part


class Assignments(Noun):
    """Assignments: a role for a user or a group."""

    def list(
        self,
        *,
        application: str | None = None,
        user: str | None = None,
        group: str | None = None,
        direct: bool | None = None,
    ) -> Pages[t.Assignment]:
        """List assignments; `user` and `group` are IDs, `direct` lists only those of single users."""
        return self._dravo.pages(
            "/assignments", {"application": application, "user": user, "group": group, "direct": direct}
        )

    def get(self, assignment_id: str) -> t.Assignment:
        """Return one assignment."""
        return cast(t.Assignment, self._call("GET", f"/assignments/{part(assignment_id)}"))

    def add(self, application: str, role: str | None, **whom: Any) -> t.Assignment:
        """Create an assignment; return it.

        It is for one of `user=`, `group=` of `source=`, `everyone=True`, users who match a `rule=`, or groups
        of a `source=` whose names match a `pattern=` (then without a role). Without a role users are
        eligible only; with `excludes=True` they are excluded.

        Further values: `from_=` and `until=` (an instant or a day), `new_users_only=True`, `confirmed=` (IDs
        of groups that may assign the highest role through a pattern), `plan=`, `note=`. For a rule:
        `source=` (the source that must report the attributes), and `future_users=True` (users who match later
        need no confirmation). `confirm=` is the label of the application, for a serious change, such as one
        that gives its highest role.
        """
        return cast(t.Assignment, self._call("POST", "/assignments", body=_wish(application, role, whom)))

    def preview(self, application: str, role: str | None, **whom: Any) -> t.Preview:
        """Preview `add`."""
        return cast(
            t.Preview, self._call("POST", "/assignments/preview", body=_wish(application, role, whom))
        )

    def add_users(
        self, application: str, role: str | None, users: Sequence[str], **more: Any
    ) -> builtins.list[t.Assignment]:
        """Create the same assignment for several users, all or none; further values as in `add`."""
        body = {**_wish(application, role, more), "users": [*users]}
        made = cast(t.CreatedAssignments, self._call("POST", "/assignments/users", body=body))
        return made["items"]

    def preview_users(
        self, application: str, role: str | None, users: Sequence[str], **more: Any
    ) -> t.Preview:
        """Preview `add_users`."""
        body = {**_wish(application, role, more), "users": [*users]}
        return cast(t.Preview, self._call("POST", "/assignments/users/preview", body=body))

    def change(self, assignment_id: str, *, confirm: str | None = None, **values: str | None) -> t.Assignment:
        """Replace the dates (`from_=`, `until=`) and the note (`note=`) of an assignment.

        Args:
            confirm: the label of the application, for a serious change.
            values: also `plan=` for its license plan ("" for none), and `role=` for another role of a user or
                a group; without these they stay.
        """
        body = {**_named(values), "confirm": confirm}
        return cast(t.Assignment, self._call("PUT", f"/assignments/{part(assignment_id)}", body=body))

    def preview_change(self, assignment_id: str, **values: str | None) -> t.Preview:
        """Return the effects of `change`; the values as there."""
        path = f"/assignments/{part(assignment_id)}/preview"
        return cast(t.Preview, self._call("POST", path, body=_named(values)))

    def remove(self, assignment_id: str, confirm: str | None = None) -> None:
        """Delete an assignment; `confirm` is the label of the application, for a serious change."""
        self._call("DELETE", f"/assignments/{part(assignment_id)}", query={"confirm": confirm})

    def confirm(self, assignment_id: str, groups: Sequence[str]) -> t.Assignment:
        """Confirm the groups, by ID, that may assign the highest role through a pattern."""
        now = self.get(assignment_id)
        body = {
            "from": now["from_day"] or now["from"],
            "until": now["until_day"] or now["until"],
            "note": now["note"],
            "confirmed": [*groups],
        }
        return cast(t.Assignment, self._call("PUT", f"/assignments/{part(assignment_id)}", body=body))

    def waiting(self, assignment_id: str) -> Pages[t.UserRef]:
        """List users who match a rule for the highest role and wait for confirmation."""
        return self._dravo.pages(f"/assignments/{part(assignment_id)}/waiting")

    def confirm_users(
        self, assignment_id: str, users: Sequence[str] | None = None, confirm: str | None = None
    ) -> t.Assignment:
        """Confirm users who match a rule: they get its role.

        Args:
            users: their IDs; None for all who wait now.
            confirm: the label of the application, for a serious change.
        """
        body = {"users": None if users is None else [*users], "confirm": confirm}
        return cast(
            t.Assignment, self._call("POST", f"/assignments/{part(assignment_id)}/confirm", body=body)
        )

    def preview_confirming(self, assignment_id: str, users: Sequence[str] | None = None) -> t.Preview:
        """Preview `confirm_users`."""
        body = {"users": None if users is None else [*users]}
        return cast(
            t.Preview, self._call("POST", f"/assignments/{part(assignment_id)}/confirm/preview", body=body)
        )

    def matching_users(self, rule: str) -> t.MatchingUsers:
        """Return the users who match a rule."""
        return cast(t.MatchingUsers, self._call("POST", "/rules/matches", body={"rule": rule}))

    def preview_removal(self, assignment_id: str) -> t.Preview:
        """Preview `remove`."""
        return cast(t.Preview, self._call("GET", f"/assignments/{part(assignment_id)}/removal"))


def _wish(application: str, role: str | None, whom: dict[str, Any]) -> dict[str, Any]:
    return {
        "application": application,
        "role": role,
        **{name.rstrip("_"): value for name, value in whom.items()},
    }


def _named(values: Mapping[str, str | None]) -> dict[str, str | None]:
    """Return values by their names in the API: `from` is no name in Python."""
    return {("from" if name == "from_" else name): value for name, value in values.items()}

"""Users, invitations and groups."""

from __future__ import annotations

import builtins
from base64 import b64encode
from collections.abc import Mapping, Sequence
from typing import Any, cast

from dravo.client import types as t
from dravo.client.pages import Pages
from dravo.client.resource import Noun, part


class Users(Noun):
    """Users with their access and its reasons, and local users."""

    def list(self, *, words: str | None = None, status: str | None = None) -> Pages[t.UserLine]:
        """List users by name."""
        return self._dravo.pages("/users", {"q": words, "status": status})

    def get(self, user: str) -> t.User:
        """Return one user by id, user name, email or external id."""
        return cast(t.User, self._call("GET", f"/users/{part(user)}"))

    def preview_move(self, record_id: str, to: str | None = None) -> t.Preview:
        """Preview linking a record to another user, or to a new one; nothing is changed."""
        return cast(
            t.Preview, self._call("POST", f"/records/{part(record_id)}/link/preview", body={"to": to})
        )

    def move_record(self, record_id: str, to: str | None = None, *, confirm: str | None = None) -> t.User:
        """Link a record to another user, or to a new one; returns that user."""
        return cast(
            t.User,
            self._call("POST", f"/records/{part(record_id)}/link", body={"to": to, "confirm": confirm}),
        )

    def add(self, user_name: str, **fields: Any) -> t.User:
        """Create a local user: `given_name=`, `family_name=`, `email=` and other fields of `t.LocalUser`."""
        return cast(t.User, self._call("POST", "/users", body={"user_name": user_name, **fields}))

    def local(self, user: str) -> t.LocalUser:
        """Return the attributes of a local user as fields, to change them."""
        return cast(t.LocalUser, self._call("GET", f"/users/{part(user)}/local"))

    def change(self, user: str, user_name: str, **fields: Any) -> t.User:
        """Replace the attributes of a local user, with fields as in `add`; `confirm=` is the user's name, for
        a serious change.
        """
        return cast(
            t.User, self._call("PUT", f"/users/{part(user)}", body={"user_name": user_name, **fields})
        )

    def preview(self, user: str, user_name: str, **fields: Any) -> t.Preview:
        """Return the effects of `change`; nothing is changed."""
        return cast(
            t.Preview,
            self._call("POST", f"/users/{part(user)}/preview", body={"user_name": user_name, **fields}),
        )

    def remove(self, user: str, confirm: str | None = None) -> None:
        """Remove a local user."""
        self._call("DELETE", f"/users/{part(user)}", query={"confirm": confirm})

    def preview_removal(self, user: str) -> t.Preview:
        """Return the effects of `remove`; nothing is changed."""
        return cast(t.Preview, self._call("GET", f"/users/{part(user)}/removal"))

    def local_sign_in(self, user: str) -> t.LocalSignIn:
        """Return how a local user signs in: password, second factor and invitation."""
        return cast(t.LocalSignIn, self._call("GET", f"/users/{part(user)}/local-sign-in"))

    def reset_second_factor(self, user: str) -> t.LocalSignIn:
        """Delete the second factor of a local user who lost it."""
        return cast(t.LocalSignIn, self._call("POST", f"/users/{part(user)}/second-factor/reset"))

    def create_one_time_passwords(self, users: Sequence[str]) -> builtins.list[t.OneTimePassword]:
        """Create one-time passwords of local users, returned once."""
        made = self._call("POST", "/one-time-passwords", body={"users": list(users)})
        return cast("builtins.list[t.OneTimePassword]", made["items"])

    def delete(self, users: Sequence[str], *, confirm: str | None = None) -> t.DeletedUsers:
        """Delete several local users; `confirm` is the user's name or such as "3 users"."""
        body = {"users": list(users), "confirm": confirm}
        return cast(t.DeletedUsers, self._call("POST", "/local-users/delete", body=body))

    def preview_deletion(self, users: Sequence[str]) -> t.Preview:
        """Return the effects of `delete`; nothing is changed."""
        return cast(t.Preview, self._call("POST", "/local-users/delete/preview", body={"users": list(users)}))

    def marks(self, words: str | None = None) -> Pages[t.MarkedUser]:
        """List users who are marked as inactive or left, by name."""
        return self._dravo.pages("/user-marks", {"q": words})

    def mark(self, users: Sequence[str], status: str, **options: Any) -> t.MarkResult:
        """Mark users as "inactive" or "left", whatever their sources report: `from_=` (a day or time, default
        now), `note=`, `confirm=`.
        """
        return cast(t.MarkResult, self._call("POST", "/user-marks", body=_mark(users, status, options)))

    def preview_mark(self, users: Sequence[str], status: str, **options: Any) -> t.Preview:
        """Return the effects of `mark` once it applies; nothing is changed."""
        return cast(t.Preview, self._call("POST", "/user-marks/preview", body=_mark(users, status, options)))

    def unmark(self, users: Sequence[str], *, confirm: str | None = None) -> t.MarkResult:
        """Remove the marks of users; their status follows the sources again."""
        body = {"users": list(users), "confirm": confirm}
        return cast(t.MarkResult, self._call("POST", "/user-marks/remove", body=body))

    def preview_unmark(self, users: Sequence[str]) -> t.Preview:
        """Return the effects of `unmark`; nothing is changed."""
        return cast(t.Preview, self._call("POST", "/user-marks/remove/preview", body={"users": list(users)}))

    def erase(self, user: str, *, confirm: str | None = None) -> t.ErasedUser:
        """Erase a user who has left; `confirm` is the name of the user."""
        return cast(t.ErasedUser, self._call("POST", f"/users/{part(user)}/erase", body={"confirm": confirm}))

    def preview_erasing(self, user: str) -> t.ChangeEffects:
        """Return what `erase` deletes; nothing is changed."""
        return cast(t.ChangeEffects, self._call("POST", f"/users/{part(user)}/erase/preview"))

    def erased(self) -> Pages[t.Erasure]:
        """List erased users, newest first."""
        return self._dravo.pages("/erased-users")

    def accept_erased(self, erasure_id: str) -> t.Erasure:
        """Accept the records of an erased user again."""
        return cast(t.Erasure, self._call("POST", f"/erased-users/{part(erasure_id)}/accept"))

    def why(self, user: str, application: str) -> t.AccessExplanation:
        """Explain why a user has access to an application, or why not."""
        return cast(t.AccessExplanation, self._call("GET", f"/users/{part(user)}/access/{part(application)}"))


def _mark(users: Sequence[str], status: str, options: dict[str, Any]) -> dict[str, Any]:
    given = {("from" if name == "from_" else name): value for name, value in options.items()}
    return {"users": list(users), "status": status, **given}


class Invitations(Noun):
    """Invitations of local users, by email or with one-time passwords."""

    def list(self, *, words: str | None = None, status: str | None = None) -> Pages[t.Invitation]:
        """List invitations, newest first; `status` is open, expired, accepted or withdrawn."""
        return self._dravo.pages("/invitations", {"q": words, "status": status})

    def create(
        self, users: Sequence[Mapping[str, str]] = (), *, csv: bytes = b"", **options: Any
    ) -> t.InvitationResult:
        """Invite users.

        Args:
            users: each with `email`, such as `ida@fernhollow.example`, and if wanted `given_name`, `groups`,
                `role` and other fields of `t.InvitedUserFields`.
            csv: a CSV file in place of `users`.
            **options: for users without their own: `groups=`, `application=` and `role=`, `until=`;
                `with_passwords=` creates one-time passwords in place of sending emails; `expect=` is the
                number of users in the preview, `confirm=` the text to type.
        """
        body = {"users": [dict(each) for each in users], "csv": b64encode(csv).decode(), **options}
        return cast(t.InvitationResult, self._call("POST", "/invitations", body=body))

    def preview(
        self, users: Sequence[Mapping[str, str]] = (), *, csv: bytes = b"", **options: Any
    ) -> t.InvitationPreview:
        """Return the users that `create` would invite, and the rejected lines; nothing is changed."""
        body = {"users": [dict(each) for each in users], "csv": b64encode(csv).decode(), **options}
        return cast(t.InvitationPreview, self._call("POST", "/invitations/preview", body=body))

    def resend(self, invitation_id: str) -> t.Invitation:
        """Send an invitation again, with a new link."""
        return cast(t.Invitation, self._call("POST", f"/invitations/{part(invitation_id)}/resend"))

    def withdraw(self, invitation_id: str) -> t.Invitation:
        """Withdraw an invitation; its pending user is deleted."""
        return cast(t.Invitation, self._call("POST", f"/invitations/{part(invitation_id)}/withdraw"))


class Groups(Noun):
    """Groups and their members."""

    def list(
        self, *, words: str | None = None, source: str | None = None, mapped: bool | None = None
    ) -> Pages[t.Group]:
        """List groups by name; `mapped`: only mapped groups, or only unmapped ones."""
        return self._dravo.pages(
            "/groups",
            {"q": words, "source": source, "mapped": None if mapped is None else "yes" if mapped else "no"},
        )

    def get(self, group_id: str) -> t.GroupDetail:
        """Return one group by id, with the groups in and around it."""
        return cast(t.GroupDetail, self._call("GET", f"/groups/{part(group_id)}"))

    def add(self, name: str, description: str = "") -> t.Group:
        """Create a local group without members."""
        return cast(t.Group, self._call("POST", "/groups", body={"name": name, "description": description}))

    def change(self, group_id: str, **given: str) -> t.Group:
        """Change `name=` or `description=` of a local group."""
        return cast(t.Group, self._call("PATCH", f"/groups/{part(group_id)}", body=given))

    def remove(self, group_id: str, confirm: str | None = None) -> None:
        """Delete a local group; `confirm` is its name, for a serious change."""
        self._call("DELETE", f"/groups/{part(group_id)}", query={"confirm": confirm})

    def preview_removal(self, group_id: str) -> t.Preview:
        """Return the effects of `remove`; nothing is changed."""
        return cast(t.Preview, self._call("GET", f"/groups/{part(group_id)}/removal"))

    def change_members(
        self, group_id: str, *, confirm: str | None = None, **members: Sequence[str]
    ) -> t.Group:
        """Add and remove members of a local group: `add=`, `remove=`, `add_groups=`, `remove_groups=`; of a
        group of a source whose members are managed in Dravo, users only.
        """
        return cast(
            t.Group,
            self._call("POST", f"/groups/{part(group_id)}/members", body={**members, "confirm": confirm}),
        )

    def preview_members(self, group_id: str, **members: Sequence[str]) -> t.Preview:
        """Return the effects of `change_members`; nothing is changed."""
        return cast(
            t.Preview, self._call("POST", f"/groups/{part(group_id)}/members/preview", body={**members})
        )

    def change_authority(
        self, group_id: str, members_from: str, *, confirm: str | None = None
    ) -> t.GroupDetail:
        """Change who decides about the members of a group of a source.

        Args:
            members_from: "all" connection types, "inbound_scim", "import", "sign_in" or "dravo"; "source"
                for the setting of the source.
            confirm: the name of the group, for a serious change.
        """
        body = {"members_from": members_from, "confirm": confirm}
        return cast(t.GroupDetail, self._call("PUT", f"/groups/{part(group_id)}/authority", body=body))

    def preview_authority(self, group_id: str, members_from: str) -> t.Preview:
        """Return the effects of `change_authority`; nothing is changed."""
        path = f"/groups/{part(group_id)}/authority/preview"
        return cast(t.Preview, self._call("POST", path, body={"members_from": members_from}))

    def members(self, group_id: str) -> Pages[t.UserLine]:
        """List the users in a group."""
        return self._dravo.pages(f"/groups/{part(group_id)}/members")

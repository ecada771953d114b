"""Invitations, passwords and sign-in of local users.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, TypedDict

if TYPE_CHECKING:
    from dravo.client.types.common import UserRef
    from dravo.client.types.second_factors import SecondFactor
    from dravo.client.types.sources.sign_in import SignInChoice


class CheckedRole(TypedDict):
    """A role of the user in the application."""

    key: str
    label: str
    value: str


class CheckedUser(TypedDict):
    """The user whose password was checked."""

    id: str
    display_name: str
    user_name: str
    email: str | None


class DeletedUsers(TypedDict):
    """How many users were deleted."""

    users: int


class GoTo(TypedDict):
    """Where the browser goes next."""

    go_to: str


class Invitation(TypedDict):
    """An invitation of a local user."""

    id: str
    user: UserRef
    email: str
    status: str
    invited_by: str
    invited_at: str
    sent_at: str
    until_at: str
    accepted_at: str | None
    accepted_with: str | None


class InvitationPreview(TypedDict):
    """What an invitation would do."""

    items: list[PreviewedInvitation]
    rejected: list[RejectedLine]
    confirm: str
    type_to_confirm: str


class InvitationResult(TypedDict):
    """The invited users, and the rejected lines."""

    items: list[InvitedUser]
    rejected: list[RejectedLine]


class InvitedUser(TypedDict):
    """An invited user."""

    id: str
    line: int
    email: str
    user_name: str
    password: str | None


class LocalSignIn(TypedDict):
    """How a local user signs in."""

    has_password: bool
    password_changed_at: str | None
    must_change: bool
    one_time_until: str | None
    second_factor: bool
    invitation: Invitation | None


class OneTimePassword(TypedDict):
    """A one-time password."""

    user: UserRef
    password: str
    until_at: str


class OneTimePasswords(TypedDict):
    """New one-time passwords."""

    items: list[OneTimePassword]


class OpenInvitation(TypedDict):
    """An open invitation, for the invited user."""

    display_name: str
    user_name: str
    organization: str
    until_at: str
    sources: list[SignInChoice]
    least: int
    can_confirm_weak: bool


class OwnSecurity(TypedDict):
    """Your password and your second factor."""

    has_password: bool
    password_changed_at: str | None
    can_confirm_weak: bool
    second_factor: SecondFactor | None


class PageOfInvitations(TypedDict):
    """A page of invitations."""

    items: list[Invitation]
    total: int
    next: str | None


class PasswordCheck(TypedDict):
    """The result of a password check."""

    outcome: str
    message: str
    support_contact: str
    user: CheckedUser | None
    roles: list[CheckedRole]


class PasswordSignIn(TypedDict):
    """How a sign-in with a password goes on."""

    outcome: str
    state: str
    passkey: bool


class PreviewedInvitation(TypedDict):
    """A user to invite."""

    line: int
    email: str
    user_name: str
    groups: list[str]
    roles: list[str]
    until: str | None
    highest: bool


class RejectedLine(TypedDict):
    """A line that invites nobody."""

    line: int
    email: str
    message: str
    hint: str

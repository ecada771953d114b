"""Invitations, passwords and sign-in of local users."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from dravo.web.api.schemas.base import Model, RequestModel, Text
from dravo.web.api.schemas.common import ConfirmedRequest, Page, SearchQuery, UserRef
from dravo.web.api.schemas.second_factors import ProofRequest, SecondFactor
from dravo.web.api.schemas.sources.sign_in import SignInChoice

Secret = Annotated[str, Field(max_length=100)]
Password = Annotated[str, Field(max_length=1_000)]


class InvitedUserFields(RequestModel):
    """A user to invite. Empty fields are omitted."""

    email: str = Field(
        "",
        max_length=600,
        description="Email address to which the invitation goes, with names if wanted: "
        "`Ida Vosper <ida@fernhollow.example>`.",
    )
    user_name: str = Field("", max_length=300, description="User name; empty for the email address.")
    given_name: Text = ""
    family_name: Text = ""
    department: Text = ""
    title: Text = ""
    groups: str = Field("", max_length=2_000, description="Names of local groups, separated by semicolons.")
    application: str = Field("", max_length=100, description="Key of an application.")
    role: str = Field("", max_length=100, description="Key of a role of the application.")
    until: str = Field("", max_length=10, description="Last day on which the user is active, or empty.")


class InviteRequest(RequestModel):
    """Users to invite, as a list or a CSV file."""

    users: list[InvitedUserFields] = Field([], max_length=1_000, description="Users to invite.")
    csv: str = Field(
        "",
        max_length=5_700_000,
        description="CSV file in base64, with column names in its first line: `email`, and if wanted "
        "attributes of local users, `groups` (separated by semicolons), `application`, `role`, `until`.",
    )
    groups: list[Text] = Field(
        [], max_length=100, description="Local groups by name or ID, for users without groups of their own."
    )
    application: str = Field("", max_length=100, description="Application of the role for all, by key.")
    role: str = Field("", max_length=100, description="Role for users without a role of their own, by key.")
    until: str = Field("", max_length=10, description="Last day for users without a day of their own.")
    with_passwords: bool = Field(
        False, description="Whether to create one-time passwords in place of sending emails."
    )
    confirm: Text | None = Field(None, description="Typed text; required for a highest role.")
    expect: int | None = Field(
        None,
        description="Number of users in the preview. If it has changed, the request is refused.",
    )


class RejectedLine(Model):
    """A line that invites nobody."""

    line: int = Field(description="Number of the line in the file, or of the user in the list.")
    email: str
    message: str = Field(description="Why the line is rejected.")
    hint: str


class PreviewedInvitation(Model):
    """A user to invite."""

    line: int = Field(description="Number of the line in the file, or of the user in the list.")
    email: str
    user_name: str
    groups: list[str] = Field(description="Names of the local groups.")
    roles: list[str] = Field(description="Roles as soon as the user is active, with their applications.")
    until: str | None = Field(description="Last day on which the user is active, or null.")
    highest: bool = Field(description="Whether one of the roles is the highest of its application.")


class InvitationPreview(Model):
    """What an invitation would do."""

    items: list[PreviewedInvitation] = Field(description="Users that would be invited.")
    rejected: list[RejectedLine] = Field(description="Lines that invite nobody.")
    confirm: str = Field(description="Why a confirmation is needed; empty if none is.")
    type_to_confirm: str = Field(description="Text to type as a confirmation.")


class InvitedUser(Model):
    """An invited user."""

    id: str = Field(description="ID of the user.")
    line: int = Field(description="Number of the line in the file, or of the user in the list.")
    email: str
    user_name: str
    password: str | None = Field(description="One-time password, returned once, or null.")


class InvitationResult(Model):
    """The invited users, and the rejected lines."""

    items: list[InvitedUser] = Field(description="Invited users.")
    rejected: list[RejectedLine] = Field(description="Lines that invite nobody.")


class Invitation(Model):
    """An invitation of a local user."""

    id: str = Field(description="ID of the invitation.")
    user: UserRef
    email: str
    status: str = Field(description="Status: open, expired, accepted or withdrawn.")
    invited_by: str = Field(description="Name of the operator who invited the user.")
    invited_at: str = Field(description="Time of the first email.")
    sent_at: str = Field(description="Time of the last email.")
    until_at: str = Field(description="Time at which the link expires.")
    accepted_at: str | None = Field(description="Time of the acceptance, or null.")
    accepted_with: str | None = Field(
        description="How the user signs in: `password` or the key of a source; null before the acceptance."
    )


class PageOfInvitations(Page[Invitation]):
    """A page of invitations."""


class InvitationsQuery(SearchQuery):
    """A page of invitations."""

    status: Literal["open", "expired", "accepted", "withdrawn"] | None = Field(
        None, description="Only invitations with this status."
    )


class CheckPasswordRequest(RequestModel):
    """What a user entered in the sign-in form of an application."""

    name: str = Field(max_length=300, description="User name or email address.")
    password: Password = Field(description="The password.")
    code: str = Field(
        "", max_length=60, description="Code of the second factor, or a recovery code; empty for none."
    )


class CheckedRole(Model):
    """A role of the user in the application."""

    key: str = Field(description="Key of the role.")
    label: str = Field(description="Name of the role.")
    value: str = Field(description="Value that the application knows the role by.")


class CheckedUser(UserRef):
    """The user whose password was checked."""

    email: str | None = Field(description="Email address of the user, or null.")


class PasswordCheck(Model):
    """The result of a password check."""

    outcome: str = Field(
        description="Outcome: signed_in, wrong_password, inactive, expired, second_factor, wrong_code, "
        "new_password or no_access."
    )
    message: str = Field(description="What to tell the user; empty for a user who has access.")
    support_contact: str
    user: CheckedUser | None = Field(description="The user; null unless the password is right.")
    roles: list[CheckedRole] = Field(description="Roles of the user in the application, the highest first.")


class UsersRequest(RequestModel):
    """Several local users."""

    users: list[Text] = Field(max_length=500, description="ID, user name, email or external ID of each user.")


class DeleteUsersRequest(UsersRequest, ConfirmedRequest):
    """Several local users to delete."""


class DeletedUsers(Model):
    """How many users were deleted."""

    users: int = Field(description="Number of deleted users.")


class OneTimePassword(Model):
    """A one-time password."""

    user: UserRef
    password: str = Field(description="The password, returned once.")
    until_at: str = Field(description="Time until which it can be used for the first time.")


class OneTimePasswords(Model):
    """New one-time passwords."""

    items: list[OneTimePassword]


class LocalSignIn(Model):
    """How a local user signs in."""

    has_password: bool = Field(description="Whether the user has a password of Dravo.")
    password_changed_at: str | None = Field(description="Time when the password was set, or null.")
    must_change: bool = Field(description="Whether the user has to choose another password at sign-in.")
    one_time_until: str | None = Field(
        description="Time until which a one-time password that was not used can be used, or null."
    )
    second_factor: bool = Field(description="Whether the user has a second factor.")
    invitation: Invitation | None = Field(description="Invitation of the user, or null.")


class InvitationSecretRequest(RequestModel):
    """The secret of an invitation."""

    secret: Secret = Field(description="Secret in the link of the email.")


class OpenInvitation(Model):
    """An open invitation, for the invited user."""

    display_name: str
    user_name: str
    organization: str = Field(description="Name of the organization, or empty.")
    until_at: str = Field(description="Time at which the link expires.")
    sources: list[SignInChoice] = Field(
        description="Sources through which the user signs in; empty for a user who chooses a password."
    )
    least: int = Field(description="Minimum length of a password.")
    can_confirm_weak: bool = Field(description="Whether a weak password can be confirmed.")


class NewPasswordRequest(RequestModel):
    """A password that a user chose."""

    password: Password = Field(description="The new password.")
    confirm_weak: bool = Field(
        False, description="Whether to use a weak password, where the organization allows it."
    )


class AcceptInvitationRequest(InvitationSecretRequest, NewPasswordRequest):
    """An invitation that is accepted with a password."""


class AcceptWithSourceRequest(InvitationSecretRequest):
    """An invitation that is accepted with the sign-in of a source."""

    source: str = Field(max_length=64, description="Key of the source.")


class GoTo(Model):
    """Where the browser goes next."""

    go_to: str = Field(description="Path of the next page.")


class LocalSignInRequest(RequestModel):
    """Name and password of a local user."""

    name: str = Field(max_length=300, description="User name or email address.")
    password: Password = Field(description="The password.")


class SignInStateRequest(RequestModel):
    """A sign-in that goes on."""

    state: Secret = Field(description="`state` of the previous step.")


class SignInFactorRequest(SignInStateRequest, ProofRequest):
    """The second factor of a sign-in."""


class SignInNewPasswordRequest(SignInStateRequest, NewPasswordRequest):
    """A password in place of a one-time password."""


class PasswordSignIn(Model):
    """How a sign-in with a password goes on."""

    outcome: str = Field(description="Outcome: signed_in, second_factor or new_password.")
    state: str = Field(description="Secret for the next step; empty if there is none.")
    passkey: bool = Field(description="Whether the user has passkeys.")


class ForgottenPasswordRequest(RequestModel):
    """An email address of a local user."""

    email: str = Field(max_length=300, description="Email address of the user.")


class ResetPasswordRequest(InvitationSecretRequest, NewPasswordRequest):
    """A new password by the link of an email."""


class ChangeOwnPasswordRequest(NewPasswordRequest):
    """Your current and your new password."""

    present: Password = Field(description="Current password.")


class OwnSecurity(Model):
    """Your password and your second factor."""

    has_password: bool = Field(description="Whether you sign in with a password of Dravo.")
    password_changed_at: str | None = Field(description="Time when the password was set, or null.")
    can_confirm_weak: bool = Field(description="Whether a weak password can be confirmed.")
    second_factor: SecondFactor | None = Field(
        description="Your second factor; null for users who sign in through a source."
    )

"""Sign-in through sources: settings, tests, history and sessions."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from dravo.web.api.schemas.base import Model, RequestModel, Text
from dravo.web.api.schemas.common import KeyAndLabel, Page, PageQuery
from dravo.web.api.schemas.sources.imports import (
    CheckStep,
    SampleAttribute,
)
from dravo.web.api.schemas.sources.policies import SourcePolicy, SourcePolicyFields
from dravo.web.api.schemas.sources.sources import ChecklistItem, ChecklistValue


class ProviderFields(RequestModel):
    """Values of a provider, entered one by one: the first four of SAML, the others of OpenID Connect.

    Omitted fields keep their value; empty ones are deleted.
    """

    entity_id: Text | None = None
    sign_in: Text | None = Field(None, description="Single sign-on URL.")
    sign_out: Text | None = Field(None, description="Single logout URL.")
    certificates: str | None = Field(
        None, max_length=100_000, description="Certificates as PEM or base64, with or without header lines."
    )
    authorization_endpoint: Text | None = Field(None, description="Authorization endpoint.")
    token_endpoint: Text | None = Field(None, description="Token endpoint.")
    userinfo_endpoint: Text | None = Field(None, description="UserInfo endpoint.")
    jwks_uri: Text | None = Field(None, description="URL of the provider's keys (JWK set).")
    jwks: str | None = Field(
        None,
        max_length=100_000,
        description="The provider's public keys as a JWK set, in place of their URL.",
    )


class SignInSettingsRequest(RequestModel):
    """Changes to sign-in settings. Omitted fields keep their value."""

    protocol: Literal["saml", "oidc", "email_code"] | None = Field(
        None, description="Protocol of a new sign-in. Change it later by its own request."
    )
    serves: Literal["users", "operators", "both"] | None = Field(
        None, description="Who can sign in. Only a super administrator can include operators."
    )
    settings: dict[str, str | bool | int] | None = None
    secret: str | None = Field(
        None,
        max_length=5_000,
        description="Client secret (OpenID Connect), stored encrypted; empty to delete it.",
    )
    policy: SourcePolicyFields | None = None
    metadata: str | None = Field(None, max_length=2_000_000, description="Metadata of the provider as text.")
    fields: ProviderFields | None = None
    look: bool = Field(False, description="Whether to fetch the metadata now.")


class ChangeProtocolRequest(RequestModel):
    """Another protocol of a sign-in."""

    protocol: Literal["saml", "oidc", "email_code"] = Field(description="The new protocol.")
    confirm: Text | None = Field(None, description="Typed label of the source; not needed for the preview.")


class SignInStatusRequest(RequestModel):
    """The status of sign-in."""

    status: Literal["disabled", "pilot", "enabled"] = Field(
        description="New status: disabled, pilot or enabled."
    )
    enabled_from: str | None = Field(
        None, max_length=40, description="Time at which sign-in is enabled for everyone."
    )
    confirm: Text | None = Field(
        None, description="Typed label of the source; required for untested settings."
    )


class KeysRequest(RequestModel):
    """A step of a key rotation."""

    what: Literal["next", "upload", "use"] = Field(
        description="'next' creates the next key; 'upload' takes an uploaded one; 'use' activates it."
    )
    private_key: str = Field(
        "", max_length=20_000, description="RSA private key as PEM for 'upload'; stored encrypted."
    )
    certificate: str = Field("", max_length=20_000, description="Its certificate as PEM for 'upload'.")


class CreateTestSignInRequest(RequestModel):
    """A test sign-in."""

    user: Text = Field(description="User name or email of the user.")
    mode: Literal["observe", "apply"] = "observe"
    minutes: int = Field(30, ge=1, le=1_440)


class SignInTracesQuery(PageQuery):
    """Filters for sign-ins."""

    outcome: Literal["signed_in", "observed", "refused"] | None = None
    sign_in_test: str | None = Field(None, max_length=36)
    q: str | None = Field(None, max_length=200, description="A part of the user's name or of the error.")


class RerunRequest(RequestModel):
    """A source policy for the evaluation; empty for the saved one."""

    policy: SourcePolicyFields = Field(default_factory=lambda: SourcePolicyFields.model_validate({}))


class ClaimedQuery(Model):
    """Filters for groups from claims."""

    q: str = Field("", max_length=200, description="A part of the name.")


class ClaimedGroupRequest(RequestModel):
    """A group named as in claims."""

    name: Text = Field(description="Name of the group as the provider sends it.")


class SignInTracePath(Model):
    """A trace of a source."""

    key: str
    trace: str


class SignInForEmailQuery(Model):
    """An email address or a user name."""

    email: str = Field("", max_length=300, description="Email address, or user name of a local user.")


class RequestCodeRequest(RequestModel):
    """A request for a sign-in code."""

    email: Text
    sign_in_test: str | None = Field(
        None, max_length=100, description="Secret of the link of a test sign-in."
    )
    source: str | None = Field(
        None, max_length=64, description="Key of the source, if several sources own the domain."
    )
    back: str | None = Field(None, max_length=500)


class VerifyCodeRequest(RequestModel):
    """An emailed code; new users also send their name."""

    state: str = Field(max_length=100)
    code: str = Field(max_length=40, description="The emailed code.")
    given_name: str = Field("", max_length=100)
    family_name: str = Field("", max_length=100)


class ProviderCertificate(Model):
    """A signing certificate of a provider."""

    subject: str
    fingerprint: str
    from_at: str
    until_at: str


class KnownProvider(Model):
    """The known values of a provider; `waiting` are new certificates that are not accepted yet."""

    entity_id: str
    sign_in: str
    sign_out: str
    certificates: list[ProviderCertificate]
    waiting: list[ProviderCertificate]
    learned_from: str
    authorization_endpoint: str
    token_endpoint: str
    userinfo_endpoint: str
    jwks_uri: str
    keys: int = Field(description="Number of the provider's public keys (OpenID Connect).")


class SignInCheck(Model):
    """The result of a test of sign-in settings."""

    ok: bool
    steps: list[CheckStep]


class OurCertificate(Model):
    """A certificate of Dravo; `use` is "active", "next" or "previous"."""

    pem: str
    body: str
    fingerprint: str
    from_at: str
    until_at: str
    use: str


class SignIn(Model):
    """The sign-in settings of a source with the setup checklist."""

    source: KeyAndLabel = Field(description="The source through which users sign in.")
    protocol: str
    protocol_label: str
    settings: dict[str, Any] = Field(description="Sign-in settings.")
    has_secret: bool
    policy: SourcePolicy
    status: str = Field(description="Status: disabled, pilot or enabled.")
    serves: str
    enabled_from: str | None
    verified_at: str | None
    missing: list[str]
    provider: KnownProvider
    looked_at: str | None = Field(description="Time of the last fetch of the provider's metadata, or null.")
    trouble: str
    give: list[ChecklistValue]
    certificates: list[OurCertificate]
    ticks: list[ChecklistItem]
    seen: list[SampleAttribute]
    provider_steps: list[str]
    start: str
    warnings: list[str] = Field(description="Why other systems may not reach the addresses.")
    text: str


class SignInTest(Model):
    """A test sign-in by one named user."""

    id: str = Field(description="ID of the test sign-in.")
    user: str = Field(description="User name or email of the user who may try.")
    mode: str
    created_by: str
    created_at: str
    until_at: str
    open: bool
    so_far: str = Field(
        description="Status: 'not_opened', 'at_provider', 'signed_in', 'observed', 'refused' or 'expired'."
    )
    so_far_at: str | None
    trace: str | None
    message: str = Field(description="Outcome of its last sign-in in a sentence, or empty.")


class NewSignInTest(SignInTest):
    """A new test sign-in with its link."""

    link: str


class PageOfSignInTests(Page[SignInTest]):
    """Test sign-ins, newest first."""


class SignInLine(Model):
    """A sign-in with its outcome."""

    id: str = Field(description="ID of the sign-in.")
    at: str = Field(description="Time of the sign-in.")
    outcome: str = Field(description="Outcome: signed_in, observed or refused.")
    reason: str | None
    message: str = Field(description="Outcome of the sign-in in a sentence.")
    hint: str
    name: str = Field(description="Name or address of the user, as far as known.")
    user: str | None = Field(description="ID of the user who signed in, or null.")
    sign_in_test: str | None


class PageOfSignIns(Page[SignInLine]):
    """Sign-ins, newest first."""


class ClaimedGroup(Model):
    """A group in claims: "existing", "created" or "ignored", with the roles that it assigns."""

    claimed: str
    group: dict[str, Any] | None
    outcome: str = Field(description="What happens to the group: existing, created or ignored.")
    gives: list[dict[str, str]]


class GroupInClaims(Model):
    """A group in claims that does not exist yet."""

    source: KeyAndLabel
    name: str = Field(description="Name of the group.")


class GroupsInClaims(Model):
    """Groups in claims that do not exist yet."""

    items: list[GroupInClaims]


class GroupMadeAhead(Model):
    """A group created from claims."""

    id: str = Field(description="ID of the new group.")
    name: str = Field(description="Name of the new group.")


class SignInAccess(Model):
    """A role that was "gained", "lost" or "kept"."""

    application: dict[str, str]
    role: str
    reasons: list[str]
    what: str


class PlannedSignIn(Model):
    """The result of a sign-in."""

    outcome: str = Field(description="Outcome: signed_in, observed or refused.")
    message: str = Field(description="Outcome of the sign-in in a sentence.")
    hint: str
    steps: list[CheckStep]
    kind: str = Field(description="Kind of problem, or empty.")
    made: dict[str, Any]
    groups: list[ClaimedGroup]
    access: list[SignInAccess]


class SignInTrace(SignInLine):
    """A sign-in trace."""

    issuer: str = Field(description="Issuer of the identity.")
    subject: str = Field(description="Identifier of the user at the provider.")
    steps: list[CheckStep]
    received: list[SampleAttribute]
    kind: str = Field(description="What happened to the source record, or null.")
    made: dict[str, Any]
    groups: list[ClaimedGroup] = Field(description="Claimed groups with what they give.")
    access: list[SignInAccess]
    raw: str


class UserSession(Model):
    """A session of a user."""

    id: str = Field(description="ID of the session.")
    source: KeyAndLabel
    created_at: str
    last_seen_at: str
    until_at: str


class UserSessions(Model):
    """The current sessions of a user."""

    items: list[UserSession]


class OwnApplication(Model):
    """An application of a signed-in user with its start URL."""

    key: str
    label: str
    address: str | None
    icon: str | None = Field(description="Version of the icon; null without an icon.")
    roles: list[str]
    since: str = Field(description="Time from which the user has access.")


class UserPortal(Model):
    """The applications and the support contact of a signed-in user."""

    name: str = Field(description="Display name of the user.")
    user_name: str
    source: str
    csrf: str
    has_password: bool = Field(description="Whether the user signs in with a password of Dravo.")
    applications: list[OwnApplication]
    support_contact: str


class SignInOption(Model):
    """A source, and whether it allows the user to sign in."""

    source: KeyAndLabel
    protocol: str
    opens: bool
    message_to_user: str
    support_contact: str
    reason: str
    hint: str
    enabled_from: str | None
    bound_at: str | None


class SignInOptions(Model):
    """The sign-in options and applications of a user."""

    ways: list[SignInOption]
    applications: list[OwnApplication]


class SignInChoice(Model):
    """One of several ways to sign in."""

    key: str
    label: str
    start: str
    by_code: bool


class SignInForEmail(Model):
    """The sign-in for an email address; null if there is none."""

    source: KeyAndLabel | None
    start: str
    by_code: bool
    by_password: bool = Field(description="Whether local users of the domain sign in with a password.")
    choices: list[SignInChoice] = Field(description="The choices, if several sources own the domain.")
    any: bool
    for_operators: list[KeyAndLabel]


class CodeSent(Model):
    """A requested code; send `state` back with it."""

    state: str
    source: str = Field(description="Label of the source through which the user signs in.")
    minutes: int


class CodeResult(Model):
    """The result of a code: "signed_in", "observed" or "refused"."""

    outcome: str = Field(description="Outcome: signed_in, observed or refused.")
    back: str
    message: str = Field(description="Result for the user in a sentence.")
    support_contact: str
    trace: str

"""Sign-in through sources: settings, tests, history and sessions.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, TypedDict

if TYPE_CHECKING:
    from dravo.client.types.applications.connections import CheckStep
    from dravo.client.types.common import KeyAndLabel
    from dravo.client.types.sources.imports import SampleAttribute
    from dravo.client.types.sources.policies import SourcePolicy
    from dravo.client.types.sources.sources import ChecklistItem, ChecklistValue


class ClaimedGroup(TypedDict):
    """A group in claims: "existing", "created" or "ignored", with the roles that it assigns."""

    claimed: str
    group: dict[str, Any] | None
    outcome: str
    gives: list[dict[str, str]]


class CodeResult(TypedDict):
    """The result of a code: "signed_in", "observed" or "refused"."""

    outcome: str
    back: str
    message: str
    support_contact: str
    trace: str


class CodeSent(TypedDict):
    """A requested code; send `state` back with it."""

    state: str
    source: str
    minutes: int


class GroupInClaims(TypedDict):
    """A group in claims that does not exist yet."""

    source: KeyAndLabel
    name: str


class GroupMadeAhead(TypedDict):
    """A group created from claims."""

    id: str
    name: str


class GroupsInClaims(TypedDict):
    """Groups in claims that do not exist yet."""

    items: list[GroupInClaims]


class KnownProvider(TypedDict):
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
    keys: int


class NewSignInTest(TypedDict):
    """A new test sign-in with its link."""

    id: str
    user: str
    mode: str
    created_by: str
    created_at: str
    until_at: str
    open: bool
    so_far: str
    so_far_at: str | None
    trace: str | None
    message: str
    link: str


class OurCertificate(TypedDict):
    """A certificate of Dravo; `use` is "active", "next" or "previous"."""

    pem: str
    body: str
    fingerprint: str
    from_at: str
    until_at: str
    use: str


class OwnApplication(TypedDict):
    """An application of a signed-in user with its start URL."""

    key: str
    label: str
    address: str | None
    icon: str | None
    roles: list[str]
    since: str


class PageOfSignIns(TypedDict):
    """Sign-ins, newest first."""

    items: list[SignInLine]
    total: int
    next: str | None


class PageOfSignInTests(TypedDict):
    """Test sign-ins, newest first."""

    items: list[SignInTest]
    total: int
    next: str | None


class PlannedSignIn(TypedDict):
    """The result of a sign-in."""

    outcome: str
    message: str
    hint: str
    steps: list[CheckStep]
    kind: str
    made: dict[str, Any]
    groups: list[ClaimedGroup]
    access: list[SignInAccess]


class ProviderCertificate(TypedDict):
    """A signing certificate of a provider."""

    subject: str
    fingerprint: str
    from_at: str
    until_at: str


class SignIn(TypedDict):
    """The sign-in settings of a source with the setup checklist."""

    source: KeyAndLabel
    protocol: str
    protocol_label: str
    settings: dict[str, Any]
    has_secret: bool
    policy: SourcePolicy
    status: str
    serves: str
    enabled_from: str | None
    verified_at: str | None
    missing: list[str]
    provider: KnownProvider
    looked_at: str | None
    trouble: str
    give: list[ChecklistValue]
    certificates: list[OurCertificate]
    ticks: list[ChecklistItem]
    seen: list[SampleAttribute]
    provider_steps: list[str]
    start: str
    warnings: list[str]
    text: str


class SignInAccess(TypedDict):
    """A role that was "gained", "lost" or "kept"."""

    application: dict[str, str]
    role: str
    reasons: list[str]
    what: str


class SignInCheck(TypedDict):
    """The result of a test of sign-in settings."""

    ok: bool
    steps: list[CheckStep]


class SignInChoice(TypedDict):
    """One of several ways to sign in."""

    key: str
    label: str
    start: str
    by_code: bool


class SignInForEmail(TypedDict):
    """The sign-in for an email address; null if there is none."""

    source: KeyAndLabel | None
    start: str
    by_code: bool
    by_password: bool
    choices: list[SignInChoice]
    any: bool
    for_operators: list[KeyAndLabel]


class SignInLine(TypedDict):
    """A sign-in with its outcome."""

    id: str
    at: str
    outcome: str
    reason: str | None
    message: str
    hint: str
    name: str
    user: str | None
    sign_in_test: str | None


class SignInOption(TypedDict):
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


class SignInOptions(TypedDict):
    """The sign-in options and applications of a user."""

    ways: list[SignInOption]
    applications: list[OwnApplication]


class SignInTest(TypedDict):
    """A test sign-in by one named user."""

    id: str
    user: str
    mode: str
    created_by: str
    created_at: str
    until_at: str
    open: bool
    so_far: str
    so_far_at: str | None
    trace: str | None
    message: str


class SignInTrace(TypedDict):
    """A sign-in trace."""

    id: str
    at: str
    outcome: str
    reason: str | None
    message: str
    hint: str
    name: str
    user: str | None
    sign_in_test: str | None
    issuer: str
    subject: str
    steps: list[CheckStep]
    received: list[SampleAttribute]
    kind: str
    made: dict[str, Any]
    groups: list[ClaimedGroup]
    access: list[SignInAccess]
    raw: str


class UserPortal(TypedDict):
    """The applications and the support contact of a signed-in user."""

    name: str
    user_name: str
    source: str
    csrf: str
    has_password: bool
    applications: list[OwnApplication]
    support_contact: str


class UserSession(TypedDict):
    """A session of a user."""

    id: str
    source: KeyAndLabel
    created_at: str
    last_seen_at: str
    until_at: str


class UserSessions(TypedDict):
    """The current sessions of a user."""

    items: list[UserSession]

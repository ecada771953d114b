"""Sign-in through sources: settings, tests, history and sessions."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from dravo.web.api.schemas.base import Model, RequestModel, Text
from dravo.web.api.schemas.common import Named, Page, PageQuery
from dravo.web.api.schemas.imports import ReadingStep, SeenAttribute, SourceAnswers
from dravo.web.api.schemas.sources import ChecklistItem, ChecklistValue


class ProviderFields(RequestModel):
    """What is known of a SAML provider, by hand; what is left out stays, an empty one is taken away."""

    entity_id: Text | None = None
    sign_in: Text | None = Field(None, description="The address for signing in.")
    sign_out: Text | None = Field(None, description="The address for signing out.")
    certificates: str | None = Field(None, max_length=100_000, description="PEM or bare base64, with or without header lines, several at once.")


class SignInSettingsRequest(RequestModel):
    """How users sign in; what is left out stays as it is."""

    protocol: Literal["saml", "oidc", "email_code"] | None = Field(None, description="The first time.")
    serves: Literal["users", "operators", "both"] | None = Field(None, description="Whom it lets in; operators only by a super administrator's word.")
    settings: dict[str, str | bool | int] | None = None
    secret: str | None = Field(None, max_length=5_000, description="Our client secret (OpenID Connect); kept encrypted; an empty one takes it away.")
    policy: dict[str, Any] | None = Field(None, description="Answers to the source policy, as for reading.")
    metadata: str | None = Field(None, max_length=2_000_000, description="The provider's metadata itself.")
    fields: ProviderFields | None = None
    look: bool = Field(False, description="Fetch what is at the address now.")


class SignInStatusRequest(RequestModel):
    """For whom signing in is enabled."""

    status: Literal["disabled", "pilot", "enabled"]
    enabled_from: str | None = Field(None, max_length=40, description="The instant from which on it is enabled for everyone.")
    confirm: Text | None = Field(None, description="The source's label, typed: where nobody has come through the settings yet.")


class KeysRequest(RequestModel):
    """How our key changes."""

    what: Literal["next", "use"] = Field(description="'next' makes one that the provider is told of; 'use' has it sign from now on.")


class CreateTestSignInRequest(RequestModel):
    """A test sign-in."""

    user: Text = Field(description="Who will try: their user name or email.")
    mode: Literal["observe", "apply"] = "observe"
    minutes: int = Field(30, ge=1, le=1_440)


class SignInTracesQuery(PageQuery):
    """Which traces."""

    outcome: Literal["signed_in", "observed", "refused"] | None = None
    sign_in_test: str | None = Field(None, max_length=36)
    q: str | None = Field(None, max_length=200, description="A part of the name or of what is wrong.")


class RerunRequest(RequestModel):
    """With which answers a kept trace is planned again; empty: with those that are kept."""

    policy: dict[str, Any] = {}


class ClaimedQuery(Model):
    """Which claimed groups."""

    q: str = Field("", max_length=200, description="A part of the name.")


class ClaimedGroupRequest(RequestModel):
    """A group as claims name it."""

    name: Text


class SignInTracePath(Model):
    """A trace of a source."""

    key: str
    trace: str


class WhereQuery(Model):
    """Whose sign-in page is asked for."""

    email: str = Field("", max_length=300)


class RequestCodeRequest(RequestModel):
    """Who asks for a code, and to which page they go on."""

    email: Text
    sign_in_test: str | None = Field(None, max_length=100, description="The secret of a test sign-in's link.")
    source: str | None = Field(None, max_length=64, description="The key of the source, where several own the domain.")
    back: str | None = Field(None, max_length=500)


class VerifyCodeRequest(RequestModel):
    """A code that came by mail; anyone who is new says their names."""

    state: str = Field(max_length=100)
    code: str = Field(max_length=40)
    given_name: str = Field("", max_length=100)
    family_name: str = Field("", max_length=100)


class ProviderCertificate(Model):
    """A certificate with which a provider signs."""

    subject: str
    fingerprint: str
    from_at: str
    until_at: str


class KnownProvider(Model):
    """What is known of a provider; `waiting` are certificates that its metadata has now and that are not taken over yet."""

    entity_id: str
    sign_in: str
    sign_out: str
    certificates: list[ProviderCertificate]
    waiting: list[ProviderCertificate]
    learned_from: str


class OurCertificate(Model):
    """A certificate of ours; `use` is "signs", "comes next" or "was used before"."""

    pem: str
    body: str
    fingerprint: str
    from_at: str
    until_at: str
    use: str


class SignIn(Model):
    """How users sign in by a source, with its setup checklist."""

    source: Named
    protocol: str
    protocol_label: str
    settings: dict[str, Any]
    has_secret: bool
    policy: SourceAnswers
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
    seen: list[SeenAttribute]
    provider_steps: list[str]
    start: str
    text: str


class SignInTest(Model):
    """A test sign-in by one named user."""

    id: str
    user: str
    mode: str
    created_by: str
    created_at: str
    until_at: str
    open: bool
    so_far: str = Field(description="'not opened', 'at the provider', 'in', 'observed', 'refused' or 'over'.")
    so_far_at: str | None
    trace: str | None
    message: str


class NewSignInTest(SignInTest):
    """A test sign-in with its link, the only time that it is shown."""

    link: str


class PageOfSignInTests(Page[SignInTest]):
    """Test sign-ins, newest first."""


class SignInLine(Model):
    """What one sign-in came to."""

    id: str
    at: str
    outcome: str
    reason: str | None
    message: str
    hint: str
    name: str
    user: str | None
    sign_in_test: str | None


class PageOfSignIns(Page[SignInLine]):
    """Sign-ins, newest first."""


class ClaimedGroup(Model):
    """A group that was claimed: which one it is here ("known", "made"), or that it is "left out"; and what rows give by it."""

    claimed: str
    group: dict[str, Any] | None
    outcome: str
    gives: list[dict[str, str]]


class GroupInClaims(Model):
    """A group that a sign-in claimed, and that its source does not have yet."""

    source: Named
    name: str


class GroupsInClaims(Model):
    """Groups that sign-ins claimed, and that are not here yet."""

    items: list[GroupInClaims]


class GroupMadeAhead(Model):
    """A group that was made ahead of anyone who comes with it."""

    id: str
    name: str


class SignInAccess(Model):
    """A role that was "gained", "lost" or "kept"."""

    application: dict[str, str]
    role: str
    reasons: list[str]
    what: str


class PlannedSignIn(Model):
    """What a sign-in comes to."""

    outcome: str
    message: str
    hint: str
    steps: list[ReadingStep]
    kind: str
    made: dict[str, Any]
    groups: list[ClaimedGroup]
    access: list[SignInAccess]


class SignInTrace(SignInLine):
    """One sign-in whole: its steps, what arrived, and what it came to."""

    issuer: str
    subject: str
    steps: list[ReadingStep]
    arrived: list[SeenAttribute]
    kind: str
    made: dict[str, Any]
    groups: list[ClaimedGroup]
    access: list[SignInAccess]
    raw: str


class UserSession(Model):
    """A session of somebody who signed in."""

    id: str
    source: Named
    created_at: str
    last_seen_at: str
    until_at: str


class UserSessions(Model):
    """The sessions of a user that are not over."""

    items: list[UserSession]


class OwnApplication(Model):
    """An application that a visitor has; `address` is where they open it."""

    key: str
    label: str
    address: str | None
    roles: list[str]
    since: str


class Yours(Model):
    """What somebody who signed in is told: who they are, what they have, whom they ask."""

    name: str
    user_name: str
    source: str
    csrf: str
    applications: list[OwnApplication]
    support_contact: str


class WayIn(Model):
    """A source by which a user could sign in: whether it opens to them; else what they would be told, and the reason that they are not told."""

    source: Named
    protocol: str
    opens: bool
    told: str
    support_contact: str
    reason: str
    hint: str
    enabled_from: str | None
    bound_at: str | None


class Ways(Model):
    """By which ways a user could sign in now, and the applications that they would see."""

    ways: list[WayIn]
    applications: list[OwnApplication]


class SignInChoice(Model):
    """One of several ways to sign in."""

    key: str
    label: str
    start: str
    by_code: bool


class Where(Model):
    """By which source somebody signs in; None: by none that is known."""

    source: Named | None
    start: str
    by_code: bool
    choices: list[SignInChoice] = Field(description="Where several sources own the domain: each way to sign in.")
    any: bool
    for_operators: list[Named]


class AskedCode(Model):
    """A code was asked for: `state` goes back with it."""

    state: str
    source: str
    minutes: int


class CameIn(Model):
    """What came of a code: "signed_in", "observed" or "refused"; where one goes on, or what one is told."""

    outcome: str
    back: str
    message: str
    support_contact: str
    trace: str

"""Sign-in through sources: settings, tests, history and sessions.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, TypedDict

if TYPE_CHECKING:
    from dravo.client.types.common import Named
    from dravo.client.types.imports import ReadingStep, SeenAttribute, SourceAnswers
    from dravo.client.types.sources import ChecklistItem, ChecklistValue


class AskedCode(TypedDict):
    """A code was asked for: `state` goes back with it."""

    state: str
    source: str
    minutes: int


class CameIn(TypedDict):
    """What came of a code: "signed_in", "observed" or "refused"; where one goes on, or what one is told."""

    outcome: str
    back: str
    message: str
    support_contact: str
    trace: str


class ClaimedGroup(TypedDict):
    """A group that was claimed: which one it is here ("known", "made"), or that it is "left out"; and what rows give by it."""

    claimed: str
    group: dict[str, Any] | None
    outcome: str
    gives: list[dict[str, str]]


class GroupInClaims(TypedDict):
    """A group that a sign-in claimed, and that its source does not have yet."""

    source: Named
    name: str


class GroupMadeAhead(TypedDict):
    """A group that was made ahead of anyone who comes with it."""

    id: str
    name: str


class GroupsInClaims(TypedDict):
    """Groups that sign-ins claimed, and that are not here yet."""

    items: list[GroupInClaims]


class KnownProvider(TypedDict):
    """What is known of a provider; `waiting` are certificates that its metadata has now and that are not taken over yet."""

    entity_id: str
    sign_in: str
    sign_out: str
    certificates: list[ProviderCertificate]
    waiting: list[ProviderCertificate]
    learned_from: str


class NewSignInTest(TypedDict):
    """A test sign-in with its link, the only time that it is shown."""

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
    """A certificate of ours; `use` is "signs", "comes next" or "was used before"."""

    pem: str
    body: str
    fingerprint: str
    from_at: str
    until_at: str
    use: str


class OwnApplication(TypedDict):
    """An application that a visitor has; `address` is where they open it."""

    key: str
    label: str
    address: str | None
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
    """What a sign-in comes to."""

    outcome: str
    message: str
    hint: str
    steps: list[ReadingStep]
    kind: str
    made: dict[str, Any]
    groups: list[ClaimedGroup]
    access: list[SignInAccess]


class ProviderCertificate(TypedDict):
    """A certificate with which a provider signs."""

    subject: str
    fingerprint: str
    from_at: str
    until_at: str


class SignIn(TypedDict):
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


class SignInAccess(TypedDict):
    """A role that was "gained", "lost" or "kept"."""

    application: dict[str, str]
    role: str
    reasons: list[str]
    what: str


class SignInChoice(TypedDict):
    """One of several ways to sign in."""

    key: str
    label: str
    start: str
    by_code: bool


class SignInLine(TypedDict):
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
    """One sign-in whole: its steps, what arrived, and what it came to."""

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
    steps: list[ReadingStep]
    arrived: list[SeenAttribute]
    kind: str
    made: dict[str, Any]
    groups: list[ClaimedGroup]
    access: list[SignInAccess]
    raw: str


class UserSession(TypedDict):
    """A session of somebody who signed in."""

    id: str
    source: Named
    created_at: str
    last_seen_at: str
    until_at: str


class UserSessions(TypedDict):
    """The sessions of a user that are not over."""

    items: list[UserSession]


class WayIn(TypedDict):
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


class Ways(TypedDict):
    """By which ways a user could sign in now, and the applications that they would see."""

    ways: list[WayIn]
    applications: list[OwnApplication]


class Where(TypedDict):
    """By which source somebody signs in; None: by none that is known."""

    source: Named | None
    start: str
    by_code: bool
    choices: list[SignInChoice]
    any: bool
    for_operators: list[Named]


class Yours(TypedDict):
    """What somebody who signed in is told: who they are, what they have, whom they ask."""

    name: str
    user_name: str
    source: str
    csrf: str
    applications: list[OwnApplication]
    support_contact: str

"""The kinds of events that notifications report."""

from __future__ import annotations

from dataclasses import dataclass

# What an event is about.
APPLICATION, SOURCE, ORGANIZATION = "application", "source", "organization"
SUBJECTS = (APPLICATION, SOURCE, ORGANIZATION)


@dataclass(frozen=True)
class EventKind:
    """A kind of event.

    Attributes:
        key: its name in rules, in the API and in webhooks.
        label: what operators read.
        about: one of `SUBJECTS`; a rule can be limited to applications and sources.
        lasts: whether it is a condition that ends, and is then reported as solved; other events happen once.
        repeats: whether a condition that stays is reported again after some hours. Conditions with levels,
            such as an expiry, are reported when a level is reached instead.
    """

    key: str
    label: str
    about: str
    lasts: bool = True
    repeats: bool = True


TASK_FAILED, APPLICATION_PAUSED, REMOVALS_HELD = "task_failed", "application_paused", "removals_held"
DRIFT_FOUND, SEATS_NEARLY_FULL, SEATS_FULL = "drift_found", "seats_nearly_full", "seats_full"
SECRET_EXPIRING, ACCESS_REQUESTED = "secret_expiring", "access_requested"
CONFLICT_WAITING, IMPORT_FAILED, IMPORT_HELD = "conflict_waiting", "import_failed", "import_held"
DEACTIVATIONS_WAITING, TOKEN_EXPIRING = "deactivations_waiting", "token_expiring"
CERTIFICATE_EXPIRING, KEY_EXPIRING = "certificate_expiring", "key_expiring"
PROVIDER_CHANGED, PROVIDER_UNREADABLE = "provider_changed", "provider_unreadable"
PROVIDER_UPDATED = "provider_updated"
SIGN_INS_REFUSED, TEST_SIGN_IN_REFUSED = "sign_ins_refused", "test_sign_in_refused"
REVIEW_OPENED, REVIEW_DUE, REVIEW_UNDECIDED = "review_opened", "review_due", "review_undecided"
OPERATOR_CREATED, OPERATOR_LOCKED_OUT = "operator_created", "operator_locked_out"
RECOVERY_CODE_USED, API_TOKEN_EXPIRING = "recovery_code_used", "api_token_expiring"
WORKER_RESTARTED, WEBHOOK_DISABLED = "worker_restarted", "webhook_disabled"

EVENT_KINDS = (
    EventKind(TASK_FAILED, "Provisioning tasks failed", APPLICATION),
    EventKind(APPLICATION_PAUSED, "Application paused", APPLICATION),
    EventKind(REMOVALS_HELD, "Removals held", APPLICATION),
    EventKind(DRIFT_FOUND, "Drift found", APPLICATION),
    EventKind(SECRET_EXPIRING, "Secret of a connection expires", APPLICATION, repeats=False),
    EventKind(SEATS_NEARLY_FULL, "Seats nearly full", APPLICATION, repeats=False),
    EventKind(SEATS_FULL, "Seats full", APPLICATION, repeats=False),
    EventKind(ACCESS_REQUESTED, "Access requested", APPLICATION, lasts=False),
    EventKind(REVIEW_OPENED, "Access review created", APPLICATION, lasts=False),
    EventKind(REVIEW_DUE, "Access review due soon", APPLICATION, repeats=False),
    EventKind(REVIEW_UNDECIDED, "Access review ended with open rows", APPLICATION, lasts=False),
    EventKind(CONFLICT_WAITING, "Conflicts waiting", SOURCE),
    EventKind(IMPORT_FAILED, "Import failed", SOURCE),
    EventKind(IMPORT_HELD, "Import held", SOURCE),
    EventKind(DEACTIVATIONS_WAITING, "Deactivations waiting at a disabled source", SOURCE),
    EventKind(TOKEN_EXPIRING, "SCIM token expires", SOURCE, repeats=False),
    EventKind(CERTIFICATE_EXPIRING, "Certificate of a provider expires", SOURCE, repeats=False),
    EventKind(KEY_EXPIRING, "Our certificate at a source expires", SOURCE, repeats=False),
    EventKind(PROVIDER_CHANGED, "Provider certificate waits to be accepted", SOURCE),
    EventKind(PROVIDER_UPDATED, "Provider metadata changed and accepted", SOURCE, lasts=False),
    EventKind(PROVIDER_UNREADABLE, "Provider metadata unreadable", SOURCE),
    EventKind(SIGN_INS_REFUSED, "Many sign-ins refused", SOURCE),
    EventKind(TEST_SIGN_IN_REFUSED, "Test sign-in refused", SOURCE, lasts=False),
    EventKind(OPERATOR_CREATED, "Operator created", ORGANIZATION, lasts=False),
    EventKind(OPERATOR_LOCKED_OUT, "Operator locked out", ORGANIZATION, lasts=False),
    EventKind(RECOVERY_CODE_USED, "Recovery code used", ORGANIZATION, lasts=False),
    EventKind(API_TOKEN_EXPIRING, "API token expires", ORGANIZATION, repeats=False),
    EventKind(WORKER_RESTARTED, "Worker restarted", ORGANIZATION, lasts=False),
    EventKind(WEBHOOK_DISABLED, "Webhook disabled", ORGANIZATION, lasts=False),
)
BY_KEY = {kind.key: kind for kind in EVENT_KINDS}

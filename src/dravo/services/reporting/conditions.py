"""What needs an operator now, in words, as notifications report it."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass

from sqlalchemy import Connection

from dravo.core.expiry import told_from
from dravo.core.instants import Instant, later, seconds_between
from dravo.core.notifications import event_kinds as kinds
from dravo.core.notifications.reporting import Condition
from dravo.protocols.saml.certificates import read_certificates
from dravo.services import settings
from dravo.services.context import AppContext
from dravo.services.sources.sources import token_expiry
from dravo.store.notifications import conditions as stored
from dravo.store.notifications.conditions import Counted, Expiring
from dravo.store.sources import listing
from dravo.store.task_status import FAILED, HELD

DAY, HOUR = 86_400, 3_600
# The days before an expiry, and before the end of a review, at which operators are told.
EXPIRY_LEVELS, REVIEW_LEVELS = (0, 1, 7, 30), (1, 7)
# From which share of its seats a license plan is nearly full.
NEARLY_FULL = 0.9


def current(ctx: AppContext, now: Instant) -> list[Condition]:
    """Return everything that needs an operator now."""
    with ctx.database.reading() as connection:
        return [condition for collect in _COLLECTORS for condition in collect(connection, now)]


def _tasks(connection: Connection, now: Instant) -> Iterator[Condition]:
    for row in stored.tasks_with_status(connection, FAILED):
        yield _counted(
            kinds.TASK_FAILED,
            row,
            f"{row.label}: {_number(row.number, 'provisioning task')} failed",
            f"{row.message or ''}\n\nCorrect the cause, then retry the tasks.",
            f"/provisioning/tasks?application={row.key}&status=failed",
        )
    for row in stored.tasks_with_status(connection, HELD):
        yield _counted(
            kinds.REMOVALS_HELD,
            row,
            f"{row.label}: {_number(row.number, 'removal')} held",
            "There are more removals than the removal limit allows. Nothing is removed until an operator "
            "approves or discards them.",
            f"/provisioning/tasks?application={row.key}&status=held",
        )
    for paused in stored.paused_applications(connection):
        yield Condition(
            kind=kinds.APPLICATION_PAUSED,
            subject_id=paused.id,
            subject=paused.label,
            title=f"{paused.label}: provisioning is paused",
            text=f"{paused.reason or ''}\n\nCorrect the connection, then resume provisioning.".strip(),
            path=f"/applications/{paused.key}/settings",
            application_id=paused.id,
        )


def _drift(connection: Connection, now: Instant) -> Iterator[Condition]:
    for row in stored.open_drift(connection):
        yield _counted(
            kinds.DRIFT_FOUND,
            row,
            f"{row.label}: {_number(row.number, 'difference')} found",
            "The application differs from what it should be. Repair or accept the differences.",
            f"/applications/{row.key}/drift",
        )


def _seats(connection: Connection, now: Instant) -> Iterator[Condition]:
    for plan in stored.filled_plans(connection):
        full = plan.taken >= plan.seats
        if not full and plan.taken < math.ceil(plan.seats * NEARLY_FULL):
            continue
        waits = f" {_number(plan.waiting, 'user')} on the waiting list." if plan.waiting else ""
        yield Condition(
            kind=kinds.SEATS_FULL if full else kinds.SEATS_NEARLY_FULL,
            subject_id=plan.id,
            subject=plan.application,
            title=f"{plan.application}: {plan.taken} of {plan.seats} seats of {plan.label} are taken",
            text=f"Buy seats or unassign users.{waits}",
            path=f"/applications/{plan.application_key}/seats",
            number=plan.taken,
            application_id=plan.application_id,
        )


def _expiring(connection: Connection, now: Instant) -> Iterator[Condition]:
    for each in stored.expiring_secrets(connection, told_from(now)):
        yield _expiry(
            now,
            each,
            kinds.SECRET_EXPIRING,
            f"{each.owner}: the secret of the connection",
            "Create a new secret in the application, and enter it under Settings.",
            f"/applications/{each.owner_key}/settings",
        )
    expiry = token_expiry(now)
    for each in stored.expiring_scim_tokens(connection, expiry):
        if _outlives(each, now):
            yield _expiry(
                now,
                each,
                kinds.TOKEN_EXPIRING,
                f"{each.owner}: the SCIM token '{each.label}'",
                "Rotate the token, and enter the new one at the identity provider.",
                f"/sources/{each.owner_key}",
            )
    for each in stored.expiring_api_tokens(connection, expiry):
        if _outlives(each, now):
            yield _expiry(
                now,
                each,
                kinds.API_TOKEN_EXPIRING,
                f"The API token '{each.label}' of {each.owner}",
                "Create a new token, and enter it in the program that uses this one.",
                "/settings",
            )


def _outlives(each: Expiring, now: Instant) -> bool:
    """Whether a token was made for longer than the time in which it is called expiring: a token for one day
    is meant to end.
    """
    level = _level(each.ends_at, now, EXPIRY_LEVELS)
    if each.created_at is None or level is None:
        return True
    return seconds_between(each.created_at, each.ends_at) > 2 * DAY * max(level, 1)


def _expiry(now: Instant, each: Expiring, kind: str, what: str, text: str, path: str) -> Condition:
    about = kinds.BY_KEY[kind].about
    return Condition(
        kind=kind,
        subject_id=each.id,
        subject=each.owner,
        title=_ends(what, each.ends_at, now),
        text=text,
        path=path,
        level=_level(each.ends_at, now, EXPIRY_LEVELS),
        application_id=each.owner_id if about == kinds.APPLICATION else None,
        source_id=each.owner_id if about == kinds.SOURCE else None,
    )


def _sources(connection: Connection, now: Instant) -> Iterator[Condition]:
    for row in stored.open_conflicts(connection):
        yield _counted(
            kinds.CONFLICT_WAITING,
            row,
            f"{row.label}: {_number(row.number, 'conflict waits', 'conflicts wait')} for a decision",
            f"{row.message or ''}\n\nDecide which user each record belongs to.",
            f"/sources/{row.key}/conflicts",
        )
    for run in stored.unsuccessful_runs(connection):
        failed = run.status == "failed"
        words = " ".join(part for part in (run.message, run.hint) if part)
        yield Condition(
            kind=kinds.IMPORT_FAILED if failed else kinds.IMPORT_HELD,
            subject_id=run.id,
            subject=run.label,
            title=f"{run.label}: the last import {'failed' if failed else 'is held'}",
            text=words or "See the import run.",
            path=f"/sources/{run.key}/runs",
            source_id=run.id,
        )
    for waiting in listing.waiting_sources(connection):
        yield Condition(
            kind=kinds.DEACTIVATIONS_WAITING,
            subject_id=waiting.id,
            subject=waiting.label,
            title=f"{waiting.label}: {_number(waiting.number, 'deactivation waits', 'deactivations wait')}",
            text="The source reported this, but the source is disabled or in its pilot. Until the source is "
            "enabled, these users keep their access and their accounts.\n\n"
            "Preview what enabling the source changes. To deactivate single users now, mark them as left or "
            "inactive under Users.",
            path=f"/sources/{waiting.key}",
            number=waiting.number,
            source_id=waiting.id,
        )


@dataclass(frozen=True)
class _Source:
    """A source in the conditions of its sign-in."""

    id: str
    key: str
    label: str


def _sign_in(connection: Connection, now: Instant) -> Iterator[Condition]:
    for row in stored.sign_ins(connection):
        source = _Source(row.source_id, row.key, row.label)
        ends_at: Instant | None = row.provider.get("ends_at")
        if ends_at is not None and (level := _level(ends_at, now, EXPIRY_LEVELS)) is not None:
            yield _at_sign_in(
                kinds.CERTIFICATE_EXPIRING,
                source,
                _ends(f"{row.label}: the certificate of the provider", ends_at, now),
                "Add the new certificate, or read the metadata again, before it expires.",
                level,
            )
        if row.waiting:
            yield _at_sign_in(
                kinds.PROVIDER_CHANGED,
                source,
                f"{row.label}: the provider has a new certificate",
                "It is not accepted yet. Compare it with the provider, then accept it.",
            )
        if row.trouble:
            yield _at_sign_in(
                kinds.PROVIDER_UNREADABLE,
                source,
                f"{row.label}: the metadata of the provider cannot be read",
                row.trouble,
            )
    for key in stored.own_keys(connection, now):
        ends_at = read_certificates(key.certificate)[0].until
        if (level := _level(ends_at, now, EXPIRY_LEVELS)) is not None:
            yield _at_sign_in(
                kinds.KEY_EXPIRING,
                _Source(key.source_id, key.key, key.label),
                _ends(f"{key.label}: our certificate", ends_at, now),
                "Create the next key, and give its certificate to the provider.",
                level,
            )
    most = int(settings.read(connection)["refused_sign_ins"])
    for refused in stored.refused_sign_ins(connection, later(now, -HOUR)):
        if refused.number >= most:
            yield Condition(
                kind=kinds.SIGN_INS_REFUSED,
                subject_id=refused.id,
                subject=refused.label,
                title=f"{refused.label}: {refused.number:,} sign-ins were refused in the last hour",
                text="The sign-in history shows each with its reason.",
                path=f"/sources/{refused.key}/sign-ins",
                number=refused.number,
                source_id=refused.id,
            )


def _at_sign_in(kind: str, source: _Source, title: str, text: str, level: int | None = None) -> Condition:
    return Condition(
        kind=kind,
        subject_id=source.id,
        subject=source.label,
        title=title,
        text=text,
        path=f"/sources/{source.key}/sign-in",
        level=level,
        source_id=source.id,
    )


def _reviews(connection: Connection, now: Instant) -> Iterator[Condition]:
    for row in stored.open_reviews(connection, later(now, max(REVIEW_LEVELS) * DAY)):
        yield Condition(
            kind=kinds.REVIEW_DUE,
            subject_id=f"{row.id}/{row.application_id[-20:]}",
            subject=row.application,
            title=f"{row.application}: {_number(row.undecided, 'row')} of the review '{row.label}' undecided",
            text=f"The review ends at {row.until_at[:16].replace('T', ' ')} UTC.",
            path=f"/reviews/{row.id}",
            number=row.undecided,
            level=_level(row.until_at, now, REVIEW_LEVELS),
            application_id=row.application_id,
        )


_COLLECTORS: tuple[Callable[[Connection, Instant], Iterable[Condition]], ...] = (
    _tasks,
    _drift,
    _seats,
    _expiring,
    _sources,
    _sign_in,
    _reviews,
)


def _counted(kind: str, row: Counted, title: str, text: str, path: str) -> Condition:
    """Return a condition about an application or a source, as the kind says."""
    about = kinds.BY_KEY[kind].about
    return Condition(
        kind=kind,
        subject_id=row.id,
        subject=row.label,
        title=title,
        text=text.strip(),
        path=path,
        number=row.number,
        application_id=row.id if about == kinds.APPLICATION else None,
        source_id=row.id if about == kinds.SOURCE else None,
    )


def _number(number: int, one: str, several: str = "") -> str:
    return f"{number:,} {one if number == 1 else several or one + 's'}"


def _level(ends_at: Instant | None, now: Instant, levels: Iterable[int]) -> int | None:
    """Return the smallest number of days within which something ends; None if it ends later."""
    if ends_at is None:
        return None
    return next((days for days in sorted(levels) if ends_at <= later(now, days * DAY)), None)


def _ends(what: str, ends_at: Instant, now: Instant) -> str:
    day = ends_at[:10]
    return f"{what} expired on {day}" if ends_at <= now else f"{what} expires on {day}"

"""Test sign-ins: one named user signs in for a limited time, while the source is disabled for all others."""

from __future__ import annotations

import secrets
from dataclasses import dataclass, field, replace

from sqlalchemy import Connection

from dravo.core.errors import InvalidInput
from dravo.core.identity.names import fold
from dravo.core.instants import Instant, later
from dravo.services.context import AppContext
from dravo.services.lookups import pushing_source
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.services.security.secrets import digest
from dravo.services.sign_in.settings.settings import missing
from dravo.services.sources.policy import sign_in_of
from dravo.store import clock
from dravo.store.ids import new_id
from dravo.store.pagination import Page, PageRequest
from dravo.store.sign_in import requests as stored
from dravo.store.sign_in import traces
from dravo.store.sign_in.requests import StoredTest

OBSERVE, FOR_REAL = "observe", "apply"
MODES = (OBSERVE, FOR_REAL)
MINUTES = 30
NOT_OPENED, AT_PROVIDER = "not_opened", "at_provider"


@dataclass(frozen=True)
class NewTestSignIn:
    """A test sign-in to create.

    Attributes:
        user: the user name or email address of the user who will try, as the attribute mapping produces it.
        mode: "observe" changes nothing, "apply" provisions the user.
        minutes: for how long the link is valid, 1 to 1,440.
    """

    user: str
    mode: str
    minutes: int = MINUTES


@dataclass(frozen=True)
class SignInTest:
    """A test sign-in by one named user; `so_far` is its status."""

    id: str
    user: str
    mode: str
    created_by: str
    created_at: Instant
    until_at: Instant
    open: bool
    so_far: str = NOT_OPENED
    so_far_at: Instant | None = None
    trace: str | None = None
    message: str = ""


@dataclass(frozen=True)
class NewSignInTest(SignInTest):
    """A new test sign-in with its link, shown once."""

    link: str = field(default="", repr=False)


def begin(ctx: AppContext, caller: Caller, key: str, wanted: NewTestSignIn, base: str) -> NewSignInTest:
    """Create a test sign-in; the result carries its link, the only time that the link is shown.

    Args:
        ctx: the data folder.
        caller: who creates the test sign-in.
        key: the key of the source.
        wanted: the test sign-in.
        base: the public address of the service.

    Raises:
        InvalidInput, NotFound.
    """
    user, mode, minutes = wanted.user, wanted.mode, wanted.minutes
    if mode not in MODES:
        raise InvalidInput(f"'{mode}' is not a valid mode.", f"Use one of: {', '.join(MODES)}.", "mode")
    if not user.strip():
        raise InvalidInput(
            "The user is missing.", "Enter the user name or email address of the user.", "user"
        )
    if not 1 <= minutes <= 1_440:
        raise InvalidInput(
            "A test sign-in must be valid for 1 to 1,440 minutes.",
            "Set `minutes` to a number in this range.",
            "minutes",
        )
    now, secret = clock.now(), secrets.token_urlsafe(24)
    with ctx.database.writing() as connection:
        source, row = sign_in_of(connection, key)
        if lacking := missing(connection, row):
            raise InvalidInput(f"Missing: {', '.join(lacking)}.", "Enter the values on the Sign-in tab.")
        test = StoredTest(
            id=new_id(),
            source_id=source.id,
            hash=digest(secret),
            user=user.strip(),
            user_key=fold(user.strip()),
            mode=mode,
            created_by=caller.name,
            created_at=now,
            until_at=later(now, minutes * 60),
        )
        stored.insert_test(connection, test)
        details = {"key": key, "user": user.strip(), "mode": mode, "minutes": minutes}
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent("created a test sign-in", "source", source.id, details=details),
        )
    link = f"{base}/sso/{key}/start?sign_in_test={secret}"
    return NewSignInTest(**vars(_line(test, now)), link=link)


def list_test_sign_ins(ctx: AppContext, key: str, page_request: PageRequest) -> Page[SignInTest]:
    """Return a page of a source's test sign-ins, newest first."""
    now = clock.now()
    with ctx.database.reading() as connection:
        source = pushing_source(connection, key)
        return stored.list_tests(
            connection, source.id, page_request, lambda row: _so_far(connection, row, now)
        )


def _so_far(connection: Connection, row: StoredTest, now: Instant) -> SignInTest:
    """Return a test sign-in with how far it is: whether the link was opened, whether the user is at the
    provider, and the last outcome.
    """
    line = _line(row, now)
    begun = stored.begun_at(connection, row.id, now)
    last = traces.last_of_test(connection, row.id)
    if begun is not None and (last is None or last.at < begun):
        return replace(line, so_far=AT_PROVIDER, so_far_at=begun)
    if last is not None:
        return replace(line, so_far=last.outcome, so_far_at=last.at, trace=last.id, message=last.message)
    return replace(line, so_far=NOT_OPENED if line.open else "expired")


def _line(row: StoredTest, now: Instant) -> SignInTest:
    return SignInTest(
        id=row.id,
        user=row.user,
        mode=row.mode,
        created_by=row.created_by,
        created_at=row.created_at,
        until_at=row.until_at,
        open=row.until_at > now,
    )


def by_secret(connection: Connection, source_id: str, secret: str) -> StoredTest | None:
    """Return the test sign-in of a link; None if there is none or it is over."""
    return stored.test_by_hash(connection, source_id, digest(secret), clock.now())

"""Operators: who may run Dravo, how they sign in, and their sessions."""

from __future__ import annotations

import functools
import secrets as random_secrets
from collections.abc import Sequence
from typing import Any

import structlog
from sqlalchemy import Connection, delete, insert, or_, select, update
from sqlalchemy.exc import IntegrityError

from dravo.core.errors import AlreadyThere, InvalidInput, NotFound, NotSignedIn, StillInUse, TooManyTries
from dravo.core.instants import later
from dravo.core.names import fold, user_name_key
from dravo.protocols.signing_in import Proved
from dravo.services import events, second_factor, settings
from dravo.services.auditing import record_change
from dravo.services.house import House
from dravo.services.named import application_by_key
from dravo.services.permissions import AUDITOR, CHIEF, HELP_DESK, KINDS, OWNER, Caller
from dravo.services.rate_limits import Limiter
from dravo.services.second_factor import SecondFactorNeeded
from dravo.services.secrets import csrf_token, digest, hash_password, made_password, password_fits
from dravo.services.sources import check_label
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.identifiers import new_id
from dravo.store.pages import Ask, page

log = structlog.get_logger("operators")

SESSION_HOURS = 12
IDLE_HOURS = 2
SYSTEM = Caller("", "the command line", CHIEF)


def add(
    house: House,
    caller: Caller,
    name: str,
    kind: str,
    password: str | None = None,
    applications: Sequence[str] = (),
    *,
    masked: bool = False,
) -> dict[str, Any]:
    """Add an operator; without a password one is made and shown in the answer, the only time.

    Args:
        applications: of an application owner, by key.
        masked: whether people's attributes are not for them: for help desk and auditors.

    Raises:
        InvalidInput, AlreadyThere, NotFound.
    """
    name = check_label(name)
    if kind not in KINDS:
        raise InvalidInput(f"'{kind}' is no kind of operator.", f"It is one of: {', '.join(KINDS)}.", "kind")
    if (kind == OWNER) != bool(applications):
        raise InvalidInput("An application owner has applications, and nobody else has.", "Say which ones, or another kind.", "applications")
    if masked and kind not in (HELP_DESK, AUDITOR):
        raise InvalidInput(f"For a {kind} nothing can be masked.", "It is for help desk and auditors.", "masked")
    chosen = password or made_password()
    now = clock.now()
    row: dict[str, Any] = {
        "id": new_id(),
        "name": name,
        "name_key": user_name_key(name),
        "kind": kind,
        "masked": masked,
        "password_hash": hash_password(chosen),
        "created_at": now,
    }
    try:
        with house.database.writing() as connection:
            connection.execute(insert(t.operator).values(**row))
            for key in dict.fromkeys(applications):
                of = application_by_key(connection, key).id
                connection.execute(insert(t.operator_application).values(operator_id=row["id"], application_id=of))
            details = {
                "name": name,
                "kind": kind,
                **({"applications": [*applications]} if applications else {}),
                **({"masked": True} if masked else {}),
            }
            record_change(connection, house.keys, caller, "added operator", "operator", row["id"], now, details)
    except IntegrityError:
        raise AlreadyThere(f"There is an operator '{name}' already.", "Take another name.", "name") from None
    return {**one(house, row["id"]), "password": None if password else chosen}


def _line(connection: Connection, row: Any) -> dict[str, Any]:
    owned = applications_of(connection, row)
    return {
        "id": row.id, "name": row.name, "kind": row.kind, "masked": row.masked, "applications": sorted(owned or ()),
        "created_at": row.created_at, "disabled_at": row.disabled_at, "second_factor": row.factor_secret is not None,
        "only_by_source": row.only_by_source,
    }  # fmt: skip


def applications_of(connection: Connection, row: Any) -> frozenset[str] | None:
    """Return the keys of the applications of an application owner; None for all others."""
    if row.kind != OWNER:
        return None
    o, p = t.operator_application.c, t.application.c
    keys = connection.execute(select(p.key).join(t.operator_application, o.application_id == p.id).where(o.operator_id == row.id)).scalars()
    return frozenset(keys)


def listing(house: House, ask: Ask) -> dict[str, Any]:
    """Return a page of operators by name."""
    with house.database.reading() as connection:
        return page(connection, select(t.operator), [t.operator.c.name_key, t.operator.c.id], ask, lambda row: _line(connection, row))


def one(house: House, operator_id: str) -> dict[str, Any]:
    """Return one operator.

    Raises:
        NotFound.
    """
    with house.database.reading() as connection:
        row = connection.execute(select(t.operator).where(t.operator.c.id == operator_id)).first()
        if row is None:
            raise NotFound(f"There is no operator with the id '{operator_id}'.")
        return _line(connection, row)


def disable(house: House, caller: Caller, operator_id: str) -> dict[str, Any]:
    """Shut an operator out: sessions end, tokens stop working. The last chief stays.

    Raises:
        NotFound, StillInUse.
    """
    now = clock.now()
    with house.database.writing() as connection:
        row = connection.execute(select(t.operator).where(t.operator.c.id == operator_id)).first()
        if row is None:
            raise NotFound(f"There is no operator with the id '{operator_id}'.")
        o = t.operator.c
        # Whoever comes in by a source alone counts only with recovery codes: a source can fail.
        gets_in = or_(o.only_by_source.is_(False), o.id.in_(second_factor.who_recovers()))
        chiefs = select(o.id).where(o.kind == CHIEF, o.disabled_at.is_(None), o.id != operator_id, gets_in)
        if row.kind == CHIEF and connection.execute(chiefs.limit(1)).first() is None:
            raise StillInUse("This is the last chief operator who gets in whatever happens.", "Add another chief first.")
        connection.execute(update(t.operator).where(t.operator.c.id == operator_id).values(disabled_at=now))
        connection.execute(delete(t.operator_session).where(t.operator_session.c.operator_id == operator_id))
        record_change(connection, house.keys, caller, "disabled operator", "operator", operator_id, now, {"name": row.name})
    return one(house, operator_id)


# Sessions


def sign_in(house: House, limiter: Limiter, name: str, password: str, address: str, code: str = "") -> tuple[str, dict[str, Any]]:
    """Return a new session's secret and what the console is told, for a name and password that fit, and the second factor if there is one.

    Raises:
        NotSignedIn: if they do not; the same for a name that is not known.
        SecondFactorNeeded: if only that is missing.
        TooManyTries.
    """
    # By name and address together, so that nobody can lock an operator out from elsewhere.
    marks = (f"{fold(name)} from {address}", f"address {address}")
    limiter.check(*marks)
    with house.database.reading() as connection:
        row = connection.execute(select(t.operator).where(t.operator.c.name_key == user_name_key(name))).first()
    # Something is verified either way, so that time does not tell whether the name exists.
    fits = password_fits(row.password_hash if row else _nobody(), password)
    recovers = row is not None and row.only_by_source
    if recovers:
        # On the day on which the source is down a recovery code lets them in; their password counts for nothing.
        with house.database.reading() as connection:
            fits = second_factor.knows(connection, row, password)
    if row is None or not fits or row.disabled_at:
        limiter.failed(*marks)
        _note_failure(house, limiter, row, address, "disabled" if fits and row is not None else "password")
        raise _does_not_fit()
    if row.factor_secret is not None:
        _check_factor(house, limiter, marks, row, code, address)
    with house.database.writing() as connection:
        # It is used up only now: whoever is asked for their second factor first sends it once more.
        if recovers and not second_factor.recovers(connection, row, password):
            raise _does_not_fit()
        limiter.worked(marks[0])
        return begin_session(house, connection, row)


def _does_not_fit() -> NotSignedIn:
    return NotSignedIn("Name and password do not fit.", "Try again; letter case matters in the password.")


def begin_session(house: House, connection: Connection, row: Any, source: Any = None, proved: Proved | None = None) -> tuple[str, dict[str, Any]]:
    """Begin a session of an operator; returns its secret and what the console is told.

    Args:
        source: the source that let them in, None if their password did.
        proved: whom its provider proved.
    """
    now = clock.now()
    secret = random_secrets.token_urlsafe(32)
    connection.execute(delete(t.operator_session).where(t.operator_session.c.expires_at < now))
    named = {"provider_session": proved.session, "subject": proved.subject, "subject_format": proved.format} if proved is not None else {}
    connection.execute(
        insert(t.operator_session).values(
            **named, hash=digest(secret), operator_id=row.id, source_id=source.id if source is not None else None, created_at=now,
            last_seen_at=now, expires_at=later(now, SESSION_HOURS * 3600),
        )
    )  # fmt: skip
    unfinished = source is None and lacks_factor(connection, row)
    who = Caller(row.id, row.name, row.kind, applications=applications_of(connection, row), masked=row.masked, unfinished=unfinished)
    record_change(connection, house.keys, who, "signed in", "operator", row.id, now, {"source": source.key} if source is not None else {})
    return secret, session_line(who, csrf_token(secret))


def lacks_factor(connection: Connection, row: Any) -> bool:
    """Whether an operator who came by their password has to set up a second factor before anything else."""
    return row.factor_secret is None and bool(settings.read(connection)["second_factor"])


def codes_mark(operator_id: str) -> str:
    """Return the name under which wrong codes of an operator's second factor are counted, wherever they are given."""
    return f"codes of {operator_id}"


def _note_failure(house: House, limiter: Limiter, row: Any, address: str, what: str) -> None:
    """Write down that somebody could not sign in: in the log each time, in the audit log of an operator once in a while."""
    events.note(events.SIGN_IN, "operator", operator=row.name if row is not None else None, address=address, what=what)
    if row is None:
        return
    mark = f"failures noted of {row.id}"
    try:
        limiter.check(mark)
    except TooManyTries:
        return
    limiter.failed(mark)
    with house.database.writing() as connection:
        who = Caller("", f"somebody at {address}", row.kind)
        record_change(connection, house.keys, who, "failed to sign in", "operator", row.id, clock.now(), {"name": row.name, "what": what})


def _check_factor(house: House, limiter: Limiter, marks: Sequence[str], row: Any, code: str, address: str) -> None:
    if not code.strip():
        raise SecondFactorNeeded("Your second factor is missing.", "Type the code that your app shows, or a recovery code.", "code")
    # From wherever they come: whoever gets as far has the password, so that nobody else is locked out by it.
    limiter.check(codes_mark(row.id))
    with house.database.writing() as connection:
        fits = second_factor.fits(house, connection, row, code)
    if fits:
        limiter.worked(codes_mark(row.id))
    else:
        limiter.failed(*marks, codes_mark(row.id))
        _note_failure(house, limiter, row, address, "second factor")
        raise NotSignedIn("This is not the code of your second factor.", "Type the present one; each counts once. Or a recovery code.", "code")


@functools.cache
def _nobody() -> str:
    """Return what is kept of a password that nobody has."""
    return hash_password(random_secrets.token_urlsafe(32))


def session_line(who: Caller, csrf: str) -> dict[str, Any]:
    """Return what the console is told about its session."""
    return {
        "name": who.name, "kind": who.kind, "csrf": csrf, "permissions": sorted(who.permissions),
        "applications": None if who.applications is None else sorted(who.applications), "needs_second_factor": who.unfinished,
    }  # fmt: skip


def by_session(house: House, secret: str) -> tuple[Caller, str] | None:
    """Return whose session it is and its CSRF token, or None if it is not one, or has ended."""
    s, o = t.operator_session.c, t.operator.c
    now, kept = clock.now(), digest(secret)
    with house.database.reading() as connection:
        row = connection.execute(
            select(o.id, o.name, o.kind, o.masked, o.factor_secret, s.last_seen_at, s.source_id)
            .join(t.operator, o.id == s.operator_id)
            .where(s.hash == kept, s.expires_at > now, s.last_seen_at > later(now, -IDLE_HOURS * 3600), o.disabled_at.is_(None))
        ).first()
        if row is None:
            return None
        owned = applications_of(connection, row)
        unfinished = row.source_id is None and lacks_factor(connection, row)
    if row.last_seen_at < later(now, -60):
        with house.database.writing() as connection:
            connection.execute(update(t.operator_session).where(s.hash == kept).values(last_seen_at=now))
    return Caller(row.id, row.name, row.kind, session=secret, applications=owned, masked=row.masked, unfinished=unfinished), csrf_token(secret)


def end_session(house: House, caller: Caller) -> Any:
    """End the caller's session; returns the row that it was, None if there was none."""
    if not caller.session:
        return None
    with house.database.writing() as connection:
        here = t.operator_session.c.hash == digest(caller.session)
        row = connection.execute(select(t.operator_session).where(here)).first()
        connection.execute(delete(t.operator_session).where(here))
    return row


def sessions(house: House, caller: Caller) -> dict[str, Any]:
    """Return where the caller is signed in, this session among them."""
    s, now = t.operator_session.c, clock.now()
    live = (s.operator_id == caller.operator_id, s.expires_at > now, s.last_seen_at > later(now, -IDLE_HOURS * 3600))
    statement = select(t.operator_session, t.source.c.key, t.source.c.label).outerjoin(t.source, t.source.c.id == s.source_id)
    with house.database.reading() as connection:
        rows = connection.execute(statement.where(*live).order_by(s.created_at.desc()).limit(50)).all()
    this = digest(caller.session) if caller.session else ""
    return {
        "items": [
            {
                "created_at": row.created_at, "last_seen_at": row.last_seen_at, "until_at": row.expires_at, "this": row.hash == this,
                "source": {"key": row.key, "label": row.label} if row.key is not None else None,
            }
            for row in rows
        ]
    }  # fmt: skip


def end_other_sessions(house: House, caller: Caller) -> dict[str, Any]:
    """End every session of the caller but this one."""
    s, this = t.operator_session.c, digest(caller.session) if caller.session else ""
    with house.database.writing() as connection:
        ended = connection.execute(delete(t.operator_session).where(s.operator_id == caller.operator_id, s.hash != this)).rowcount
        record_change(connection, house.keys, caller, "ended own sessions", "operator", caller.operator_id, clock.now(), {"ended": ended})
    return sessions(house, caller)

"""Deliveries: which are to be tried now, one attempt, and what follows from how it went.

Level-triggered: an attempt reads what is due, and its version, when it is sent; what it reached is agreed in that version, so that
a change that came meanwhile is still due.
"""

from __future__ import annotations

import random
import time
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, and_, bindparam, case, delete, exists, insert, or_, select, update
from sqlalchemy.exc import IntegrityError

from dravo.core.accounts import describe
from dravo.core.errors import DravoError, NotFound
from dravo.core.instants import Instant, later
from dravo.protocols.scim.conversation import HeldBySettings, IsBound, MustPause, Reached, Refused, Trouble, TryLater, Wanted, bring
from dravo.protocols.scim.outgoing import Client, Request, Unreachable
from dravo.protocols.scim.outgoing import Connection as Outgoing
from dravo.services.auditing import record_change
from dravo.services.house import House
from dravo.services.permissions import Caller
from dravo.store import clock, views
from dravo.store import tables as t
from dravo.store.applying import DONE, FAILED, HELD, WAITING
from dravo.store.identifiers import new_id
from dravo.store.pages import Ask, page

FIRST_PAUSE, LONGEST_PAUSE = 1.0, 300.0
# After so many failures in a row an application counts as not answering: it is probed by one request at a time.
NOT_ANSWERING = 3
LONGEST_PROBE_PAUSE = 60.0


@dataclass(frozen=True)
class Ready:
    """A delivery that may be tried now."""

    id: str
    account_id: str
    application_id: str


def ready(house: House, now: Instant, busy: dict[str, int], in_hand: set[str], most: int) -> list[Ready]:
    """Return deliveries to be tried now, within each application's pace.

    Args:
        busy: for an application id how many attempts are under way.
        in_hand: accounts that are being worked on; one account is never in two hands.
        most: how many to return at the most.
    """
    d, p = t.delivery.c, t.application.c
    chosen: list[Ready] = []
    with house.database.reading() as connection:
        applications = connection.execute(
            select(p.id, p.at_a_time, p.failures).where(
                p.switched_on.is_(True),
                p.base_url.is_not(None),
                p.secret.is_not(None),
                p.paused_at.is_(None),
                or_(p.retry_at.is_(None), p.retry_at <= now),
                exists().where(d.application_id == p.id, d.state == WAITING, d.next_attempt_at <= now),
            )
        ).all()
        for application in applications:
            pace = 1 if application.failures >= NOT_ANSWERING else application.at_a_time
            free = min(pace - busy.get(application.id, 0), most - len(chosen))
            if free <= 0:
                continue
            rows = connection.execute(
                select(d.id, d.account_id)
                .where(
                    d.application_id == application.id,
                    d.state == WAITING,
                    d.next_attempt_at <= now,
                    ~exists().where(t.mark.c.user_id == d.user_id),
                )
                .order_by(d.next_attempt_at)
                .limit(free + len(in_hand))
            )
            fitting = [Ready(row.id, row.account_id, application.id) for row in rows if row.account_id not in in_hand]
            chosen.extend(fitting[:free])
    return chosen


_WORK = (
    select(
        t.account.c.id.label("account_id"), t.account.c.user_id, t.account.c.due, t.account.c.due_version, t.account.c.agreed,
        t.account.c.remote_id, t.account.c.origin,
        t.application.c.id.label("application_id"), t.application.c.base_url, t.application.c.secret,
        t.application.c.create_accounts, t.application.c.update_accounts, t.application.c.adopt_by_user_name,
        t.application.c.capabilities, t.application.c.failures, t.application.c.answered_at, t.application.c.switched_on,
        t.application.c.paused_at, t.delivery.c.attempts,
    )
    .join(t.account, t.account.c.id == t.delivery.c.account_id)
    .join(t.application, t.application.c.id == t.delivery.c.application_id)
    .where(
        t.delivery.c.id == bindparam("delivery"),
        t.delivery.c.state == WAITING,
        ~exists().where(t.mark.c.user_id == t.delivery.c.user_id),
    )
)  # fmt: skip


def attempt(house: House, client: Client, delivery_id: str) -> str | None:
    """Try one delivery, and write down how it went.

    Returns:
        The outcome ("done", "waiting", "failed", "held", "paused"), or None if there was nothing left to do.
    """
    with house.database.reading() as connection:
        work = connection.execute(_WORK, {"delivery": delivery_id}).first()
    if work is None or not work.switched_on or work.paused_at or not work.secret:
        return None
    started = clock.now()
    exchanges: list[dict[str, Any]] = []
    try:
        reached = _converse(house, client, work, exchanges)
    except Trouble as trouble:
        return _settle_trouble(house, work, delivery_id, trouble, started, exchanges)
    except DravoError as wrong:
        return _settle_trouble(house, work, delivery_id, MustPause(wrong.message, wrong.mend), started, exchanges)
    try:
        _settle(house, work, delivery_id, reached, started, exchanges)
    except IntegrityError:
        double = Refused("The account that was found there belongs to another person here.", "See the application's accounts for whose it is.")
        return _settle_trouble(house, work, delivery_id, double, started, exchanges)
    return DONE


def _converse(house: House, client: Client, work: Any, exchanges: list[dict[str, Any]]) -> Reached:
    """Drive the conversation: send its requests, answer its questions, keep what was exchanged (no bodies, no secrets)."""
    outgoing = Outgoing(work.base_url, house.keys.decrypt(work.secret))
    capabilities = work.capabilities or {}
    wanted = Wanted(
        work.user_id,
        work.due,
        work.agreed,
        work.remote_id,
        work.create_accounts,
        work.update_accounts,
        work.adopt_by_user_name,
        capabilities.get("patch", True),
    )
    conversation = bring(wanted)
    answer: Any = None
    while True:
        try:
            question = conversation.send(answer)
        except StopIteration as end:
            reached: Reached = end.value
            return reached
        if isinstance(question, IsBound):
            answer = _is_bound(house, work.application_id, work.account_id, question.remote_id)
        else:
            answer = _exchange(client, outgoing, question, exchanges)


def _exchange(client: Client, outgoing: Outgoing, request: Request, exchanges: list[dict[str, Any]]) -> Any:
    line: dict[str, Any] = {"method": request.method, "path": request.path, "query": dict(request.params) or None}
    began = time.monotonic()
    try:
        response = client.send(outgoing, request)
    except Unreachable as wrong:
        exchanges.append({**line, "status": None, "milliseconds": round((time.monotonic() - began) * 1000), "said": str(wrong)})
        doubt = " Whether it was carried out is not known; the next attempt looks first." if wrong.sent and request.method != "GET" else ""
        raise TryLater(f"The application does not answer: {wrong}.{doubt}", "It is tried again by itself.") from None
    said = None if response.ok else response.excerpt[:400]
    exchanges.append({**line, "status": response.status, "milliseconds": round(response.seconds * 1000), "said": said})
    return response


def _is_bound(house: House, application_id: str, account_id: str, remote_id: str) -> bool:
    a = t.account.c
    with house.database.reading() as connection:
        where = (a.application_id == application_id, a.remote_id == remote_id, a.id != account_id)
        return connection.execute(select(a.id).where(*where)).first() is not None


def _settle(house: House, work: Any, delivery_id: str, reached: Reached, started: Instant, exchanges: list[dict[str, Any]]) -> None:
    now = clock.now()
    with house.database.writing() as connection:
        connection.execute(
            update(t.account)
            .where(t.account.c.id == work.account_id)
            .values(
                agreed=work.due,
                # What was left alone meanwhile counts as agreed in a later version already.
                agreed_version=case((t.account.c.agreed_version > work.due_version, t.account.c.agreed_version), else_=work.due_version),
                agreed_at=now,
                remote_id=reached.remote_id,
                origin=reached.origin or (work.origin if reached.remote_id else None),
            )
        )
        still_due = connection.execute(select(t.account.c.due_version).where(t.account.c.id == work.account_id)).scalar_one()
        values: dict[str, Any] = {"attempts": work.attempts + 1, "message": None, "mend": None}
        if still_due == work.due_version:
            values |= {"state": DONE, "closed_at": now, "next_attempt_at": None, "version": work.due_version}
        else:
            values |= {"state": WAITING, "next_attempt_at": now}
        where = (t.delivery.c.id == delivery_id, t.delivery.c.closed_at.is_(None))
        connection.execute(update(t.delivery).where(*where).values(**values))
        _note_attempt(connection, delivery_id, work.due_version, started, now, DONE, None, exchanges)
        if exchanges and (work.failures or not work.answered_at or work.answered_at < later(now, -10)):
            _note_answer(connection, work, now)


def _note_answer(connection: Connection, work: Any, now: Instant) -> None:
    connection.execute(
        update(t.application)
        .where(t.application.c.id == work.application_id, t.application.c.paused_at.is_(None))
        .values(failures=0, retry_at=None, answered_at=now, trouble=None, trouble_mend=None)
    )
    if work.failures >= NOT_ANSWERING:
        # It is back: those that only waited for it need not wait longer.
        d = t.delivery.c
        where = (d.application_id == work.application_id, d.state == WAITING, d.next_attempt_at > now)
        connection.execute(update(t.delivery).where(*where).values(next_attempt_at=now))


def _settle_trouble(house: House, work: Any, delivery_id: str, trouble: Trouble, started: Instant, exchanges: list[dict[str, Any]]) -> str:
    now = clock.now()
    values: dict[str, Any] = {"attempts": work.attempts + 1, "message": trouble.message, "mend": trouble.mend}
    of_application: dict[str, Any] = {}
    if isinstance(trouble, MustPause):
        outcome, values = "paused", {**values, "next_attempt_at": now}
        of_application = {"paused_at": now, "trouble": trouble.message, "trouble_mend": trouble.mend}
    elif isinstance(trouble, TryLater):
        outcome = WAITING
        values["next_attempt_at"] = later(now, max(trouble.after or 0.0, pause(work.attempts, LONGEST_PAUSE)))
        if not _answers_otherwise(exchanges):
            of_application = {"failures": t.application.c.failures + 1, "trouble": trouble.message, "trouble_mend": trouble.mend}
        if trouble.after is not None:
            of_application["retry_at"] = later(now, trouble.after)
        elif of_application and work.failures + 1 >= NOT_ANSWERING:
            of_application["retry_at"] = later(now, pause(work.failures + 1 - NOT_ANSWERING, LONGEST_PROBE_PAUSE))
    else:
        outcome = HELD if isinstance(trouble, HeldBySettings) else FAILED
        values |= {"state": outcome, "next_attempt_at": None}
    with house.database.writing() as connection:
        d = t.delivery.c
        where = [d.id == delivery_id, d.closed_at.is_(None)]
        if outcome in (FAILED, HELD):
            # A refusal is of the version that was sent; what has become due meanwhile is still to be tried.
            where.append(d.version == work.due_version)
        connection.execute(update(t.delivery).where(*where).values(**values))
        if of_application:
            connection.execute(update(t.application).where(t.application.c.id == work.application_id).values(**of_application))
        elif work.failures:
            _note_answer(connection, work, now)
        _note_attempt(connection, delivery_id, work.due_version, started, now, outcome, trouble.message, exchanges)
    return outcome


def _answers_otherwise(exchanges: list[dict[str, Any]]) -> bool:
    """Whether only a reply was lost in an attempt in which the application had answered: then it is this one's trouble, not its."""
    return bool(exchanges) and exchanges[-1]["status"] is None and any(each["status"] and each["status"] < 500 for each in exchanges)


def pause(attempts: int, longest: float) -> float:
    """Return how many seconds to wait after so many attempts: growing, with jitter, never longer than the longest."""
    growing: float = FIRST_PAUSE * 2 ** min(attempts, 12)
    return min(longest, growing) * random.uniform(0.75, 1.25)


def _note_attempt(
    connection: Connection, delivery_id: str, version: int, started: Instant, ended: Instant, outcome: str,
    message: str | None, exchanges: list[dict[str, Any]],
) -> None:  # fmt: skip
    connection.execute(
        insert(t.delivery_attempt).values(
            delivery_id=delivery_id, version=version, started_at=started, ended_at=ended, outcome=outcome, message=message, exchanges=exchanges
        )
    )


def sweep(house: House, now: Instant, days: int) -> None:
    """Forget the attempts of deliveries that were closed more than so many days ago."""
    closed = select(t.delivery.c.id).where(t.delivery.c.closed_at < later(now, -86_400 * days))
    with house.database.writing() as connection:
        connection.execute(delete(t.delivery_attempt).where(t.delivery_attempt.c.delivery_id.in_(closed)))


# Looking at deliveries, and trying again


def _statement() -> Any:
    d, a, u, p = t.delivery.c, t.account.c, t.user.c, t.application.c
    return (
        select(
            d.id, d.state, d.version, d.attempts, d.created_at, d.next_attempt_at, d.closed_at, d.message, d.mend, d.account_id, d.aim,
            u.id.label("user_id"), u.display_name, u.user_name,
            p.key.label("application_key"), p.label.label("application_label"),
            p.paused_at, p.switched_on, p.trouble, p.trouble_mend, p.failures,
        )
        .join(t.account, a.id == d.account_id)
        .join(t.user, u.id == d.user_id)
        .join(t.application, p.id == d.application_id)
    )  # fmt: skip


def _line(row: Any) -> dict[str, Any]:
    waits_for = None
    if row.state == WAITING:
        if row.paused_at:
            waits_for = "the application is paused"
        elif not row.switched_on:
            waits_for = "the application is switched off"
        elif row.failures >= NOT_ANSWERING:
            waits_for = "the application does not answer"
    return {
        "id": row.id,
        "person": {"id": row.user_id, "display_name": row.display_name, "user_name": row.user_name},
        "application": {"key": row.application_key, "label": row.application_label},
        "account": row.account_id,
        "state": row.state,
        "aim": row.aim,
        "version": row.version,
        "attempts": row.attempts,
        "created_at": row.created_at,
        "next_attempt_at": row.next_attempt_at,
        "closed_at": row.closed_at,
        "message": row.message or (row.trouble if waits_for else None),
        "mend": row.mend or (row.trouble_mend if waits_for else None),
        "waits_for": waits_for,
    }


def listing(
    house: House, ask: Ask, state: str | None = None, application: str | None = None, person_id: str | None = None, words: str | None = None
) -> dict[str, Any]:
    """Return a page of deliveries, newest first; `state` may be "open" for all that are not closed."""
    d = t.delivery.c
    statement = _statement()
    if state == "open":
        statement = statement.where(d.closed_at.is_(None))
    elif state:
        statement = statement.where(d.state == state)
    if application:
        statement = statement.where(t.application.c.key == application)
    if person_id:
        statement = statement.where(d.user_id == person_id)
    if words:
        u = t.user.c
        statement = statement.where(or_(views.contains(u.display_name_key, words), views.contains(u.user_name_key, words)))
    with house.database.reading() as connection:
        return page(connection, statement, [d.id], ask, _line, newest_first=True)


def one(house: House, delivery_id: str) -> dict[str, Any]:
    """Return one delivery with its last hundred attempts.

    Raises:
        NotFound.
    """
    with house.database.reading() as connection:
        row = connection.execute(_statement().where(t.delivery.c.id == delivery_id)).first()
        if row is None:
            raise NotFound(f"There is no delivery with the id '{delivery_id}'.")
        n = t.delivery_attempt.c
        attempts = connection.execute(select(t.delivery_attempt).where(n.delivery_id == delivery_id).order_by(n.id.desc()).limit(100)).all()
    return {
        **_line(row),
        "tries": [
            {
                "version": each.version,
                "started_at": each.started_at,
                "ended_at": each.ended_at,
                "outcome": each.outcome,
                "message": each.message,
                "exchanges": each.exchanges,
            }
            for each in attempts
        ],
    }


def again(house: House, caller: Caller, delivery_id: str) -> dict[str, Any]:
    """Try a delivery again at once; one that is done is opened anew, to look at the account there and mend it.

    Raises:
        NotFound.
    """
    now = clock.now()
    with house.database.writing() as connection:
        row = connection.execute(select(t.delivery).where(t.delivery.c.id == delivery_id)).first()
        if row is None:
            raise NotFound(f"There is no delivery with the id '{delivery_id}'.")
        target = delivery_id
        if row.closed_at is not None:
            target = _open_anew(connection, row.account_id, now)
        connection.execute(update(t.delivery).where(t.delivery.c.id == target).values(state=WAITING, next_attempt_at=now, message=None, mend=None))
        record_change(connection, house.keys, caller, "delivered again", "delivery", target, now, {"application": row.application_id})
    return one(house, target)


def _open_anew(connection: Connection, account_id: str, now: Instant) -> str:
    """Have an account looked at again although it counts as agreed: forget what was agreed, so that all of it is compared."""
    from_there = select(t.account).where(t.account.c.id == account_id)
    account = connection.execute(from_there).one()
    d = t.delivery.c
    present = connection.execute(select(d.id).where(and_(d.account_id == account_id, d.closed_at.is_(None)))).scalar()
    if present:
        return str(present)
    connection.execute(
        update(t.account)
        .where(t.account.c.id == account_id)
        .values(agreed=None, agreed_version=0, due_version=account.due_version + 1, due_since=now)
    )
    connection.execute(update(t.user).where(t.user.c.id == account.user_id).values(revision=t.user.c.revision + 1))
    delivery_id = new_id()
    connection.execute(
        insert(t.delivery).values(
            id=delivery_id, account_id=account_id, application_id=account.application_id, user_id=account.user_id, state=WAITING,
            version=account.due_version + 1, aim=describe(account.due), attempts=0, created_at=now, next_attempt_at=now,
        )
    )  # fmt: skip
    return delivery_id

"""One attempt at a provisioning task: what is sent, and how its result is written."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import Connection, bindparam, case, exists, insert, select, update
from sqlalchemy.exc import IntegrityError

from dravo.core.errors import DravoError
from dravo.core.instants import Instant, seconds_between
from dravo.core.provisioning.accounts import ABSENT
from dravo.core.provisioning.removal_limit import takes_away
from dravo.protocols.scim_client.account_sync import AtHand, Conversation, IsBound, Reached, Wanted, bring
from dravo.protocols.scim_client.capabilities import Capabilities
from dravo.protocols.scim_client.responses import HeldBySettings, MustPause, Refused, Trouble, TryLater, Unknown
from dravo.services.context import House
from dravo.services.provisioning import health as application_health
from dravo.services.provisioning.client import LIST_SECONDS, Talk, Talker, There
from dravo.services.provisioning.queue import NOT_HELD, UNKNOWN
from dravo.store import clock, provisioned_groups
from dravo.store import tables as t
from dravo.store.plan_writer import DONE, FAILED, HELD, WAITING
from dravo.store.prepared_statements import Quick

_WORK = Quick(
    select(
        t.account.c.id.label("account_id"), t.account.c.user_id, t.account.c.due, t.account.c.due_version, t.account.c.agreed,
        t.account.c.remote_id, t.account.c.origin,
        t.application.c.id.label("application_id"), t.application.c.base_url, t.application.c.secret,
        t.application.c.create_accounts, t.application.c.update_accounts, t.application.c.adopt_by_user_name,
        t.application.c.capabilities, t.application.c.auth, t.application.c.per_second, t.account.c.doubt_at, t.account.c.lists_from_at,
        t.account.c.to_empty,
        t.application.c.failures, t.application.c.answered_at, t.application.c.switched_on,
        t.application.c.paused_at, t.delivery.c.attempts,
    )
    .join(t.account, t.account.c.id == t.delivery.c.account_id)
    .join(t.application, t.application.c.id == t.delivery.c.application_id)
    .where(
        t.delivery.c.id == bindparam("delivery"),
        t.delivery.c.state == WAITING,
        NOT_HELD,
        ~exists().where(t.mark.c.user_id == t.delivery.c.user_id),
    )
)  # fmt: skip


_AGREE = Quick(
    update(t.account)
    .where(t.account.c.id == bindparam("account"))
    .values(
        agreed=bindparam("due", type_=t.account.c.agreed.type),
        had=bindparam("due", type_=t.account.c.had.type),
        # What was left alone meanwhile counts as agreed in a later version already.
        agreed_version=case((t.account.c.agreed_version > bindparam("version"), t.account.c.agreed_version), else_=bindparam("version")),
        agreed_at=bindparam("at"),
        remote_id=bindparam("remote"),
        doubt_at=None,
        to_empty=None,
        origin=bindparam("came"),
    )
)
_DUE_VERSION = Quick(select(t.account.c.due_version).where(t.account.c.id == bindparam("account")))
_CLOSE = Quick(
    update(t.delivery)
    .where(t.delivery.c.id == bindparam("delivery"), t.delivery.c.closed_at.is_(None))
    .values(
        attempts=bindparam("attempted"), message=None, mend=None, kind=None, state=DONE, closed_at=bindparam("ended"),
        next_attempt_at=None, version=bindparam("sent"),
    )
)  # fmt: skip
# Something else is due by now. What the removal limits hold meanwhile stays held, as it was told.
_held = t.delivery.c.held_at.is_not(None)
_GO_ON = Quick(
    update(t.delivery)
    .where(t.delivery.c.id == bindparam("delivery"), t.delivery.c.closed_at.is_(None))
    .values(
        attempts=bindparam("attempted"), version=bindparam("now_due"), next_attempt_at=bindparam("next"),
        state=case((_held, t.delivery.c.state), else_=WAITING), message=case((_held, t.delivery.c.message)),
        mend=case((_held, t.delivery.c.mend)), kind=case((_held, t.delivery.c.kind)),
    )
)  # fmt: skip
_MAKE_ATTEMPT = Quick(insert(t.delivery_attempt))


@dataclass(frozen=True)
class Settlement:
    """How an attempt went, to be written down: alone, or with others in one transaction."""

    house: House
    delivery_id: str
    work: Any
    went: Reached | Trouble
    started: Instant
    talk: Talk
    # Whether a trouble counts towards the application's not answering: of those that shared one request, one does.
    counts: bool = True

    def apply(self, connection: Connection) -> str:
        """Write it down and return the outcome: "done", "waiting", "failed", "held" or "paused".

        Raises:
            IntegrityError: if the account that was found there belongs to another person here; then nothing is written.
        """
        if _DUE_VERSION.first(connection, {"account": self.work.account_id}) is None:
            # Its application was removed meanwhile, and with it everything about it.
            return DONE
        if isinstance(self.went, Trouble):
            return _settle_trouble(connection, self, self.went)
        _settle(connection, self.work, self.delivery_id, self.went, self.started, self.talk.exchanges)
        return DONE

    def write(self) -> str:
        """Write it down in a transaction of its own."""
        try:
            with self.house.database.writing() as connection:
                return self.apply(connection)
        except IntegrityError:
            double = Refused(
                "The account that was found there belongs to another person here.",
                "See the application's accounts for whose it is.",
                "another person's",
            )
            with self.house.database.writing() as connection:
                return replace(self, went=double).apply(connection)


def write_together(settlements: Sequence[Settlement]) -> list[str]:
    """Write down how several attempts went, in one transaction if that can be; return their outcomes."""
    try:
        with settlements[0].house.database.writing() as connection:
            return [each.apply(connection) for each in settlements]
    except IntegrityError:
        return [each.write() for each in settlements]


@dataclass(frozen=True)
class Attempt:
    """One attempt that has begun: what is due now, since when it is tried, and the talk with the application."""

    house: House
    delivery_id: str
    work: Any
    started: Instant
    talk: Talk

    def settlement(self, went: Reached | Trouble, *, counts: bool = True) -> Settlement:
        """Return how it went, to be written down; see `Settlement.counts`."""
        return Settlement(self.house, self.delivery_id, self.work, went, self.started, self.talk, counts)

    def conversation(self, capabilities: Capabilities) -> Conversation:
        """Return the conversation that brings the account to what is due."""
        work = self.work
        return bring(
            Wanted(
                work.user_id, work.due, work.agreed, work.remote_id, work.create_accounts, work.update_accounts, work.adopt_by_user_name,
                capabilities, work.doubt_at is not None, frozenset(work.to_empty or ()),
            )
        )  # fmt: skip

    def answers(self, talker: Talker, capabilities: Capabilities) -> Callable[[Any], Any]:
        """Return what answers the conversation's other questions."""
        began, work, talk = time.monotonic(), self.work, self.talk
        # A list serves if it was begun to be read after it came into doubt whether the account was made, and after its last deletion or repair.
        now = clock.now()
        ages = [seconds_between(since, now) for since in (work.doubt_at, work.lists_from_at) if since is not None]
        oldest = min([LIST_SECONDS, *ages])

        def answer(question: Any) -> Any:
            if isinstance(question, IsBound):
                return _is_bound(self.house, work.application_id, work.account_id, question.remote_id)
            if isinstance(question, AtHand):
                waiting = talker.worth_a_list(work.application_id)
                return talker.listed(talk, "/Users", capabilities, began - oldest, most=max(1_000, 10 * waiting)) if waiting else None
            try:
                return talker.listed(talk, "/Users", capabilities, began - oldest)
            except Refused:
                return None
            except MustPause as trouble:
                # A list that is not to be read says nothing of making and changing accounts.
                if trouble.status == 403:
                    return None
                raise

        return answer


def begin(house: House, delivery_id: str) -> Attempt | None:
    """Begin an attempt by reading what is due now; None if there is nothing left to do."""
    work = _WORK.first(house.database.glancing(), {"delivery": delivery_id})
    if work is None or not work.switched_on or work.paused_at or not work.secret:
        return None
    there = There(work.application_id, work.base_url, work.secret, work.auth, work.capabilities, work.per_second)
    return Attempt(house, delivery_id, work, clock.now(), Talk(there))


def attempt(house: House, talker: Talker, delivery_id: str) -> str | None:
    """Try one delivery, and write down how it went.

    Returns:
        The outcome ("done", "waiting", "failed", "held", "paused"), or None if there was nothing left to do.
    """
    settlement = carry_out(house, talker, delivery_id)
    return settlement.write() if settlement is not None else None


def carry_out(house: House, talker: Talker, delivery_id: str) -> Settlement | None:
    """Try one delivery; what is returned has to be written down. None if there was nothing left to do."""
    begun = begin(house, delivery_id)
    if begun is None:
        return None
    try:
        capabilities = talker.capabilities(begun.talk)
        return begun.settlement(talker.converse(begun.talk, begun.conversation(capabilities), begun.answers(talker, capabilities)))
    except (Trouble, DravoError) as wrong:
        return begun.settlement(as_trouble(wrong))


def as_trouble(wrong: Trouble | DravoError) -> Trouble:
    """Return what went wrong as a trouble: what is wrong with the connection's own settings concerns every account."""
    return wrong if isinstance(wrong, Trouble) else MustPause(wrong.message, wrong.mend)


def _is_bound(house: House, application_id: str, account_id: str, remote_id: str) -> bool:
    a = t.account.c
    with house.database.reading() as connection:
        where = (a.application_id == application_id, a.remote_id == remote_id, a.id != account_id)
        return connection.execute(select(a.id).where(*where)).first() is not None


def _settle(connection: Connection, work: Any, delivery_id: str, reached: Reached, started: Instant, exchanges: list[dict[str, Any]]) -> None:
    now = clock.now()
    _AGREE.change(
        connection,
        {
            "account": work.account_id, "due": work.due, "version": work.due_version, "at": now, "remote": reached.remote_id,
            "came": reached.origin or (work.origin if reached.remote_id else None),
        },
    )  # fmt: skip
    if work.due["want"] == ABSENT:
        connection.execute(update(t.account).where(t.account.c.id == work.account_id).values(lists_from_at=now))
    # Where what was agreed is not known, it may have been in groups.
    if work.agreed is None or work.due.get("groups") or work.agreed.get("groups"):
        provisioned_groups.follow(connection, work.application_id, work.account_id, work.due.get("groups", ()), reached.remote_id, now)
    still_due = _DUE_VERSION.first(connection, {"account": work.account_id}).due_version
    done = still_due == work.due_version
    attempted = {"delivery": delivery_id, "attempted": work.attempts + 1}
    if done:
        _CLOSE.change(connection, {**attempted, "ended": now, "sent": work.due_version})
    else:
        _judge_the_rest(connection, work, delivery_id)
        _GO_ON.change(connection, {**attempted, "next": now, "now_due": still_due})
    _note_attempt(connection, delivery_id, work.due_version, started, now, DONE, None, exchanges)
    if exchanges:
        application_health.note_answer(connection, work.application_id, work.failures, now)


def _judge_the_rest(connection: Connection, work: Any, delivery_id: str) -> None:
    """What became due during an attempt was judged by what the account had before it: what it has now may be more to take away."""
    due = connection.execute(select(t.account.c.due).where(t.account.c.id == work.account_id)).scalar_one()
    if takes_away(work.due, due):
        d = t.delivery.c
        connection.execute(update(t.delivery).where(d.id == delivery_id, d.removes.is_(False)).values(removes=True, cleared_at=None))


def _settle_trouble(connection: Connection, settlement: Settlement, trouble: Trouble) -> str:
    now = clock.now()
    work, delivery_id, talk = settlement.work, settlement.delivery_id, settlement.talk
    outcome = "paused" if isinstance(trouble, MustPause) else WAITING if isinstance(trouble, TryLater) else FAILED
    if isinstance(trouble, HeldBySettings | Unknown):
        outcome = HELD
    values: dict[str, Any] = {
        "message": trouble.message, "mend": trouble.mend, "kind": kind_of(trouble),
        "next_attempt_at": application_health.next_attempt(trouble, work.attempts, now),
    }  # fmt: skip
    if outcome in (FAILED, HELD):
        values["state"] = outcome
    d = t.delivery.c
    connection.execute(update(t.delivery).where(d.id == delivery_id, d.closed_at.is_(None)).values(attempts=work.attempts + 1))
    # A trouble is of the version that was sent. What has become due meanwhile is still to be tried, or is held: neither is touched by it.
    same = (d.id == delivery_id, d.state == WAITING, d.version == work.due_version, d.held_at.is_(None))
    connection.execute(update(t.delivery).where(*same).values(**values))
    if talk.in_doubt:
        # What was agreed before is no longer known to be what stands there: the next attempt reads it.
        unsure = {"doubt_at": now} if work.remote_id is None else {"agreed": None}
        connection.execute(update(t.account).where(t.account.c.id == work.account_id).values(**unsure))
    if settlement.counts:
        application_health.note_trouble(connection, work.application_id, work.failures, trouble, talk.exchanges, now)
    _note_attempt(connection, delivery_id, work.due_version, settlement.started, now, outcome, trouble.message, talk.exchanges)
    return outcome


def kind_of(trouble: Trouble) -> str:
    """Return what kind of trouble it is, by which all of one kind are taken up again together."""
    if isinstance(trouble, Unknown):
        return UNKNOWN
    if isinstance(trouble, HeldBySettings):
        return "settings"
    if isinstance(trouble, MustPause):
        return "paused"
    if isinstance(trouble, TryLater):
        return "not now"
    return f"refused {trouble.status}" if trouble.status else trouble.kind or "refused"


def _note_attempt(
    connection: Connection, delivery_id: str, version: int, started: Instant, ended: Instant, outcome: str,
    message: str | None, exchanges: list[dict[str, Any]],
) -> None:  # fmt: skip
    given = {
        "delivery_id": delivery_id, "version": version, "started_at": started, "ended_at": ended, "outcome": outcome, "message": message,
        "exchanges": exchanges,
    }  # fmt: skip
    _MAKE_ATTEMPT.change(connection, given)

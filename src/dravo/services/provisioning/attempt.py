"""One attempt at a provisioning task: what it sends, and how its result is written."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import Connection
from sqlalchemy.exc import IntegrityError

from dravo.core.errors import DravoError
from dravo.core.instants import Instant, seconds_between
from dravo.core.provisioning.accounts import ABSENT, MANAGER
from dravo.core.provisioning.matching import EMAILS
from dravo.core.provisioning.removal_limit import takes_away
from dravo.protocols.scim_client.account_sync import (
    AccountResult,
    AccountTarget,
    CachedListQuery,
    Conversation,
    IsLinkedQuery,
    sync_account,
)
from dravo.protocols.scim_client.capabilities import Capabilities
from dravo.protocols.scim_client.responses import (
    ConnectionPausedError,
    HeldBySettings,
    ProvisioningError,
    Refused,
    RetryableError,
    Unknown,
)
from dravo.services.context import AppContext
from dravo.services.provisioning import health as application_health
from dravo.services.provisioning.account_lists import LIST_SECONDS
from dravo.services.provisioning.adoption import is_own_email
from dravo.services.provisioning.client import ApplicationClient, ConnectedApplication, ExchangeLog
from dravo.store import clock, provisioned_groups
from dravo.store.provisioning import attempts as stored
from dravo.store.provisioning import pilots
from dravo.store.provisioning import tasks as task_rows
from dravo.store.provisioning.attempts import AttemptWork
from dravo.store.provisioning.tasks import UNKNOWN
from dravo.store.task_status import DONE, FAILED, HELD, WAITING


@dataclass(frozen=True)
class AttemptResult:
    """How an attempt went, to be written down: alone, or with others in one transaction."""

    ctx: AppContext
    task_id: str
    work: AttemptWork
    went: AccountResult | ProvisioningError
    started: Instant
    talk: ExchangeLog
    # Whether the error counts as a failure of the application: one task of a shared request does.
    counts: bool = True

    def apply(self, connection: Connection) -> str:
        """Write the result; return "done", "waiting", "failed", "held" or "paused".

        Raises:
            IntegrityError: if the found account belongs to another user; nothing is written then.
        """
        if stored.desired_version(connection, self.work.account_id) is None:
            # The application was deleted meanwhile with everything that belongs to it.
            return DONE
        if isinstance(self.went, ProvisioningError):
            return _settle_trouble(connection, self, self.went)
        _settle(connection, self.work, self.task_id, self.went, self.started, self.talk.exchanges)
        return DONE

    def write(self) -> str:
        """Write it down in a transaction of its own."""
        try:
            with self.ctx.database.writing() as connection:
                return self.apply(connection)
        except IntegrityError:
            double = Refused(
                "The account found in the application belongs to another user.",
                "Find the user in the list of accounts of the application.",
                "other_user",
            )
            with self.ctx.database.writing() as connection:
                return replace(self, went=double).apply(connection)


def write_together(settlements: Sequence[AttemptResult]) -> list[str]:
    """Write the results of several attempts, in one transaction if possible; return their outcomes."""
    try:
        with settlements[0].ctx.database.writing() as connection:
            return [each.apply(connection) for each in settlements]
    except IntegrityError:
        return [each.write() for each in settlements]


@dataclass(frozen=True)
class Attempt:
    """A started attempt: the desired state, the start time, and the exchanges with the application."""

    ctx: AppContext
    task_id: str
    work: AttemptWork
    started: Instant
    talk: ExchangeLog

    def settlement(self, went: AccountResult | ProvisioningError, *, counts: bool = True) -> AttemptResult:
        """Return the result, to be written later; see `Settlement.counts`."""
        return AttemptResult(self.ctx, self.task_id, self.work, went, self.started, self.talk, counts)

    def conversation(self, capabilities: Capabilities) -> Conversation:
        """Return the conversation that brings the account to its desired state."""
        work = self.work
        return sync_account(
            AccountTarget(
                work.user_id,
                work.desired,
                work.applied,
                work.remote_id,
                work.create_accounts,
                work.update_accounts,
                tuple(work.adopt_by or ()),
                capabilities,
                work.outcome_unknown_since is not None,
                frozenset(work.to_empty or ()),
                work.sent_manager_id is not None,
            )
        )

    def answers(self, talker: ApplicationClient, capabilities: Capabilities) -> Callable[[object], object]:
        """Return the function that answers the conversation's questions about lists."""
        began, work, talk = time.monotonic(), self.work, self.talk
        # A list can be used if reading it started after the creation became uncertain, and after the last
        # deletion or repair of the account.
        now = clock.now()
        ages = [
            seconds_between(since, now)
            for since in (work.outcome_unknown_since, work.lists_valid_from)
            if since is not None
        ]
        oldest = min([LIST_SECONDS, *ages])

        def answer(question: object) -> object:
            if isinstance(question, IsLinkedQuery):
                return _is_bound(self.ctx, work.application_id, work.account_id, question.remote_id)
            if isinstance(question, CachedListQuery):
                waiting = talker.worth_a_list(work.application_id)
                return (
                    talker.listed(talk, "/Users", capabilities, began - oldest, most=max(1_000, 10 * waiting))
                    if waiting
                    else None
                )
            try:
                return talker.listed(talk, "/Users", capabilities, began - oldest)
            except Refused:
                return None
            except ConnectionPausedError as trouble:
                # An unreadable list does not tell whether accounts can be created and changed.
                if trouble.status == 403:
                    return None
                raise

        return answer


def begin(ctx: AppContext, task_id: str) -> Attempt | None:
    """Start an attempt by reading the desired state; None if nothing is left to do."""
    work = stored.work_of(ctx.database.glancing(), task_id)
    if work is None or not work.enabled or work.paused_at or not work.secret or not work.base_url:
        return None
    there = ConnectedApplication(
        work.application_id, work.base_url, work.secret, work.auth, work.capabilities, work.rate_limit
    )
    if work.pilot_group_id is not None:
        with ctx.database.reading() as connection:
            if not pilots.includes(connection, work.pilot_group_id, work.user_id):
                return None
    if EMAILS in (work.adopt_by or ()) and work.remote_id is None:
        with ctx.database.reading() as connection:
            if not is_own_email(connection, work.user_id, work.desired):
                work = replace(work, adopt_by=[each for each in work.adopt_by or () if each != EMAILS])
    if MANAGER in work.desired:
        with ctx.database.reading() as connection:
            work = stored.with_manager_account(connection, work)
    return Attempt(ctx, task_id, work, clock.now(), ExchangeLog(there))


def attempt(ctx: AppContext, talker: ApplicationClient, task_id: str) -> str | None:
    """Try one task and write the result.

    Returns:
        The outcome ("done", "waiting", "failed", "held", "paused"); None if nothing was left to do.
    """
    settlement = carry_out(ctx, talker, task_id)
    return settlement.write() if settlement is not None else None


def carry_out(ctx: AppContext, talker: ApplicationClient, task_id: str) -> AttemptResult | None:
    """Try one task and return the result, which the caller writes; None if nothing was left to do."""
    begun = begin(ctx, task_id)
    if begun is None:
        return None
    try:
        capabilities = talker.capabilities(begun.talk)
        return begun.settlement(
            talker.converse(begun.talk, begun.conversation(capabilities), begun.answers(talker, capabilities))
        )
    except (ProvisioningError, DravoError) as wrong:
        return begun.settlement(as_provisioning_error(wrong))


def as_provisioning_error(wrong: ProvisioningError | DravoError) -> ProvisioningError:
    """Return an error as a provisioning error; an error in the connection settings concerns all accounts."""
    return wrong if isinstance(wrong, ProvisioningError) else ConnectionPausedError(wrong.message, wrong.hint)


def _is_bound(ctx: AppContext, application_id: str, account_id: str, remote_id: str) -> bool:
    with ctx.database.reading() as connection:
        return task_rows.is_linked_elsewhere(connection, application_id, remote_id, account_id)


def _settle(
    connection: Connection,
    work: AttemptWork,
    task_id: str,
    reached: AccountResult,
    started: Instant,
    exchanges: list[dict[str, Any]],
) -> None:
    now = clock.now()
    origin = reached.origin or (work.origin if reached.remote_id else None)
    stored.apply_state(connection, work, reached.remote_id, origin, now)
    if work.desired["want"] == ABSENT:
        task_rows.update_account(connection, work.account_id, lists_valid_from=now)
    # If the stored state is uncertain, the account may have been in groups.
    if work.applied is None or work.desired.get("groups") or work.applied.get("groups"):
        provisioned_groups.follow(
            connection,
            work.application_id,
            work.account_id,
            work.desired.get("groups", ()),
            reached.remote_id,
            now,
        )
    still_due = stored.desired_version(connection, work.account_id)
    if still_due is None or still_due == work.desired_version:
        stored.close_task(connection, task_id, work, now)
    else:
        _judge_the_rest(connection, work, task_id)
        stored.continue_task(connection, task_id, work, still_due, now)
    attempt = {
        "task_id": task_id,
        "version": work.desired_version,
        "started_at": started,
        "ended_at": now,
        "outcome": DONE,
        "message": None,
        "exchanges": exchanges,
    }
    stored.insert_attempt(connection, attempt)
    if exchanges:
        application_health.note_answer(connection, work.application_id, work.failures, now)


def _judge_the_rest(connection: Connection, work: AttemptWork, task_id: str) -> None:
    """Judge again a change that was made during an attempt: the account may now have more to remove."""
    if takes_away(work.desired, task_rows.account_by_id(connection, work.account_id).desired):
        stored.judge_removal_again(connection, task_id)


def _settle_trouble(connection: Connection, settlement: AttemptResult, trouble: ProvisioningError) -> str:
    now = clock.now()
    work, task_id, talk = settlement.work, settlement.task_id, settlement.talk
    outcome = (
        "paused"
        if isinstance(trouble, ConnectionPausedError)
        else WAITING
        if isinstance(trouble, RetryableError)
        else FAILED
    )
    if isinstance(trouble, HeldBySettings | Unknown):
        outcome = HELD
    values: dict[str, Any] = {
        "message": trouble.message,
        "hint": trouble.hint,
        "kind": kind_of(trouble),
        "next_attempt_at": application_health.next_attempt(trouble, work.attempts, now),
    }
    if outcome in (FAILED, HELD):
        values["status"] = outcome
    stored.note_error(connection, task_id, work, values)
    if talk.in_doubt:
        # The stored state is no longer certain: the next attempt reads the application.
        unsure = {"outcome_unknown_since": now} if work.remote_id is None else {"applied": None}
        task_rows.update_account(connection, work.account_id, **unsure)
    if settlement.counts:
        application_health.note_trouble(
            connection, work.application_id, work.failures, trouble, talk.exchanges, now
        )
    attempt = {
        "task_id": task_id,
        "version": work.desired_version,
        "started_at": settlement.started,
        "ended_at": now,
        "outcome": outcome,
        "message": trouble.message,
        "exchanges": talk.exchanges,
    }
    stored.insert_attempt(connection, attempt)
    return outcome


def kind_of(trouble: ProvisioningError) -> str:
    """Return the kind of an error; all tasks with one kind are retried together."""
    if isinstance(trouble, Unknown):
        return UNKNOWN
    if isinstance(trouble, HeldBySettings):
        return "settings"
    if isinstance(trouble, ConnectionPausedError):
        return "paused"
    if isinstance(trouble, RetryableError):
        return "not_now"
    return f"refused_{trouble.status}" if trouble.status else trouble.kind or "refused"

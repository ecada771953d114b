"""Provisioned groups: which ones need work, one attempt, its result, and their list."""

from __future__ import annotations

import time
from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import Connection, Select

from dravo.core.errors import DravoError, NotFound
from dravo.core.instants import Instant, later
from dravo.core.provisioning.attribute_mapping import GROUPS
from dravo.protocols.scim_client.account_sync import FullListQuery
from dravo.protocols.scim_client.group_members import NeedsWhole
from dravo.protocols.scim_client.group_sync import bring_group
from dravo.protocols.scim_client.group_types import Accounts, ReachedGroup, WantedGroup
from dravo.protocols.scim_client.responses import (
    ConnectionPausedError,
    ProvisioningError,
    Refused,
    RetryableError,
)
from dravo.services.context import AppContext
from dravo.services.lookups import application_by_key
from dravo.services.provisioning import health as application_health
from dravo.services.provisioning.account_lists import LIST_SECONDS
from dravo.services.provisioning.client import (
    ApplicationClient,
    ConnectedApplication,
    Exchange,
    ExchangeLog,
    shown_exchanges,
)
from dravo.services.security import masking
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.store import clock, provisioned_groups
from dravo.store.pagination import Page, PageRequest
from dravo.store.provisioning import groups as stored
from dravo.store.provisioning import pilots
from dravo.store.provisioning.groups import GroupWork, ListedGroup
from dravo.store.provisioning.tasks import due_tasks, reopen
from dravo.store.snapshots.config import CHOSEN
from dravo.store.task_status import DONE, FAILED, WAITING


@dataclass
class ProvisionedGroup:
    """A provisioned group: a group ("group") or the users of a role ("role")."""

    id: str
    kind: str
    of: str
    name: str
    going: bool
    status: str
    members: int
    members_there: int
    remote_id: str | None
    origin: str | None
    applied_at: str | None
    next_attempt_at: str | None
    message: str | None
    hint: str | None
    exchanges: list[Exchange]


def attempt(ctx: AppContext, talker: ApplicationClient, group_id: str) -> str | None:
    """Try to bring one provisioned group to its desired state, and write the result.

    Returns:
        The outcome ("done", "waiting", "failed", "paused"); None if nothing was left to do.
    """
    with ctx.database.reading() as connection:
        work = stored.work_of(connection, group_id)
        if work is None or not work.enabled or work.paused_at or not work.secret or not work.base_url:
            return None
        if work.pilot_group_id is not None and _users_first(connection, work):
            return None
        name, added, removed = _desired(ctx, connection, work)
        seen = (name, sorted(added), sorted(removed))
        if name is None:
            # The group is deleted with all its members, also those whose accounts are not in sync.
            added = []
            removed = provisioned_groups.inside(connection, group_id, in_doubt=work.applied_at is None)
    there = ConnectedApplication(
        work.application_id, work.base_url, work.secret, work.auth, work.capabilities, work.rate_limit
    )
    talk = ExchangeLog(there)
    try:
        changes = MemberChanges(name, added, removed)
        reached, changes = _bring(ctx, talker, talk, work, changes)
    except ProvisioningError as trouble:
        return _settle_trouble(ctx, work, trouble, talk, seen)
    except DravoError as wrong:
        return _settle_trouble(ctx, work, ConnectionPausedError(wrong.message, wrong.hint), talk, seen)
    return _settle(ctx, work, changes, reached, talk)


def _users_first(connection: Connection, work: GroupWork) -> bool:
    """Return whether a task of a user in the pilot is due before the groups."""
    return bool(due_tasks(connection, work.application_id, clock.now(), 1, work.pilot_group_id))


def _pilot(work: GroupWork) -> Select[str] | None:
    """Return the select of the accounts that the pilot of the application includes; None without a pilot."""
    if work.pilot_group_id is None:
        return None
    return pilots.accounts_of(work.application_id, work.pilot_group_id)


def _desired(ctx: AppContext, connection: Connection, work: GroupWork) -> tuple[str | None, Pairs, Pairs]:
    """Return the name that a group is to have, None to be deleted, and the members to add and to remove.

    In a pilot, only members who are in the pilot are added and removed. A group with other members is not
    deleted.
    """
    only = _pilot(work)
    name = _name_now(ctx, connection, work.id)
    added, removed = provisioned_groups.differing(connection, work.id, only)
    if name is None and only is not None:
        in_pilot = pilots.account_ids(connection, work.application_id, work.pilot_group_id or "")
        inside = provisioned_groups.inside(connection, work.id, in_doubt=False)
        if any(account_id not in in_pilot for account_id, _ in inside):
            return work.applied_name, [], [each for each in inside if each[0] in in_pilot]
    return name, added, removed


def desired_name(ctx: AppContext, connection: Connection, row: Any) -> str | None:
    """Return the desired name of a provisioned group; None if the group is to be deleted.

    Args:
        row: the key of the provisioned group, with columns of its application.
    """
    kind, _, identifier = row.key.partition(":")
    if kind == "role":
        sent = (row.role_encoding or {}).get("way") == GROUPS
        return stored.name_of_role_group(connection, identifier) if sent else None
    if identifier not in ctx.catalogue.get(connection).provisioned.get(row.application_id, frozenset()):
        return None
    chosen = row.provisioned_groups or {}
    if chosen.get("which") == CHOSEN:
        given = next(
            (each.get("name") for each in chosen.get("groups", ()) if each["group"] == identifier), None
        )
        if given:
            return str(given)
    return stored.group_name(connection, identifier)


def _name_now(ctx: AppContext, connection: Connection, group_id: str) -> str | None:
    """Return the desired name of a provisioned group now: settings may have changed during an attempt."""
    return desired_name(ctx, connection, stored.naming_of(connection, group_id))


Pairs = list[tuple[str, str]]


@dataclass(frozen=True)
class MemberChanges:
    """What a provisioned group needs.

    Attributes:
        name: the desired name; None if the group is to be deleted.
        added, removed: the members to add and to remove, each as (account ID, ID in the application).
    """

    name: str | None
    added: Pairs
    removed: Pairs


def _bring(
    ctx: AppContext, talker: ApplicationClient, talk: ExchangeLog, work: GroupWork, changes: MemberChanges
) -> tuple[ReachedGroup, MemberChanges]:
    """Bring a group to its desired state; return the result and what was sent."""
    name = changes.name
    capabilities = talker.capabilities(talk)
    if not capabilities.groups and name is not None:
        raise Refused(
            "The application does not support groups.",
            "Send roles in an attribute, and disable provisioned groups in the settings.",
        )
    wanted = WantedGroup(
        work.id,
        name,
        False,
        add=frozenset(remote for _, remote in changes.added),
        remove=frozenset(remote for _, remote in changes.removed),
        applied_name=work.applied_name,
        remote_id=work.remote_id,
        origin=work.origin,
        adopt=work.adopt_groups,
        capabilities=capabilities,
    )

    began = time.monotonic()

    def answer(question: FullListQuery | Accounts) -> object:
        if isinstance(question, Accounts):
            accounts = talker.listed(talk, "/Users", capabilities, began)
            return None if accounts is None else {str(each.get("id")) for each in accounts}
        return talker.listed(
            talk, "/Groups", capabilities, began - LIST_SECONDS if work.attempts == 0 else began
        )

    if (
        wanted.remote_id is not None
        and work.applied_at is not None
        and (capabilities.patch or not (changes.added or changes.removed or name != work.applied_name))
    ):
        try:
            return talker.converse(talk, bring_group(wanted), answer), changes
        except NeedsWhole:
            pass
    with ctx.database.reading() as connection:
        only = _pilot(work)
        if name is None:
            everyone = []
        elif only is None:
            everyone = provisioned_groups.everyone(connection, work.id)
        else:
            everyone = provisioned_groups.everyone_in_pilot(connection, work.id, only)
        ours = provisioned_groups.ours(connection, work.application_id)
    whole = replace(
        wanted,
        whole=True,
        look=work.applied_at is None,
        members=frozenset(remote for _, remote in everyone),
        ours=ours,
    )
    return talker.converse(talk, bring_group(whole), answer), replace(changes, added=everyone)


def _settle(
    ctx: AppContext, work: GroupWork, changes: MemberChanges, reached: ReachedGroup, talk: ExchangeLog
) -> str:
    """Write the outcome of an attempt."""
    now, name, put, taken = clock.now(), changes.name, changes.added, changes.removed
    left_out = [(account_id, remote_id) for account_id, remote_id in put if remote_id in reached.left_out]
    with ctx.database.writing() as connection:
        if name is None:
            provisioned_groups.forget(connection, work.id)
        else:
            provisioned_groups.agree(
                connection, work.id, [each for each in put if each not in left_out], taken
            )
        # If the group was renamed, selected or deselected meanwhile, it must be sent again.
        name_now, added, removed = _desired(ctx, connection, work)
        still = name_now != name or (name is not None and bool(added or removed))
        values = {
            "status": WAITING if still else DONE,
            "applied_name": name,
            "applied_at": now,
            "remote_id": reached.remote_id,
            "origin": reached.origin,
            "attempts": work.attempts + 1,
            "next_attempt_at": now if still else None,
            "message": None,
            "hint": None,
            "exchanges": talk.exchanges,
        }
        if left_out:
            values |= _without(connection, work, left_out, reached.refusal, now)
        stored.update_group(connection, work.id, **values)
        if talk.exchanges:
            application_health.note_answer(connection, work.application_id, work.failures, now)
    return DONE


def _without(
    connection: Connection, work: GroupWork, left_out: Pairs, refusal: str, now: Instant
) -> dict[str, Any]:
    """Have accounts checked that the group does not accept, because they may be deleted; return the group's
    columns until then.
    """
    some = "1 member" if len(left_out) == 1 else f"{len(left_out):,} members"
    message = f"The application refused {some} and accepted all others. Its response: {refusal[:300]}"
    ids = [account_id for account_id, _ in left_out]
    there = stored.applied_since(connection, ids[:500], work.applied_at or now)
    unsure = [each for each in ids if each not in there]
    if not unsure:
        return {
            "status": FAILED,
            "next_attempt_at": None,
            "message": message,
            "hint": "These accounts exist. Check the application for the reason.",
        }
    for account_id in unsure:
        # A missing account is created again, and the group gets the new account.
        reopen(connection, account_id, now)
    pause = later(now, application_health.pause(work.attempts, application_health.LONGEST_PAUSE))
    return {
        "status": WAITING,
        "next_attempt_at": pause,
        "message": message,
        "hint": "Dravo checks these accounts, then tries again.",
    }


def _as_it_was(ctx: AppContext, connection: Connection, work: GroupWork, seen: tuple[Any, ...]) -> bool:
    """Whether the desired state of a group is the one that the attempt started with."""
    name, added, removed = _desired(ctx, connection, work)
    return seen == (name, sorted(added), sorted(removed))


def _settle_trouble(
    ctx: AppContext, work: GroupWork, trouble: ProvisioningError, talk: ExchangeLog, seen: tuple[Any, ...]
) -> str:
    now = clock.now()
    outcome = (
        "paused"
        if isinstance(trouble, ConnectionPausedError)
        else WAITING
        if isinstance(trouble, RetryableError)
        else FAILED
    )
    values: dict[str, Any] = {
        "attempts": work.attempts + 1,
        "message": trouble.message,
        "hint": trouble.hint,
        "exchanges": talk.exchanges,
        "next_attempt_at": application_health.next_attempt(trouble, work.attempts, now),
    }
    if talk.in_doubt:
        # The stored state is no longer certain: the next attempt reads the application.
        values["applied_at"] = None
    with ctx.database.writing() as connection:
        if outcome == FAILED and _as_it_was(ctx, connection, work, seen):
            values["status"] = FAILED
        elif outcome == FAILED:
            # A refusal concerns the sent version only; a newer version is still to be tried.
            values["next_attempt_at"] = later(
                now, application_health.pause(work.attempts, application_health.LONGEST_PAUSE)
            )
        stored.update_group(connection, work.id, **values)
        application_health.note_trouble(
            connection, work.application_id, work.failures, trouble, talk.exchanges, now
        )
    return outcome


def read_again(connection: Connection, group_id: str, now: Instant) -> None:
    """Mark a group to be read and repaired, because its state in the application differs."""
    stored.update_group(connection, group_id, applied_at=None)
    stored.wake_one(connection, group_id, now)


def wake_in_pilots(ctx: AppContext, now: Instant) -> None:
    """Have provisioned groups follow users who joined the group of a pilot."""
    with ctx.database.reading() as connection:
        if not pilots.list_pilots(connection):
            return
    with ctx.database.writing() as connection:
        pilots.wake_groups(connection, now)


# Reading


def list_groups(ctx: AppContext, application: str, page_request: PageRequest) -> Page[ProvisionedGroup]:
    """Return a page of the provisioned groups of an application, with their status.

    Raises:
        NotFound: if the application does not exist.
    """
    with ctx.database.reading() as connection:
        of = application_by_key(connection, application)
        return stored.list_groups(connection, of.id, page_request, lambda row: _line(ctx, connection, row))


def _line(ctx: AppContext, connection: Connection, row: ListedGroup) -> ProvisionedGroup:
    kind, _, identifier = row.key.partition(":")
    name = desired_name(ctx, connection, row)
    return ProvisionedGroup(
        id=row.id,
        kind=kind,
        of=identifier,
        name=name or row.applied_name or "",
        going=name is None,
        status=row.status,
        members=row.desired_members,
        members_there=row.applied_members,
        remote_id=row.remote_id,
        origin=row.origin,
        applied_at=row.applied_at,
        next_attempt_at=row.next_attempt_at,
        message=masking.text(row.message),
        hint=row.hint,
        exchanges=shown_exchanges(row.exchanges),
    )


def retry(ctx: AppContext, caller: Caller, application: str, group_id: str) -> None:
    """Have one group be tried again now.

    Raises:
        NotFound.
    """
    now = clock.now()
    with ctx.database.writing() as connection:
        if not stored.belongs_to(connection, group_id, application):
            raise NotFound(f"'{application}' has no provisioned group with the ID '{group_id}'.")
        stored.wake_one(connection, group_id, now)
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent("retried", "provisioned group", group_id, details={"application": application}),
        )

"""Accounts found in an application that belong to no user: many at once, by operators or by policy."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, replace

import structlog
from sqlalchemy import Connection

from dravo.core.errors import DravoError, InvalidInput
from dravo.core.provisioning.accounts import PRESENT
from dravo.core.provisioning.drift import UNEXPECTED
from dravo.core.provisioning.found_accounts import (
    ADOPT,
    ASSIGN,
    CREATE,
    CREATE_USERS,
    IGNORE,
    LEAVE,
    LINK,
    Candidate,
    FoundAccount,
    Matches,
    decide,
    searched,
)
from dravo.core.provisioning.found_accounts import WAIT as WAITS
from dravo.core.provisioning.matching import EMAILS, USER_NAME, values_of
from dravo.services import jobs
from dravo.services.access import assignments
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.context import AppContext
from dravo.services.lookups import application_by_key
from dravo.services.provisioning.adoption import owns_email
from dravo.services.provisioning.drift import unlinked_accounts
from dravo.services.provisioning.drift.differences import IGNORED, OPEN, rows_of
from dravo.services.security.permissions import ADMINISTRATOR, Caller
from dravo.store.provisioning import drift as drift_rows
from dravo.store.provisioning import found_accounts as stored
from dravo.store.provisioning.drift import StoredDrift
from dravo.store.queries import applications as application_rows
from dravo.store.queries.applications import Application
from dravo.store.queries.references import UserRef
from dravo.store.queries.users import users_by_id

log = structlog.get_logger("reconciliation")


@dataclass
class FoundAccountLine:
    """What is done with a found account: `action` is "link", "assign_and_link", "create_user" or "leave"."""

    id: str
    name: str
    action: str
    user: UserRef | None
    role: str | None
    message: str
    hint: str


@dataclass
class FoundAccounts:
    """What is done with found accounts, or was: how many are linked, created, and left to operators."""

    linked: int
    created: int
    left: int
    items: list[FoundAccountLine]


@dataclass(frozen=True)
class _Planned:
    row: StoredDrift
    found: FoundAccount
    role: str | None = None

    def left(self, wrong: DravoError) -> _Planned:
        return replace(self, found=replace(self.found, action=LEAVE, message=wrong.message, hint=wrong.hint))


def preview_many(ctx: AppContext, key: str, ids: Sequence[str], *, create_users: bool) -> FoundAccounts:
    """Return what `settle_many` would do with each account; nothing is changed.

    Raises:
        NotFound; InvalidInput: for a difference that is no account without a user.
    """
    with ctx.database.reading() as connection:
        application, rows = _chosen(connection, key, ids)
        return _shown(connection, _plans(ctx, connection, application, rows, _policy(create_users)))


def settle_many(
    ctx: AppContext, caller: Caller, key: str, ids: Sequence[str], *, create_users: bool
) -> FoundAccounts:
    """Link accounts to the users who match, or also create users for the others; return what was done.

    Args:
        create_users: whether to create users for accounts that match no user.

    Raises:
        NotFound; InvalidInput: for a difference that is no account without a user.
    """
    with ctx.database.reading() as connection:
        application, rows = _chosen(connection, key, ids)
        planned = _plans(ctx, connection, application, rows, _policy(create_users))
    done = _carry_out(ctx, caller, application, planned)
    with ctx.database.reading() as connection:
        return _shown(connection, done)


def _policy(create_users: bool) -> str:
    return CREATE_USERS if create_users else ADOPT


def _chosen(connection: Connection, key: str, ids: Sequence[str]) -> tuple[Application, list[StoredDrift]]:
    application = application_by_key(connection, key)
    rows = rows_of(connection, application.id, ids)
    other = next((row for row in rows if row.kind != UNEXPECTED), None)
    if other is not None:
        raise InvalidInput(
            f"'{other.name}' is linked to a user already.", "Repair the difference, or ignore it.", "ids"
        )
    return application, rows


def apply_policy(ctx: AppContext, application_id: str) -> None:
    """Do with the accounts that a reconciliation found what the application's policy says.

    What the policy cannot do, is left to operators with the reason. An error is logged; the next
    reconciliation tries again.
    """
    with ctx.database.reading() as connection:
        if application_rows.key_of(connection, application_id) is None:
            return
        application = application_rows.by_id(connection, application_id)
        policy = application.unlinked_accounts
        rows = [
            row
            for row in drift_rows.of_application(connection, application_id)
            if row.kind == UNEXPECTED and row.status == OPEN
        ]
    if policy == WAITS or not rows:
        return
    if policy == IGNORE:
        with ctx.database.writing() as connection:
            drift_rows.update_several(connection, [row.id for row in rows], status=IGNORED)
        return
    try:
        with ctx.database.reading() as connection:
            planned = _plans(ctx, connection, application, rows, policy)
        caller = Caller("", f"the policy of {application.label}", ADMINISTRATOR)
        done = _carry_out(ctx, caller, application, planned)
        with ctx.database.writing() as connection:
            for each in done:
                if each.found.action == LEAVE:
                    values = {"message": each.found.message, "hint": each.found.hint}
                    drift_rows.update_drift(connection, each.row.id, **values)
    except DravoError as wrong:
        log.warning("found accounts were left", application=application.key, reason=wrong.message)
        return
    left = sum(each.found.action == LEAVE for each in done)
    log.info("settled found accounts", application=application.key, done=len(done) - left, left=left)


def _plans(
    ctx: AppContext,
    connection: Connection,
    application: Application,
    rows: Sequence[StoredDrift],
    policy: str,
) -> list[_Planned]:
    """Return what is done with accounts by a policy, without doing it."""
    wanted = {row.id: searched(row.there or {}, application.adopt_by or ()) for row in rows}
    matches = _matches(connection, application, wanted)
    planned = []
    for row in rows:
        found = decide(row.there or {}, matches[row.id], may_create=policy == CREATE_USERS)
        each = _Planned(row, found)
        if found.action in (ASSIGN, CREATE):
            try:
                role = unlinked_accounts.check_settles_itself(
                    ctx, connection, application, row, creates=found.action == CREATE
                )
                each = replace(each, role=role)
            except DravoError as wrong:
                each = each.left(wrong)
        planned.append(each)
    return planned


def _matches(
    connection: Connection, application: Application, wanted: dict[str, dict[str, list[str]]]
) -> dict[str, list[Matches]]:
    """Return by drift ID the users who match each account, by attribute."""
    texts: dict[str, set[str]] = defaultdict(set)
    for by_attribute in wanted.values():
        for attribute, values in by_attribute.items():
            texts[attribute].update(values)
    users: dict[tuple[str, str], list[stored.FoundUser]] = defaultdict(list)
    for attribute, some in texts.items():
        if attribute == USER_NAME:
            found = stored.by_user_names(connection, some)
        elif attribute == EMAILS:
            found = stored.by_emails(connection, some)
        else:
            found = [
                stored.FoundUser(text, user_id, name, active)
                for user_id, name, active, attributes in stored.every_user(connection)
                for text in values_of(attributes, attribute)
                if text in some
            ]
        for each in found:
            users[attribute, each.text].append(each)
    everyone = sorted({each.id for several in users.values() for each in several})
    accounts = stored.accounts_of(connection, application.id, everyone)

    def candidate(user: stored.FoundUser, attribute: str) -> Candidate:
        account = accounts.get(user.id)
        desired = account.desired if account is not None else {}
        return Candidate(
            user.id,
            user.display_name,
            user.active,
            has_access=desired.get("want") == PRESENT and bool(desired.get("active")),
            linked=account is not None
            and account.remote_id is not None
            and not unlinked_accounts.is_dead(connection, account.account_id, account.remote_id),
            own_email=attribute != EMAILS or owns_email(connection, user.id, user.text),
        )

    return {
        drift_id: [
            Matches(
                attribute,
                [candidate(user, attribute) for text in values for user in users.get((attribute, text), ())],
            )
            for attribute, values in by_attribute.items()
        ]
        for drift_id, by_attribute in wanted.items()
    }


def _carry_out(
    ctx: AppContext, caller: Caller, application: Application, planned: Sequence[_Planned]
) -> list[_Planned]:
    """Do what is planned, one account at a time; return what was done, and what was left with the reason."""
    done = []
    for number, each in enumerate(planned, 1):
        try:
            _settle(ctx, caller, application, each)
            done.append(each)
        except DravoError as wrong:
            done.append(each.left(wrong))
        jobs.report_progress(number, len(planned))
    return done


def _settle(ctx: AppContext, caller: Caller, application: Application, each: _Planned) -> None:
    key, user = application.key, each.found.user
    if each.found.action == CREATE:
        unlinked_accounts.make_user(ctx, caller, key, each.row.id, each.role)
    if each.found.action == ASSIGN and user is not None:
        note = f"Found as '{each.row.name}' in {application.label}"
        assignments.add(ctx, caller, AssignmentRequest(key, each.role, user=user.user_id, note=note))
    if each.found.action in (ASSIGN, LINK) and user is not None:
        unlinked_accounts.link(ctx, caller, key, each.row.id, user.user_id)


def _shown(connection: Connection, planned: Sequence[_Planned]) -> FoundAccounts:
    ids = [each.found.user.user_id for each in planned if each.found.user is not None]
    users = users_by_id(connection, ids)
    actions = [each.found.action for each in planned]
    return FoundAccounts(
        linked=sum(each in (LINK, ASSIGN) for each in actions),
        created=actions.count(CREATE),
        left=actions.count(LEAVE),
        items=[
            FoundAccountLine(
                id=each.row.id,
                name=each.row.name,
                action=each.found.action,
                user=users.get(each.found.user.user_id) if each.found.user is not None else None,
                role=each.role,
                message=each.found.message,
                hint=each.found.hint,
            )
            for each in planned
        ],
    )

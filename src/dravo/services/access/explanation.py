"""Explains a user: attributes with their sources, access with its reasons, and missing access."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection

from dravo.core.access import evaluation as access_evaluation
from dravo.core.access import types
from dravo.core.access.types import Decision
from dravo.core.identity.marks import apply_mark
from dravo.core.plan_types import ConfigSnapshot
from dravo.core.planning import facts_of
from dravo.services.access import license_plans
from dravo.services.access.license_plans import SeatOfUser
from dravo.services.context import AppContext
from dravo.services.lookups import application_by_key, find_user
from dravo.services.security import masking
from dravo.store import clock
from dravo.store import records as stored_records
from dravo.store.access import assignments as stored_assignments
from dravo.store.pagination import PageRequest
from dravo.store.provisioning import pilots
from dravo.store.queries import access as access_queries
from dravo.store.queries import accounts as account_queries
from dravo.store.queries import groups as group_queries
from dravo.store.queries import users as user_queries
from dravo.store.queries.access import AccessFilter, AccessLine, Reason
from dravo.store.queries.accounts import AccountLine
from dravo.store.queries.applications import Application
from dravo.store.queries.references import GroupRef, KeyAndLabel, RoleRef, UserRef, key_and_label, user_ref
from dravo.store.queries.users import UserLine
from dravo.store.snapshots import users as user_snapshots


@dataclass(frozen=True)
class PossibleAccess:
    """A group or rule that gives a role."""

    assignment: str
    group: GroupRef | None
    source: KeyAndLabel | None
    rule: str | None
    role: RoleRef | None


@dataclass(frozen=True)
class AccessExplanation:
    """The explanation of a user's access in an application, in sentences."""

    user: UserRef
    application: KeyAndLabel
    has_access: bool
    sentences: list[str]
    access: list[AccessLine]
    ended: list[AccessLine]
    account: AccountLine | None
    would_give: list[PossibleAccess]


def why(ctx: AppContext, user_name: str, application_key: str) -> AccessExplanation:
    """Explain the access of a user in an application, in sentences; or why there is none, and what would give
    access.

    Raises:
        NotFound, InvalidInput.
    """
    with ctx.database.reading() as connection:
        row = find_user(connection, user_name)
        application = application_by_key(connection, application_key)
        held = access_queries.access(
            connection, PageRequest(count=50), AccessFilter(application_key=application.key, user_id=row.id)
        ).items
        ended = access_queries.access(
            connection,
            PageRequest(count=50),
            AccessFilter(application_key=application.key, user_id=row.id, ended=True),
        ).items
        found = account_queries.accounts(
            connection, PageRequest(count=1), application.key, row.id, None, None
        )
        accounts = masking.accounts(found.items)
        ways = _ways(connection, application.id)
        present = {
            each.group.id for each in group_queries.memberships_of(connection, row.id) if each.until is None
        }
        decision, catalogue, waiting = _decided(ctx, connection, row.id, application.id)
        waits_at = _waits_at(connection, row.id)
        pilot = application.pilot_group_id
        outside_pilot = pilot is not None and not pilots.includes(connection, pilot, row.id)
        seat = [_of_seat(each) for each in license_plans.seat_of(connection, application.id, row.id)]
    account = accounts[0] if accounts else None
    line = user_queries.user_line(row)
    if held:
        sentences = [sentence for item in held for sentence in _of_access(line, item)]
    else:
        sentences = [f"{line.display_name} has no access to {application.label}."]
        if waits_at is not None:
            sentences += _wait_for_conflict(waits_at)
        else:
            sentences += _why_not(line, application, ended, decision, catalogue)
            if row.mark and row.mark_from_at and row.mark_from_at <= clock.now():
                note = f": {row.mark_note}" if row.mark_note else "."
                sentences.append(f"{row.marked_by} marked the user as {row.mark}{note}")
            back = [_way(way) for way in ways if way.group and way.group.id in present]
            if back and line.status == "inactive":
                sentences.append(
                    f"If the user becomes active again, access returns through {', '.join(back)}."
                )
            elif decision.by != access_evaluation.EXCLUDED:
                sentences += _what_would_give(application, ways)
    return AccessExplanation(
        user=user_ref(row),
        application=KeyAndLabel(application.key, application.label),
        has_access=bool(held),
        sentences=[
            *sentences,
            *waiting,
            *_unheard(decision, catalogue, application),
            *seat,
            *_of_account(account, application, outside_pilot=outside_pilot),
        ],
        access=held,
        ended=ended,
        account=account,
        would_give=[] if held else ways,
    )


def _decided(
    ctx: AppContext, connection: Connection, user_id: str, application_id: str
) -> tuple[Decision, ConfigSnapshot, list[str]]:
    """Return the access decision about a user in an application, and a sentence for each rule that waits for
    a confirmation.
    """
    catalogue = ctx.catalogue.get(connection)
    user = user_snapshots.users(connection, [user_id])[user_id]
    merged = apply_mark(catalogue.merged(user.records), user.mark, clock.now())
    groups = access_evaluation.memberships(user.groups, catalogue.parents)
    facts = facts_of(user, merged, groups, catalogue)
    waiting = [
        f"{catalogue.roles[each.role_id or ''].label} by the rule '{each.condition.text}' waits for a "
        "confirmation, because it is the highest role."
        for each in catalogue.general
        if each.application_id == application_id
        and each.condition is not None
        and each.role_id in catalogue.roles
        and facts.active
        and access_evaluation.meets(facts, each)
        and not access_evaluation.is_confirmed(facts, each)
    ]
    waiting += [
        f"{catalogue.roles[each.roles_of.top].label} by the expression '{each.roles_of.text}' waits for a "
        "confirmation, because it is the highest role."
        for each in catalogue.general
        if each.application_id == application_id
        and each.roles_of is not None
        and each.roles_of.top is not None
        and facts.active
        and access_evaluation.meets(facts, each)
        and user_id not in (each.only or ())
    ]
    return (
        access_evaluation.decide_about(facts, catalogue.declared, application_id, clock.now()),
        catalogue,
        waiting,
    )


def _waits_at(connection: Connection, user_id: str) -> str | None:
    """Return the label of the source with an undecided conflict about this user, or None."""
    if not user_snapshots.users(connection, [user_id])[user_id].waits:
        return None
    return stored_records.source_of_undecided(connection, user_id)


def _of_access(user_line: UserLine, item: AccessLine) -> list[str]:
    lines = [
        f"{user_line.display_name} has been {item.role.label} in {item.application.label} "
        f"since {_when(item.since)}."
    ]
    for reason in item.reasons:
        if reason.until:
            lines.append(f"Until {_when(reason.until)} also {_because(reason)}.")
        else:
            lines.append(f"Because {_because(reason)}, since {_when(reason.since)}.")
    return lines


def _because(reason: Reason) -> str:
    by = f" (assigned by {reason.by})" if reason.by else ""
    if reason.kind == types.DEFAULT:
        return "no assignment gives a role, so the fallback role applies"
    if reason.kind == types.KEPT:
        return "no assignment gives a role any more, and the access policy retains the last roles"
    if reason.kind == types.RULE:
        return f"the user matches the rule '{reason.rule}', which assigns the role{by}"
    if reason.kind == types.EXPRESSION:
        return f"the expression '{reason.rule}' has the role as its value{by}"
    if reason.kind == types.EVERYONE:
        return f"everyone gets the role{by}"
    if not reason.group:
        return f"the role is assigned to the user directly{by}"
    source = f" of {reason.source.label}" if reason.source else ""
    way = f" through {' and '.join(reason.through)}" if reason.through else ""
    how = "assigns the role by its name" if reason.kind == types.PATTERN else "assigns the role"
    return f"the group '{reason.group.name}'{source}, of which the user is a member{way}, {how}{by}"


def _wait_for_conflict(source: str) -> list[str]:
    return [
        f"{source} reported this user, who may already exist under another source. Decide the conflict at "
        f"{source} first."
    ]


def _why_not(
    user_line: UserLine,
    application: Any,
    ended: list[AccessLine],
    decision: Decision,
    catalogue: ConfigSnapshot,
) -> list[str]:
    """Return sentences about what keeps the user out, and the last access."""
    name = user_line.display_name
    lines = []
    if user_line.status != "active":
        what = "left at" if user_line.status == "left" else "has been inactive since"
        lines.append(f"{name} {what} {_when(user_line.since)}. Inactive users have no access.")
    elif decision.by == access_evaluation.EXCLUDED:
        by = _shut_out(decision, catalogue)
        lines.append(
            f"{name} is excluded from {application.label}{by}. An exclusion overrides all assignments."
        )
    elif decision.by == access_evaluation.NOTHING:
        lines.append(
            f"{name} is eligible, but has no assignment with a role, and {application.label} has no "
            "fallback role."
        )
    if ended:
        last = ended[0]
        reason = last.reasons[-1] if last.reasons else None
        because = f", because {_because(reason)}" if reason else ""
        lines.append(
            f"Until {_when(last.until)} {name} was {last.role.label}{because}.".replace(
                "of which the user is a member", "of which the user was a member"
            )
        )
    return lines


def _shut_out(decision: Decision, catalogue: ConfigSnapshot) -> str:
    """Return what excludes a user, as the end of a sentence."""
    now = clock.now()
    assignment, reason = next(each for each in decision.heard if each[0].excludes and each[0].counts(now))
    if reason.kind == types.RULE and assignment.condition is not None:
        return f" by the rule '{assignment.condition.text}'"
    label = catalogue.labels.get(reason.group_id) if reason.group_id else None
    if label is not None:
        return f" by the group '{label.name}'"
    return " by name" if reason.kind == types.DIRECT else " with everyone"


def _what_would_give(application: Any, ways: list[PossibleAccess]) -> list[str]:
    lines = []
    groups = [_way(way) for way in ways if way.group]
    rules = [f"'{way.rule}' ({way.role.label})" for way in ways if way.rule and way.role]
    if groups:
        lines.append(
            "One of these groups would give access: "
            f"{', '.join(groups[:10])}{' and more' if len(groups) > 10 else ''}."
        )
    if rules:
        lines.append(
            "One of these rules would give access: "
            f"{', '.join(rules[:5])}{' and more' if len(rules) > 5 else ''}."
        )
    if not lines:
        lines.append(
            f"No group is mapped to a role in {application.label}. Assign a role to the user directly."
        )
    return lines


def _unheard(decision: Decision, catalogue: ConfigSnapshot, application: Any) -> list[str]:
    """Return a sentence for each assignment that is for the user and gives nothing now: why not."""
    if decision.by == access_evaluation.EXCLUDED:
        return []
    now = clock.now()
    lines = []
    given = {reason.assignment_id for reasons in decision.roles.values() for reason in reasons}
    for assignment, reason in decision.heard:
        if assignment.role_id is None or assignment.id in given or assignment.role_id not in catalogue.roles:
            continue
        role = catalogue.roles[assignment.role_id].label
        group = catalogue.labels.get(reason.group_id) if reason.group_id else None
        kinds = {
            types.DIRECT: "by direct assignment",
            types.RULE: "by a rule",
            types.EXPRESSION: "by an expression",
        }
        by = f"by the group '{group.name}'" if group else kinds.get(reason.kind, "for everyone")
        if assignment.from_at is not None and assignment.from_at > now:
            lines.append(f"{role} {by} begins at {_when(assignment.from_at)}.")
        elif assignment.until_at is not None and assignment.until_at <= now:
            lines.append(f"{role} {by} ended at {_when(assignment.until_at)}.")
        elif assignment.role_id in decision.roles:
            continue
        else:
            lines.append(f"{role} {by} does not apply: {_policy_words(application)}.")
    return lines


def _policy_words(application: Any) -> str:
    words = []
    if application.first == types.DIRECT_FIRST:
        words.append("direct assignments take precedence")
    if application.first == types.RULES_FIRST:
        words.append("groups and rules take precedence")
    if application.several == types.HIGHEST:
        words.append("only the highest role applies")
    return " and ".join(words)


def _way(way: PossibleAccess) -> str:
    name = f"'{way.group.name}'" if way.group else ""
    return f"{name} ({way.role.label})" if way.role else name


def _of_seat(seat: SeatOfUser) -> str:
    """Return a sentence on the seat that a user has, or waits for."""
    if seat.since:
        return f"The user has had a seat of the license plan {seat.plan.label} since {_when(seat.since)}."
    line = "next in line" if seat.place == 1 else f"at position {seat.place} of the waiting list"
    return (
        f"The user has waited for a seat of the license plan {seat.plan.label} since "
        f"{_when(seat.requested_at)}, {line}. "
        f"All {seat.seats:,} seats are taken. Dravo provisions the role with the seat."
    )


def _of_account(account: AccountLine | None, application: Application, *, outside_pilot: bool) -> list[str]:
    if account is None:
        return []
    lines = []
    if application.tracked_only:
        lines.append(f"{application.label} is tracked only: operators manage its accounts by hand.")
    if account.status == "in_sync":
        there = "does not exist" if account.should_be == "absent" else f"is {account.should_be} there"
        lines.append(f"The account {there}, in sync since {_when(account.applied_at)}.")
    elif account.status == "unmanaged":
        lines.append("The settings of the application leave the account unchanged.")
    else:
        lines.append(
            f"The account should be {account.should_be}. This has been pending since "
            f"{_when(account.pending_since)}."
        )
        task = account.task
        if task and task.message:
            lines.append(f"{task.message} {task.hint or ''}".strip())
        elif application.paused_at:
            lines.append(
                f"{application.label} is paused: {masking.text(application.trouble) or ''} "
                f"{application.trouble_hint or ''}".strip()
            )
        elif application.tracked_only:
            lines.append("An operator has to do this in the application, and mark it as done.")
        elif not application.enabled:
            lines.append(f"{application.label} is disabled, so Dravo provisions nothing.")
        elif outside_pilot:
            lines.append(
                f"{application.label} is in its pilot, and the user is not in the pilot group. The account "
                "waits."
            )
    return lines


def _when(moment: str | None) -> str:
    """Return an instant as it is read in a sentence."""
    return f"{moment[:10]} {moment[11:16]} UTC" if moment else "an unknown time"


def _ways(connection: Connection, application_id: str) -> list[PossibleAccess]:
    """Return the groups and rules that give a role in an application, by rank."""
    return [
        PossibleAccess(
            assignment=row.id,
            group=GroupRef(row.group_id, row.group_name or "") if row.group_id else None,
            source=key_and_label(row.source_key, row.source_label),
            rule=row.rule,
            role=RoleRef(row.role_key, row.role_label or "", row.rank or 0) if row.role_key else None,
        )
        for row in stored_assignments.giving_roles(connection, application_id, 50)
    ]

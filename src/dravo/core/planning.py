"""Plans: from a snapshot and a change to the user, access and accounts of each affected user, with the
reasons.

Previews and applied changes use the same functions.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from typing import Any

from dravo.core.access import evaluation as access_rules
from dravo.core.access.conditions import seen
from dravo.core.access.evaluation import BY_KEEPING, NOTHING
from dravo.core.access.license_plans import NO_SEATING, SeatChanges, asked_for, goes_over, seating
from dravo.core.access.types import (
    KEEP,
    PLAIN,
    Access,
    Membership,
    Reason,
    UserFacts,
)
from dravo.core.identity.marks import UserMark, apply_mark
from dravo.core.identity.merging import MergedUser
from dravo.core.identity.records import UserRecord
from dravo.core.instants import Instant
from dravo.core.plan_types import (
    AccessChange,
    AccountChange,
    ConfigSnapshot,
    GroupLabel,
    HeldAccess,
    Role,
    UserPlan,
    UserSnapshot,
)
from dravo.core.provisioning.accounts import Entitlement, desired_account
from dravo.core.provisioning.attribute_mapping import GROUPS


def plan_user(user: UserSnapshot, catalogue: ConfigSnapshot, now: Instant) -> UserPlan:
    """Return the plan for one user: user, access and accounts.

    Args:
        user: the records, groups and direct assignments after the change, with the access and accounts before
            it.
        catalogue: the configuration.
        now: the instant of the change.
    """
    merged = apply_mark(catalogue.merged(user.records), user.mark, now)
    groups = access_rules.memberships(user.groups, catalogue.parents)
    facts = facts_of(user, merged, groups, catalogue)
    found = access_rules.compute_access(facts, catalogue.declared, now)
    kept, let_go = _keeping(user, merged, found, catalogue)
    if kept:
        found = access_rules.compute_access(
            replace(facts, kept=_by_application((*user.kept, *kept))), catalogue.declared, now
        )
    own_plans = {each.id: each.plan_id for each in user.direct if each.plan_id is not None}
    plan_of = {**catalogue.plan_of, **own_plans} if own_plans else catalogue.plan_of
    seats = _seating(user, found, catalogue, plan_of) if plan_of or user.seats else NO_SEATING
    # A seat that ends with this change is no longer transferred.
    remaining = (
        replace(user, seats=tuple(each for each in user.seats if each.id not in seats.ends))
        if seats.ends
        else user
    )
    return UserPlan(
        user,
        merged,
        tuple(_access_changes(user.access, found, catalogue, now)),
        tuple(
            _account_changes(
                remaining, merged, found, frozenset(each.group_id for each in groups), catalogue, plan_of
            )
        ),
        _next_change(found.next_change, user.mark, now),
        kept,
        let_go,
        seats,
    )


def _next_change(of_access: Instant | None, mark: UserMark | None, now: Instant) -> Instant | None:
    """Return the time of the next change by a date: of an assignment or a later mark."""
    if mark is None or mark.applies(now):
        return of_access
    return min(mark.from_at, of_access) if of_access else mark.from_at


def facts_of(
    user: UserSnapshot, merged: MergedUser, groups: Sequence[Membership], catalogue: ConfigSnapshot
) -> UserFacts:
    """Return the facts about one user from which access follows."""
    view, by_source = None, {}
    if catalogue.has_conditions:
        named = (
            [_seen_group(each.group_id, catalogue.labels) for each in groups] if catalogue.asks_groups else []
        )
        sources = dict.fromkeys(
            catalogue.sources.get(record.source_id, "") for record in user.records if record.active
        )
        view = seen(merged.attributes, named, sources)
        for source_id in catalogue.rule_sources:
            reported = [
                record
                for record in user.records
                if record.source_id == source_id and record.active and not record.undecided
            ]
            if reported:
                by_source[source_id] = seen(catalogue.merged(reported).attributes, named, sources)
    active = merged.active and not user.waits
    return UserFacts(
        active,
        groups,
        user.direct,
        view,
        user.known_since,
        _by_application(user.kept),
        by_source,
        user.user_id,
    )


def _seen_group(group_id: str, labels: Mapping[str, GroupLabel]) -> dict[str, Any]:
    label = labels.get(group_id)
    return (
        {"value": group_id, "display": label.name, "source": label.source_key}
        if label
        else {"value": group_id}
    )


def _by_application(kept: Iterable[tuple[str, str]]) -> dict[str, tuple[str, ...]]:
    found: dict[str, tuple[str, ...]] = {}
    for application_id, role_id in kept:
        found[application_id] = (*found.get(application_id, ()), role_id)
    return found


def _keeping(
    user: UserSnapshot, merged: MergedUser, found: Access, catalogue: ConfigSnapshot
) -> tuple[tuple[tuple[str, str], ...], tuple[tuple[str, str], ...]]:
    """Return the newly retained roles, and those no longer retained.

    An inactive user keeps retained roles; a user who left, is excluded, or is assigned a role again does not.
    """
    if not merged.active:
        return (), user.kept if merged.gone else ()
    let_go = tuple(
        (application_id, role_id)
        for application_id, role_id in user.kept
        if (decision := found.decisions.get(application_id)) is None or decision.by != BY_KEEPING
    )
    kept = tuple(
        (held.application_id, held.role_id)
        for held in user.access
        if catalogue.policies.get(held.application_id, PLAIN).fallback == KEEP
        and (decision := found.decisions.get(held.application_id)) is not None
        and decision.by == NOTHING
        and held.role_id in catalogue.roles
    )
    return kept, let_go


def _seating(
    user: UserSnapshot, found: Access, catalogue: ConfigSnapshot, plan_of: Mapping[str, str]
) -> SeatChanges:
    """Return the changes of a user's seats; a user with a retained role keeps the seat."""
    wanted = asked_for(found.roles, plan_of, catalogue.plans)
    for seat in user.seats:
        decision = found.decisions.get(seat.application_id)
        if seat.seated and decision is not None and decision.by == BY_KEEPING:
            wanted.setdefault(seat.application_id, (seat.plan_id,))
    return seating(user.seats, wanted)


def _access_changes(
    held: Sequence[HeldAccess], found: Access, catalogue: ConfigSnapshot, now: Instant
) -> Iterable[AccessChange]:
    open_roles = {(row.application_id, row.role_id): row for row in held}
    for key, row in open_roles.items():
        if key not in found.roles:
            ended = tuple({**reason, "until": reason["until"] or now} for reason in row.reasons)
            yield AccessChange(*key, ended, row.id, closed=True)
    for key, reasons in found.roles.items():
        before = open_roles.get(key)
        if before is None:
            yield AccessChange(*key, tuple(_reason(reason, catalogue, now) for reason in reasons))
            continue
        kept = _carried_on(before.reasons, reasons, catalogue, now)
        if kept != before.reasons:
            yield AccessChange(*key, kept, before.id)


def _carried_on(
    before: Sequence[dict[str, Any]], reasons: Sequence[Reason], catalogue: ConfigSnapshot, now: Instant
) -> tuple[dict[str, Any], ...]:
    """Return the reasons of continuing access: ended ones are closed, new ones added, the others stay."""
    current = {
        (reason.assignment_id or reason.kind, reason.group_id, reason.through): reason for reason in reasons
    }
    kept = []
    for row in before:
        key = (row["assignment"] or row["kind"], row["group"], tuple(row["through"]))
        if row["until"] is not None:
            kept.append(row)
        elif key in current:
            kept.append(row)
            del current[key]
        else:
            kept.append({**row, "until": now})
    return (*kept, *(_reason(reason, catalogue, now) for reason in current.values()))


def _reason(reason: Reason, catalogue: ConfigSnapshot, now: Instant) -> dict[str, Any]:
    """Return a reason as it is stored: a snapshot that stays readable without its group and assignment."""
    labels = catalogue.labels
    label = labels.get(reason.group_id) if reason.group_id else None
    return {
        "kind": reason.kind,
        "assignment": reason.assignment_id,
        "rule": catalogue.rule_texts.get(reason.assignment_id) if reason.assignment_id else None,
        "group": reason.group_id,
        "group_name": label.name if label else None,
        "source": label.source_key if label else None,
        "source_label": label.source_label if label else None,
        "through": list(reason.through),
        "through_names": [labels[each].name if each in labels else each for each in reason.through],
        "from": now,
        "until": None,
    }


def _account_changes(
    user: UserSnapshot,
    merged: MergedUser,
    found: Access,
    groups: frozenset[str],
    catalogue: ConfigSnapshot,
    plan_of: Mapping[str, str],
) -> Iterable[AccountChange]:
    if not found.roles and not user.accounts:
        return
    roles: dict[str, list[Role]] = {}
    seated = {seat.application_id: catalogue.plans.get(seat.plan_id) for seat in user.seats if seat.seated}
    for (application_id, role_id), reasons in found.roles.items():
        # A role with a license plan is sent once the user has a seat.
        if not plan_of or goes_over(reasons, seated.get(application_id), plan_of, catalogue.plans):
            roles.setdefault(application_id, []).append(catalogue.roles[role_id])
    held = {account.application_id: account for account in user.accounts}
    for application_id in sorted({*roles, *held}):
        application = catalogue.applications.get(application_id)
        if application is None:
            continue
        before = held.get(application_id)
        given = roles.get(application_id, ())
        over: list[str] = []
        if not application.tracked_only:
            provisioned = groups & catalogue.provisioned.get(application_id, frozenset())
            over += [f"group:{group_id}" for group_id in provisioned]
            if application.settings.role_encoding.way == GROUPS:
                over += [f"role:{role.id}" for role in given]
        plan = seated.get(application_id) if given else None
        entitlement = Entitlement(given, over, plan)
        due = desired_account(
            user.user_id, merged, entitlement, application.settings, before.desired if before else None
        )
        if due is None or (before is not None and before.desired == due):
            continue
        yield AccountChange(
            application_id,
            due,
            before.desired_version + 1 if before else 1,
            before.id if before else None,
            application.tracked_only,
        )


def with_record(user: UserSnapshot, record: UserRecord) -> UserSnapshot:
    """Return a user with one record replaced or added.

    A deleted record does not end memberships; the caller removes the groups too.
    """
    others = tuple(each for each in user.records if each.id != record.id)
    return replace(user, records=(*others, record))


def with_groups(user: UserSnapshot, added: Iterable[str] = (), removed: Iterable[str] = ()) -> UserSnapshot:
    """Return a user with groups added and removed."""
    gone = set(removed)
    kept = [group for group in user.groups if group not in gone]
    return replace(user, groups=(*kept, *(group for group in added if group not in kept)))

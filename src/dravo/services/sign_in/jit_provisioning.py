"""Just-in-time provisioning: the verified claims become a source record, a user and access."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import Connection

from dravo.core.access.reasons import chain
from dravo.core.identity import claims as read
from dravo.core.identity.acceptance import ReceivedGroup, membership_missing
from dravo.core.identity.names import fold
from dravo.core.identity.records import SIGN_IN
from dravo.core.identity.source_policy import Refused, SourcePolicy
from dravo.core.instants import Instant
from dravo.core.plan_types import ConfigSnapshot, UserPlan, UserSnapshot
from dravo.core.planning import plan_user, with_groups
from dravo.protocols.directory.reader import NOTED, Entry
from dravo.protocols.verified_identity import SignInRefused, VerifiedIdentity
from dravo.services.changes.recompute import recompute_user
from dravo.services.context import AppContext
from dravo.services.ingest.bulk_leavers import CHANGED, CONFLICT, NEW, UNKNOWN
from dravo.services.ingest.bulk_users import BulkUsers
from dravo.services.ingest.run_log import RunOptions
from dravo.services.sign_in import messages as sign_in_messages
from dravo.services.sign_in.verification import JitResult, StepLog
from dravo.store import clock, groups, memberships, recompute_marks
from dravo.store.ids import new_id
from dravo.store.imports import groups as imported_groups
from dravo.store.received import members
from dravo.store.sign_in import former_records
from dravo.store.sign_in import users as sign_in_users
from dravo.store.sign_in.users import KnownGroup, SignInRecord
from dravo.store.snapshots import users as user_snapshots
from dravo.store.snapshots.config import raise_revision
from dravo.store.sources.sources import Source

MOST_GROUPS = 1_000


@dataclass(frozen=True)
class JitOptions:
    """How just-in-time provisioning treats a sign-in.

    Attributes:
        says_verified: whether the provider states which email addresses it verified (OpenID Connect does).
        preview: report what the sign-in would do, and change nothing.
        import_groups: whether groups in claims are applied.
    """

    says_verified: bool
    preview: bool = False
    import_groups: bool = True


class JitProvisioner:
    """Creates or updates the user of one sign-in."""

    def __init__(
        self,
        ctx: AppContext,
        source: Source,
        policy: SourcePolicy,
        proved: VerifiedIdentity,
        steps: StepLog,
        options: JitOptions,
    ) -> None:
        self.ctx, self.source, self.steps = ctx, source, steps
        self.preview, self.import_groups = options.preview, options.import_groups
        self.claims = read.read_claims(proved.attributes, proved.subject)
        self.policy = read.safe_policy(policy, self.claims.attributes, says_verified=options.says_verified)
        self.entry = Entry(proved.native_id, proved.subject, self.claims.attributes)

    def user(self) -> dict[str, Any]:
        """Return the user that the attribute mapping produces, if the user is in scope.

        Raises:
            SignInRefused: "expressions" or "outside".
        """
        for short, full in sorted(self.claims.short.items()):
            if short in self.policy.uses and full not in self.policy.uses:
                self.steps.note("Attributes", f"'{short}' is read as '{full}'.")
        try:
            user = self.policy.user(self.entry.attributes)
        except Refused as wrong:
            came = ", ".join(sorted(self.claims.attributes)[:20])
            raise SignInRefused(
                "expressions", f"{wrong.message} Received claims: {came}.", wrong.hint
            ) from None
        self.steps.note(
            "Expressions", f"The attribute mapping produces the user name '{user.get('userName')}'."
        )
        if not self.policy.lets_in(user, self.source.key):
            raise sign_in_messages.outside(self.policy)
        if missing := membership_missing(self.policy, self._groups()):
            raise sign_in_messages.not_a_member(missing)
        return user

    def _groups(self) -> list[ReceivedGroup]:
        """Return the groups by which the scope decides: those in claims; without such a claim, the known ones
        of the user.
        """
        told = read.told_groups(self.policy, self.entry.attributes)
        with self.ctx.database.reading() as connection:
            if told is None:
                record = self._record(connection)
                parents = self.ctx.catalogue.get(connection).parents
                return members.groups_by_record(connection, [record.id], parents)[record.id] if record else []
            known = _known_groups(connection, self.source.id, told[:MOST_GROUPS])
        return [
            ReceivedGroup(name, known[fold(name)].display_name if fold(name) in known else name)
            for name in told[:MOST_GROUPS]
        ]

    def take(self, user: dict[str, Any]) -> JitResult:
        """Create or update the user, or preview it.

        Raises:
            SignInRefused: "conflict", "not_known" or "inactive".
        """
        users = BulkUsers(self.ctx, self.source, self.policy, None, RunOptions(self.preview), SIGN_IN)
        users.take([self.entry])
        users.finish()
        kind = next(iter(users.counts), "")
        if kind == CONFLICT:
            told = next(line["message"] for line in users.told if line["kind"] == CONFLICT)
            raise sign_in_messages.conflict(told, ahead=self.preview)
        if kind == UNKNOWN:
            raise sign_in_messages.erased() if users.ignored_erased else sign_in_messages.not_known()
        if kind == NEW:
            linked = any(line["message"] for line in users.told)
            self.steps.note("Matching", "Linked to an existing user." if linked else "Creates a new user.")
        else:
            changed = "with changed attributes" if kind == CHANGED else "without changes"
            self.steps.note("Matching", f"Existing user, {changed}.")
        return self._planned(users, user, kind) if self.preview else self._written(user, kind)

    # Planning

    def _planned(self, users: BulkUsers, user: dict[str, Any], kind: str) -> JitResult:
        now = clock.now()
        with self.ctx.database.reading() as connection:
            record = self._record(connection)
            user_id = record.user_id if record is not None else next(iter(users.after), None)
            before = _as_signed_in(self._before(connection, users, user_id), record)
            former = former_records.of_user(connection, self.source.id, user_id) if user_id else None
            if former is not None:
                before = replace(before, records=tuple(x for x in before.records if x.id != former))
            catalogue = self.ctx.catalogue.get(connection)
            told = self._told()
            chosen = self._chosen(connection, catalogue, told or ())
            after = before
            if told is not None:
                wanted = [
                    each["group"]["id"]
                    for each in chosen
                    if each["group"]
                    and each["group"]["id"]
                    and catalogue.authority.counts(self.source.id, each["group"]["id"], SIGN_IN)
                ]
                present = record.id if record is not None else former
                listed = groups.ids_of_record(connection, present) if present is not None else []
                after = with_groups(
                    before, added=wanted, removed=[each for each in listed if each not in wanted]
                )
            outcome = plan_user(after, catalogue, now)
        if not outcome.merged.active:
            raise sign_in_messages.inactive()
        self._tell_groups(told, chosen)
        access = _planned_access(before, outcome, catalogue)
        self._tell_access(access)
        return JitResult(user_id, kind, user, chosen, access)

    def _before(self, connection: Connection, users: BulkUsers, user_id: str | None) -> UserSnapshot:
        """Return the user before the claimed groups are applied."""
        if user_id is None:
            return users.new[self.entry.reference]
        return (
            users.after[user_id]
            if user_id in users.after
            else user_snapshots.users(connection, [user_id])[user_id]
        )

    # Applying

    def _written(self, user: dict[str, Any], kind: str) -> JitResult:
        now = clock.now()
        told = self._told()
        with self.ctx.database.reading() as connection:
            record = self._record(connection)
            if record is None:
                # The user was deleted in the meantime.
                raise sign_in_messages.inactive()
            held = _held(connection, record.user_id)
        with self.ctx.database.writing() as connection:
            catalogue = self.ctx.catalogue.get(connection)
            if former := former_records.of_user(connection, self.source.id, record.user_id):
                former_records.replace(connection, former, record.id, now)
                recompute_marks.mark_users(connection, [record.user_id], now)
            chosen = self._chosen(connection, catalogue, told or ())
            if told is not None:
                self._list(connection, catalogue, record, chosen, now)
            sign_in_users.note_sign_in(connection, record.id, now)
            if record.idle:
                recompute_marks.mark_users(connection, [record.user_id], now)
        recompute_user(self.ctx, record.user_id)
        with self.ctx.database.reading() as connection:
            active = sign_in_users.is_active(connection, record.user_id)
            after = _held(connection, record.user_id)
        if not active:
            raise sign_in_messages.inactive()
        self._tell_groups(told, chosen)
        access = _differing(held, after)
        self._tell_access(access)
        return JitResult(record.user_id, kind, user, chosen, access)

    def _list(
        self,
        connection: Connection,
        catalogue: ConfigSnapshot,
        record: SignInRecord,
        chosen: Sequence[dict[str, Any]],
        now: Instant,
    ) -> None:
        """Apply claimed groups to a record: add it to them, and remove it from other groups that only claims
        report.
        """
        fresh = [each for each in chosen if each["group"] is not None and each["group"]["id"] is None]
        made = []
        for each in fresh:
            each["group"]["id"] = new_id()
            made.append((each["group"]["id"], _Made(each["claimed"], each["group"]["name"])))
        imported_groups.make_groups(connection, self.source.id, made, now, SIGN_IN)
        if made and (catalogue.named_by_its_name(self.source.id) or catalogue.asks_groups):
            raise_revision(connection)
        wanted = [each["group"]["id"] for each in chosen if each["group"] is not None]
        listed = [group_id for group_id, _ in groups.groups_of_record(connection, record.id)]
        for group_id in set(listed) - set(wanted):
            memberships.end_members(connection, group_id, [record.id], now)
        for group_id in dict.fromkeys(wanted):
            if group_id not in listed:
                memberships.add_members(connection, group_id, [record.id], [], now)
        sign_in_users.note_claims(connection, record.id, now)
        if set(listed) != set(wanted):
            recompute_marks.mark_users(connection, [record.user_id], now)

    # Shared parts

    def _record(self, connection: Connection) -> SignInRecord | None:
        return sign_in_users.record_of_subject(connection, self.source.id, self.entry.native_id)

    def _told(self) -> list[str] | None:
        told = read.told_groups(self.policy, self.entry.attributes) if self.import_groups else None
        return told[:MOST_GROUPS] if told is not None else None

    def _chosen(
        self, connection: Connection, catalogue: ConfigSnapshot, told: Sequence[str]
    ) -> list[dict[str, Any]]:
        """Return for each claimed group the group of this source: by ID, by name, or a new one."""
        known = _known_groups(connection, self.source.id, told)
        chosen: list[dict[str, Any]] = []
        for name in told:
            row = known.get(fold(name))
            shown = row.display_name if row is not None else name
            if not self.policy.groups.takes(shown, name):
                chosen.append({"claimed": name, "group": None, "outcome": read.GROUP_IGNORED, "gives": []})
                continue
            group = {"id": row.id if row is not None else None, "name": shown}
            gives = _gives(catalogue, row.id) if row is not None else []
            chosen.append(
                {
                    "claimed": name,
                    "group": group,
                    "outcome": read.GROUP_EXISTING if row is not None else read.GROUP_CREATED,
                    "gives": gives,
                }
            )
        return chosen

    def _tell_groups(self, told: Sequence[str] | None, chosen: Sequence[Mapping[str, Any]]) -> None:
        if told is None and not self.import_groups:
            self.steps.note(
                "Groups",
                "Groups in claims are ignored: this source manages its groups through another "
                "connection type.",
            )
            return
        if told is None:
            asked = ", ".join(sorted(self.policy.groups_read))
            message = f"No claim contains groups (expected: {asked}). The current group memberships stay."
            self.steps.note(
                "Groups",
                message,
                NOTED,
                "Configure the provider to send groups, or enter the name of the claim.",
            )
            return
        kept = [each for each in chosen if each["group"] is not None]
        self.steps.note("Groups", f"{len(kept)} of {len(chosen)} groups in claims are in scope.")
        ids = [
            each["claimed"]
            for each in kept
            if each["outcome"] == read.GROUP_CREATED and read.looks_like_id(each["claimed"])
        ]
        if ids:
            message = f"'{ids[0]}' looks like an ID, but no group of this source has this ID."
            hint = (
                "Configure the provider to send group names, or to provision its groups through "
                "SCIM. You can also map the ID."
            )
            self.steps.note("Groups", message, NOTED, hint)
        idle = [each["group"]["name"] for each in kept if not each["gives"]]
        if idle and len(idle) == len(kept):
            message = (
                "None of these groups is mapped to a role: "
                f"{', '.join(idle[:5])}{' ...' if len(idle) > 5 else ''}."
            )
            self.steps.note("Groups", message, NOTED, "Map a group in the role mapping of an application.")

    def _tell_access(self, access: Sequence[Mapping[str, Any]]) -> None:
        gained = [
            f"{each['application']['label']}: {each['role']}" for each in access if each["what"] == "gained"
        ]
        kept = [
            f"{each['application']['label']}: {each['role']}" for each in access if each["what"] == "kept"
        ]
        if gained or kept:
            told = [
                f"Gained: {', '.join(gained)}." if gained else "",
                f"Existing access: {', '.join(kept)}." if kept else "",
            ]
            self.steps.note("Access", " ".join(each for each in told if each))
        else:
            hint = "Map one of the user's groups to a role, or assign the user."
            self.steps.note("Access", "The user has no access.", NOTED, hint)


def _as_signed_in(user: UserSnapshot, record: SignInRecord | None) -> UserSnapshot:
    """Return a user as after the sign-in: a record that was idle counts with what the provider reported."""
    if record is None or not record.idle:
        return user
    records = tuple(
        replace(each, data=record.data) if each.id == record.id else each for each in user.records
    )
    return replace(user, records=records)


@dataclass(frozen=True)
class _Made:
    """A group that only claims report."""

    native_id: str
    name: str
    reference: str | None = None


def _known_groups(connection: Connection, source_id: str, told: Sequence[str]) -> dict[str, KnownGroup]:
    """Return the present groups of a source by claimed value: by ID, then by name. A name of several groups
    matches none.
    """
    if not told:
        return {}
    keys = {fold(each) for each in told}
    # The provider may write the ID in another letter case.
    ids = {each for name in told for each in (name, name.lower(), name.upper())}
    rows = sign_in_users.groups_named(connection, source_id, keys, ids)
    by_name: dict[str, list[KnownGroup]] = {}
    for row in rows:
        by_name.setdefault(row.display_name_key, []).append(row)
    found = {name: some[0] for name, some in by_name.items() if name in keys and len(some) == 1}
    found |= {
        fold(name): row
        for row in rows
        for name in (row.native_id, row.external_id)
        if name and fold(name) in keys
    }
    return found


def _gives(catalogue: ConfigSnapshot, group_id: str) -> list[dict[str, str]]:
    """Return what the assignments of a group give."""
    found = []
    for each in catalogue.by_group.get(group_id, ()):
        role = catalogue.roles.get(each.role_id or "")
        what = "excluded" if each.excludes else role.label if role is not None else "access without a role"
        found.append({"application": catalogue.applications[each.application_id].label, "role": what})
    return found


def _held(connection: Connection, user_id: str) -> dict[tuple[str, str], dict[str, Any]]:
    return {
        (row.application_key, row.role): {
            "application": {"key": row.application_key, "label": row.application_label},
            "role": row.role,
            "reasons": [chain(reason) for reason in row.reasons],
        }
        for row in sign_in_users.roles_of(connection, user_id)
    }


def _differing(
    before: Mapping[tuple[str, str], dict[str, Any]], after: Mapping[tuple[str, str], dict[str, Any]]
) -> list[dict[str, Any]]:
    now = [{**each, "what": "kept" if key in before else "gained"} for key, each in after.items()]
    return now + [{**each, "what": "lost"} for key, each in before.items() if key not in after]


def _planned_access(
    before: UserSnapshot, outcome: UserPlan, catalogue: ConfigSnapshot
) -> list[dict[str, Any]]:
    closed = {change.id for change in outcome.access if change.closed}
    touched = {change.id for change in outcome.access if change.id is not None}

    def line(application_id: str, role_id: str, reasons: Sequence[Any], what: str) -> dict[str, Any]:
        application, role = catalogue.applications[application_id], catalogue.roles[role_id]
        told = {"application": {"key": application.key, "label": application.label}, "role": role.label}
        return {**told, "reasons": [chain(reason) for reason in reasons], "what": what}

    found = [
        line(each.application_id, each.role_id, each.reasons, "gained")
        for each in outcome.access
        if each.id is None
    ]
    found += [
        line(each.application_id, each.role_id, each.reasons, "lost")
        for each in outcome.access
        if each.id in closed
    ]
    found += [
        line(each.application_id, each.role_id, each.reasons, "kept")
        for each in outcome.access
        if each.id in touched and each.id not in closed
    ]
    return found + [
        line(each.application_id, each.role_id, each.reasons, "kept")
        for each in before.access
        if each.id not in touched
    ]

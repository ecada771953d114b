"""The tables of applications, their configuration, and access."""

from __future__ import annotations

from sqlalchemy import (
    Boolean,
    Column,
    ForeignKey,
    Index,
    Integer,
    LargeBinary,
    String,
    Table,
    Text,
    UniqueConstraint,
)

from dravo.store.tables.base import Json, at, metadata, one_of, own_id, some_of, to

application = Table(
    "application",
    metadata,
    own_id(),
    Column("key", String(64), nullable=False, unique=True),
    Column("label", Text, nullable=False),
    # The operator who owns the application.
    Column("owner_id", String(36), ForeignKey("operator.id"), index=True),
    # URL for users, and whether the application is hidden from their list.
    Column("address", Text),
    Column("hidden", Boolean(create_constraint=False), nullable=False, server_default="0"),
    Column("revision", Integer, nullable=False),
    at("created_at", nullable=False),
    Column("tracked_only", Boolean(create_constraint=False), nullable=False),
    Column("enabled", Boolean(create_constraint=False), nullable=False),
    Column("create_accounts", Boolean(create_constraint=False), nullable=False),
    Column("update_accounts", Boolean(create_constraint=False), nullable=False),
    Column("on_losing_access", String(16), nullable=False),
    Column("on_inactive", String(16), nullable=False),
    Column("on_leaving", String(16), nullable=False),
    Column("max_concurrency", Integer, nullable=False),
    Column("base_url", Text),
    Column("secret", Text),
    Column("capabilities", Json),
    at("checked_at"),
    # Authentication at the application: {"kind": "basic" or "client_credentials", ...}; null for a bearer
    # token. The secret is in its own column.
    Column("auth", Json),
    at("secret_expires_at"),
    # Provisioning settings: the attribute mapping, how roles and license plans are sent, and which groups.
    Column("attributes", Json),
    Column("role_encoding", Json),
    Column("plan_encoding", Json),
    Column("provisioned_groups", Json),
    Column("adopt_groups", Boolean(create_constraint=False), nullable=False, server_default="0"),
    # Maximum number of requests per second; null for no limit.
    Column("rate_limit", Integer),
    # Schedule of reconciliation as a cron expression, and its next time.
    Column("reconcile_schedule", Text),
    at("reconcile_next_at"),
    # Access policy: see core/access/evaluation.py.
    Column("eligibility", String(12), nullable=False, server_default="assigned"),
    Column("fallback", String(16), nullable=False, server_default="no_access"),
    Column("default_role_id", String(36)),
    Column("several", String(12), nullable=False, server_default="all"),
    Column("first", String(12), nullable=False, server_default="both"),
    # Health of the connection: failures in a row, when to retry, and whether it is paused until an operator
    # resumes it.
    Column("failures", Integer, nullable=False),
    at("retry_at"),
    at("answered_at"),
    at("paused_at"),
    Column("trouble", Text),
    Column("trouble_hint", Text),
    # A note of operators.
    Column("note", Text),
    # While it is enabled: the group whose members alone are provisioned, null for everyone. While it is
    # disabled: the time from which it is enabled.
    Column("pilot_group_id", String(36)),
    at("enabled_from"),
    # The attributes by which an existing account is adopted, null for none; and the attribute that names
    # Dravo as the origin of an account, null for none.
    Column("adopt_by", Json),
    Column("origin_attribute", Text),
    # What it was seen with: {"values": [...], "complete": bool}, see core/provisioning/seen_values.py.
    Column("seen_values", Json),
    at("seen_at"),
    # Whether users can request access to it.
    Column("requestable", Boolean(create_constraint=False), nullable=False, server_default="0"),
    # What a reconciliation does with accounts without a user: see core/provisioning/found_accounts.py.
    Column("unlinked_accounts", String(16), nullable=False, server_default="wait"),
    # Whether each task waits for an operator's approval.
    Column("approve_tasks", Boolean(create_constraint=False), nullable=False, server_default="0"),
    # The application of which it is another instance, and the last successful test with a test account.
    Column("original_id", String(36)),
    at("tested_at"),
)
some_of("ix_application_enabled_from", application.c.enabled_from, where="enabled_from IS NOT NULL")

# The icon of an application, as PNG; the version is a digest of the image.
application_icon = Table(
    "application_icon",
    metadata,
    Column("application_id", String(36), ForeignKey("application.id"), primary_key=True),
    Column("version", String(16), nullable=False),
    Column("image", LargeBinary, nullable=False),
)

role = Table(
    "role",
    metadata,
    own_id(),
    to("application"),
    Column("key", String(64), nullable=False),
    Column("label", Text, nullable=False),
    Column("rank", Integer, nullable=False),
    # The value sent to the application, null for the key; and what the role permits.
    Column("sent_value", Text),
    Column("description", Text),
    UniqueConstraint("application_id", "key"),
)

# License plans of an application, each with a number of seats (null for no limit).
license_plan = Table(
    "license_plan",
    metadata,
    own_id(),
    to("application"),
    Column("key", String(64), nullable=False),
    Column("label", Text, nullable=False),
    Column("rank", Integer, nullable=False),
    Column("seats", Integer),
    # The value sent to the application, null for the key; and what the plan includes.
    Column("sent_value", Text),
    Column("description", Text),
    UniqueConstraint("application_id", "key"),
)

# Seats of license plans by user. While `from_at` is null, the user is on the waiting list.
seat = Table(
    "seat",
    metadata,
    own_id(),
    to("user"),
    to("application", index=True),
    to("license_plan", "plan_id"),
    at("requested_at", nullable=False),
    at("from_at"),
    at("until_at"),
)
one_of(
    "uq_seat_taken", seat.c.user_id, seat.c.application_id, where="until_at IS NULL AND from_at IS NOT NULL"
)
one_of("uq_seat_waited_for", seat.c.user_id, seat.c.plan_id, where="until_at IS NULL AND from_at IS NULL")
some_of("ix_seat_taken", seat.c.plan_id, where="until_at IS NULL AND from_at IS NOT NULL")
some_of(
    "ix_seat_waited_for", seat.c.plan_id, seat.c.requested_at, where="until_at IS NULL AND from_at IS NULL"
)

assignment = Table(
    "assignment",
    metadata,
    own_id(),
    to("application", index=True),
    # The assigned role; null for access without a role, and for exclusions.
    to("role", nullable=True),
    to("license_plan", "plan_id", nullable=True),
    # The assigned users: one user, a group, all who match a rule, or groups of a source whose names match a
    # pattern; everyone if all of these are null.
    to("user", nullable=True),
    to("group", nullable=True),
    Column("rule", Text),
    Column("pattern", Text),
    to("source", nullable=True),
    # Confirmed for the highest role: IDs of groups for a pattern; IDs of users for a rule, null for all who
    # match.
    Column("confirmed", Json),
    # For a rule: whether users who match later are confirmed too.
    Column("future_users", Boolean(create_constraint=False), nullable=False, server_default="0"),
    Column("excludes", Boolean(create_constraint=False), nullable=False, server_default="0"),
    at("new_users_since"),
    at("from_at"),
    at("until_at"),
    # Start and end as days, if given so; the instants depend on the organization's time zone.
    Column("from_day", String(10)),
    Column("until_day", String(10)),
    Column("note", Text),
    at("created_at", nullable=False),
    Column("created_by", Text, nullable=False),
    at("removed_at"),
    # An expression whose values are roles; also one of the kinds of assigned users.
    Column("expression", Text),
)
some_of("ix_assignment_user", assignment.c.user_id, where="removed_at IS NULL AND user_id IS NOT NULL")
one_of(
    "uq_assignment_user",
    assignment.c.role_id,
    assignment.c.user_id,
    where="removed_at IS NULL AND user_id IS NOT NULL",
)
one_of(
    "uq_assignment_user_no_role",
    assignment.c.application_id,
    assignment.c.user_id,
    assignment.c.excludes,
    where="removed_at IS NULL AND user_id IS NOT NULL AND role_id IS NULL",
)
one_of(
    "uq_assignment_group_no_role",
    assignment.c.application_id,
    assignment.c.group_id,
    assignment.c.excludes,
    where="removed_at IS NULL AND group_id IS NOT NULL AND role_id IS NULL",
)
one_of(
    "uq_assignment_group",
    assignment.c.role_id,
    assignment.c.group_id,
    where="removed_at IS NULL AND group_id IS NOT NULL",
)

# Roles that a user retains without an assignment, if the policy of the application says so.
retained_role = Table(
    "retained_role",
    metadata,
    own_id(),
    to("user"),
    to("application"),
    to("role"),
    at("from_at", nullable=False),
    at("until_at"),
)
one_of("uq_retained_role_open", retained_role.c.user_id, retained_role.c.role_id, where="until_at IS NULL")

# Access: the role of a user with start, end and reasons. The reasons are snapshots.
access = Table(
    "access",
    metadata,
    own_id(),
    to("user"),
    to("application"),
    to("role"),
    Column("reasons", Json, nullable=False),
    # Whether all reasons are direct assignments.
    Column("direct_only", Boolean(create_constraint=False), nullable=False, server_default="0"),
    at("from_at", nullable=False),
    at("until_at"),
)
one_of("uq_access_open", access.c.user_id, access.c.role_id, where="until_at IS NULL")
# Counts the users of an application without reading rows.
some_of(
    "ix_access_of_application",
    access.c.application_id,
    access.c.user_id,
    access.c.until_at,
    where="until_at IS NULL",
)
Index("ix_access_history", access.c.user_id, access.c.from_at)
# With all columns that its queries read: otherwise the planner can prefer the index of open access.
some_of(
    "ix_access_direct",
    access.c.user_id,
    access.c.direct_only,
    access.c.until_at,
    where="until_at IS NULL AND direct_only = 1",
)
Index("ix_access_began", access.c.from_at)
some_of("ix_access_ended", access.c.until_at, where="until_at IS NOT NULL")

# Access reviews with a due date, and the decision on each row. They are kept as evidence.
review = Table(
    "review",
    metadata,
    own_id(),
    Column("label", Text, nullable=False),
    Column("note", Text),
    Column("narrowed", Json, nullable=False),
    at("created_at", nullable=False),
    Column("created_by", Text, nullable=False),
    at("until_at", nullable=False),
    Column("until_day", String(10)),
    at("closed_at"),
    Column("closed_by", Text),
)
review_row = Table(
    "review_row",
    metadata,
    own_id(),
    to("review"),
    to("user"),
    to("application"),
    to("role"),
    at("since", nullable=False),
    # Names as they were when the review was created.
    Column("reasons", Json, nullable=False),
    Column("decision", String(12)),
    at("decided_at"),
    Column("decided_by", Text),
    Column("note", Text),
    Column("outcome", Text),
)
Index("ix_review_row_of_review", review_row.c.review_id, review_row.c.application_id, review_row.c.decision)
Index("ix_review_row_of_application", review_row.c.application_id)

# Requests of users for access: "open", "approved", "refused" or "withdrawn". Without a role, the operator who
# approves chooses one.
access_request = Table(
    "access_request",
    metadata,
    own_id(),
    to("user"),
    to("application"),
    to("role", nullable=True),
    Column("reason", Text, nullable=False),
    Column("status", String(12), nullable=False),
    at("requested_at", nullable=False),
    at("decided_at"),
    Column("decided_by", Text),
    Column("answer", Text),
    # The assignment that an approval created.
    Column("assignment_id", String(36)),
)
Index("ix_access_request_of_application", access_request.c.application_id, access_request.c.id)
one_of(
    "uq_access_request_open",
    access_request.c.user_id,
    access_request.c.application_id,
    where="status = 'open'",
)

# Users whose access is to be recomputed after a change that affects many. They are not provisioned before.
pending_recompute = Table(
    "pending_recompute",
    metadata,
    Column("user_id", String(36), ForeignKey("user.id"), primary_key=True),
    at("since", nullable=False),
    # The application whose removals an operator confirmed, and the operator.
    Column("confirmed_for", String(36)),
    Column("released_by", Text),
    # The import run that counts what ends.
    Column("run_id", String(36)),
)

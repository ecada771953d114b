"""The tables of applications, their configuration, and access."""

from __future__ import annotations

from sqlalchemy import Boolean, Column, ForeignKey, Index, Integer, String, Table, Text, UniqueConstraint

from dravo.store.tables.base import Json, at, metadata, one_of, own_id, some_of, to

application = Table(
    "application",
    metadata,
    own_id(),
    Column("key", String(64), nullable=False, unique=True),
    Column("label", Text, nullable=False),
    Column("owner", Text),
    # Where users open it, and whether it is shown among their applications.
    Column("address", Text),
    Column("hidden", Boolean(create_constraint=False), nullable=False, server_default="0"),
    Column("revision", Integer, nullable=False),
    at("created_at", nullable=False),
    Column("tracked_only", Boolean(create_constraint=False), nullable=False),
    Column("enabled", Boolean(create_constraint=False), nullable=False),
    Column("create_accounts", Boolean(create_constraint=False), nullable=False),
    Column("update_accounts", Boolean(create_constraint=False), nullable=False),
    Column("adopt_by_user_name", Boolean(create_constraint=False), nullable=False),
    Column("on_losing_access", String(16), nullable=False),
    Column("on_inactive", String(16), nullable=False),
    Column("on_leaving", String(16), nullable=False),
    Column("max_concurrency", Integer, nullable=False),
    Column("base_url", Text),
    Column("secret", Text),
    Column("capabilities", Json),
    at("checked_at"),
    # How we sign in there: {"kind": "bearer" (if null), "basic" or "client credentials", ...}; the secret
    # itself stands apart.
    Column("auth", Json),
    at("secret_expires_at"),
    # What is sent: attributes by expressions, how roles go, which groups.
    Column("attributes", Json),
    Column("role_encoding", Json),
    Column("plan_encoding", Json),
    Column("provisioned_groups", Json),
    Column("adopt_groups", Boolean(create_constraint=False), nullable=False, server_default="0"),
    # Requests a second at the most; null: as many as it takes.
    Column("rate_limit", Integer),
    # When it is compared with what should be there: a cron expression, and the next such instant.
    Column("reconcile_schedule", Text),
    at("reconcile_next_at"),
    # How access is decided here: see core/access/evaluation.py.
    Column("eligibility", String(12), nullable=False, server_default="assigned"),
    Column("fallback", String(16), nullable=False, server_default="no_access"),
    Column("default_role_id", String(36)),
    Column("several", String(12), nullable=False, server_default="all"),
    Column("first", String(12), nullable=False, server_default="both"),
    # How it answers: failures in a row and when to try again; paused until an operator resumes it.
    Column("failures", Integer, nullable=False),
    at("retry_at"),
    at("answered_at"),
    at("paused_at"),
    Column("trouble", Text),
    Column("trouble_hint", Text),
)

role = Table(
    "role",
    metadata,
    own_id(),
    to("application"),
    Column("key", String(64), nullable=False),
    Column("label", Text, nullable=False),
    Column("rank", Integer, nullable=False),
    UniqueConstraint("application_id", "key"),
)

# Where an application is paid by the head: its plans, each with so many seats (null: as many as users).
license_plan = Table(
    "license_plan",
    metadata,
    own_id(),
    to("application"),
    Column("key", String(64), nullable=False),
    Column("label", Text, nullable=False),
    Column("rank", Integer, nullable=False),
    Column("seats", Integer),
    UniqueConstraint("application_id", "key"),
)

# Who has a seat of a plan, from when until when; as long as `from_at` is null they wait for it.
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
    # The role that it gives; null lets in without one, or keeps out.
    to("role", nullable=True),
    to("license_plan", "plan_id", nullable=True),
    # For whom: a user, a group, those who meet a condition, groups of a source whose names fit a pattern;
    # else everyone.
    to("user", nullable=True),
    to("group", nullable=True),
    Column("rule", Text),
    Column("pattern", Text),
    to("source", nullable=True),
    # Groups by id that may give the application's highest role by a pattern; users by id that may get it by
    # a rule, null for all who meet it.
    Column("confirmed", Json),
    # Of a rule: whether users who come to meet it later were confirmed when it was created.
    Column("future_users", Boolean(create_constraint=False), nullable=False, server_default="0"),
    Column("excludes", Boolean(create_constraint=False), nullable=False, server_default="0"),
    at("new_users_since"),
    at("from_at"),
    at("until_at"),
    # The days that were said, where days were: their instants follow from the organization's time zone.
    Column("from_day", String(10)),
    Column("until_day", String(10)),
    Column("note", Text),
    at("created_at", nullable=False),
    Column("created_by", Text, nullable=False),
    at("removed_at"),
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

# Roles that a user keeps because nothing gives one any more, where the application's policy says so.
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

# Who has what, from when until when, and why; the reasons are snapshots.
access = Table(
    "access",
    metadata,
    own_id(),
    to("user"),
    to("application"),
    to("role"),
    Column("reasons", Json, nullable=False),
    # Whether it rests on nothing but assignments to the user.
    Column("direct_only", Boolean(create_constraint=False), nullable=False, server_default="0"),
    at("from_at", nullable=False),
    at("until_at"),
)
one_of("uq_access_open", access.c.user_id, access.c.role_id, where="until_at IS NULL")
# Also what the users of an application are counted by, without reading a row.
some_of(
    "ix_access_of_application",
    access.c.application_id,
    access.c.user_id,
    access.c.until_at,
    where="until_at IS NULL",
)
Index("ix_access_history", access.c.user_id, access.c.from_at)
some_of("ix_access_direct", access.c.user_id, where="until_at IS NULL AND direct_only = 1")
Index("ix_access_began", access.c.from_at)
some_of("ix_access_ended", access.c.until_at, where="until_at IS NOT NULL")

# A part of the matrix that is looked through until a day, and what was decided row by row: kept as evidence.
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
    # As they were when the review began, in words.
    Column("reasons", Json, nullable=False),
    Column("decision", String(12)),
    at("decided_at"),
    Column("decided_by", Text),
    Column("note", Text),
    Column("outcome", Text),
)
Index("ix_review_row_of_review", review_row.c.review_id, review_row.c.application_id, review_row.c.decision)
Index("ix_review_row_of_application", review_row.c.application_id)

# Users whose access has to be worked out again because something that touches many has changed; nobody in
# here is delivered.
pending_recompute = Table(
    "pending_recompute",
    metadata,
    Column("user_id", String(36), ForeignKey("user.id"), primary_key=True),
    at("since", nullable=False),
    # Where what is removed with it was confirmed by an operator, and by whom.
    Column("confirmed_for", String(36)),
    Column("released_by", Text),
)

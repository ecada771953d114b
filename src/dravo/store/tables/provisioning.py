"""The tables of accounts and provisioned groups, with the tasks that bring them to their desired state."""

from __future__ import annotations

from sqlalchemy import Boolean, Column, ForeignKey, Index, Integer, String, Table, Text, UniqueConstraint

from dravo.store.tables.base import Json, at, metadata, one_of, own_id, some_of, to

account = Table(
    "account",
    metadata,
    own_id(),
    to("user"),
    to("application"),
    Column("desired", Json, nullable=False),
    Column("desired_version", Integer, nullable=False),
    at("pending_since", nullable=False),
    Column("applied", Json),
    # The last state that was known for certain. Whether a change removes something is computed from it.
    Column("last_applied", Json),
    Column("applied_version", Integer, nullable=False),
    at("applied_at"),
    Column("remote_id", Text),
    Column("origin", String(16)),
    # Time of a lost reply, since which it is unknown whether the account was created.
    at("outcome_unknown_since"),
    # Time of the last deletion or repair. Account lists that are older are not used for this account.
    at("lists_valid_from"),
    # Attributes to clear at the next repair.
    Column("to_empty", Json),
    # The manager as the source names users ("source ID:value", as user names are compared), and the account
    # of theirs that was sent.
    Column("manager_key", Text),
    Column("manager_account_id", String(36)),
    UniqueConstraint("user_id", "application_id"),
)
some_of("ix_account_manager_key", account.c.manager_key, where="manager_key IS NOT NULL")
some_of("ix_account_manager", account.c.manager_account_id, where="manager_account_id IS NOT NULL")
Index("ix_account_of_application", account.c.application_id, account.c.id)
one_of("uq_account_remote", account.c.application_id, account.c.remote_id, where="remote_id IS NOT NULL")

# Users whose accounts or records changed, so that accounts of their reports may have to name another manager.
pending_manager = Table(
    "pending_manager",
    metadata,
    Column("user_id", String(36), ForeignKey("user.id"), primary_key=True),
    at("since", nullable=False),
)

task = Table(
    "task",
    metadata,
    own_id(),
    to("account"),
    to("application"),
    to("user", index=True),
    Column("status", String(16), nullable=False),
    Column("version", Integer, nullable=False),
    # The desired state in words; for a completed task, the state that it applied.
    Column("desired_state", Text, nullable=False),
    Column("attempts", Integer, nullable=False),
    at("created_at", nullable=False),
    at("next_attempt_at"),
    at("closed_at"),
    Column("message", Text),
    Column("hint", Text),
    # Kind of the error, so that all tasks with the same error can be retried together.
    Column("kind", String(40)),
    # Whether it removes access. Then the removal limit or an operator must let it through.
    Column("removes", Boolean(create_constraint=False), nullable=False, server_default="0"),
    at("released_at"),
    Column("released_by", Text),
    # Time since which the removal limit holds it. Only an operator or a new desired state ends that.
    at("held_at"),
    # What an operator did who carried it out, null for Dravo; and the state of the account before.
    Column("manual_action", String(16)),
    Column("applied_before", Json),
    # The version that an operator approved, where the application asks for approval.
    Column("approved_version", Integer),
    Column("approved_by", Text),
)
one_of("uq_task_open", task.c.account_id, where="closed_at IS NULL")
some_of("ix_task_waiting", task.c.application_id, task.c.next_attempt_at, where="status = 'waiting'")
Index("ix_task_of_application", task.c.application_id, task.c.id)
Index("ix_task_status", task.c.status, task.c.id)
some_of("ix_task_removing", task.c.released_at, task.c.application_id, where="removes = 1")
some_of("ix_task_held", task.c.application_id, where="held_at IS NOT NULL AND closed_at IS NULL")
Index("ix_task_of_account", task.c.account_id, task.c.id)

task_attempt = Table(
    "task_attempt",
    metadata,
    Column("id", Integer, primary_key=True),
    to("task", "task_id", index=True),
    Column("version", Integer, nullable=False),
    at("started_at", nullable=False),
    at("ended_at", nullable=False),
    Column("outcome", String(16), nullable=False),
    Column("message", Text),
    Column("exchanges", Json, nullable=False),
)

# Provisioned groups: a group of a source ("group:ID"), or a role that is sent as a group ("role:ID").
provisioned_group = Table(
    "provisioned_group",
    metadata,
    own_id(),
    to("application"),
    Column("key", String(48), nullable=False),
    Column("status", String(16), nullable=False),
    Column("applied_name", Text),
    at("applied_at"),
    Column("remote_id", Text),
    Column("origin", String(16)),
    Column("attempts", Integer, nullable=False),
    at("next_attempt_at"),
    Column("message", Text),
    Column("hint", Text),
    # Requests and responses of the last attempt.
    Column("exchanges", Json),
    at("created_at", nullable=False),
    UniqueConstraint("application_id", "key"),
)
some_of(
    "ix_provisioned_group_waiting",
    provisioned_group.c.application_id,
    provisioned_group.c.next_attempt_at,
    where="status = 'waiting'",
)

# Desired members of provisioned groups, with the account ID that was sent; only users with an account.
provisioned_member = Table(
    "provisioned_member",
    metadata,
    Column("provisioned_group_id", String(36), ForeignKey("provisioned_group.id"), primary_key=True),
    Column("account_id", String(36), ForeignKey("account.id"), primary_key=True),
    Column("desired", Boolean(create_constraint=False), nullable=False),
    Column("applied_remote_id", Text),
)
Index("ix_provisioned_member_account", provisioned_member.c.account_id)

# Runs: reconciliations and imports, with counts.
run = Table(
    "run",
    metadata,
    own_id(),
    Column("kind", String(20), nullable=False),
    to("application", nullable=True),
    to("source", nullable=True),
    # Of an import: whether all users are read, whether it is a preview, and whether removals above the limit
    # are allowed.
    Column("whole", Boolean(create_constraint=False)),
    Column("preview", Boolean(create_constraint=False)),
    Column("allow_removals", Boolean(create_constraint=False)),
    # Number of crashes of the worker during this run and the run that it repeats.
    Column("crashes", Integer, nullable=False, server_default="0"),
    Column("status", String(16), nullable=False),
    Column("requested_by", Text, nullable=False),
    at("requested_at", nullable=False),
    at("started_at"),
    at("ended_at"),
    Column("progress", Integer, nullable=False),
    Column("counts", Json),
    Column("message", Text),
    Column("hint", Text),
    Column("stop_requested", Boolean(create_constraint=False), nullable=False),
    # Of an import: roles and accounts that ended by it, also when users are recomputed after its end.
    Column("roles_ended", Integer, nullable=False, server_default="0"),
    Column("accounts_ended", Integer, nullable=False, server_default="0"),
)
some_of("ix_run_open", run.c.status, where="ended_at IS NULL")
Index("ix_run_of_application", run.c.application_id, run.c.id)
some_of("ix_run_of_source", run.c.source_id, run.c.id, where="source_id IS NOT NULL")

# Entries of an import run: what it did, or would do, to one user or group.
run_entry = Table(
    "run_entry",
    metadata,
    Column("id", Integer, primary_key=True),
    to("run"),
    Column("kind", String(16), nullable=False),
    to("user", nullable=True),
    Column("name", Text, nullable=False),
    # {attribute: [before, after]}.
    Column("changes", Json),
    Column("message", Text),
)
Index("ix_run_entry", run_entry.c.run_id, run_entry.c.kind, run_entry.c.id)

# Drift: differences between an application and the desired state.
drift = Table(
    "drift",
    metadata,
    own_id(),
    to("application"),
    Column("kind", String(20), nullable=False),
    # What differs: the ID of an account here, or of an account or group in the application.
    Column("about", Text, nullable=False),
    to("account", nullable=True),
    Column("remote_id", Text),
    Column("name", Text, nullable=False),
    Column("there", Json),
    Column("differences", Json),
    Column("status", String(16), nullable=False),
    at("first_seen_at", nullable=False),
    at("last_seen_at", nullable=False),
    Column("run_id", String(36), nullable=False),
    # Why the policy for accounts without a user left it to operators.
    Column("message", Text),
    Column("hint", Text),
    UniqueConstraint("application_id", "kind", "about"),
)
Index("ix_drift_of_application", drift.c.application_id, drift.c.status, drift.c.id)

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
    # What was last agreed, also when it has since come into doubt: by this it is judged what a change takes
    # away.
    Column("last_applied", Json),
    Column("applied_version", Integer, nullable=False),
    at("applied_at"),
    Column("remote_id", Text),
    Column("origin", String(16)),
    # Since when it is not known whether an account was made there: its reply was lost.
    at("outcome_unknown_since"),
    # When it was deleted, or had to be repaired: a list of the application's accounts that was begun before
    # says nothing of it.
    at("lists_valid_from"),
    # The attributes whose values there are removed at the next repair: the user has none.
    Column("to_empty", Json),
    UniqueConstraint("user_id", "application_id"),
)
Index("ix_account_of_application", account.c.application_id, account.c.id)
one_of("uq_account_remote", account.c.application_id, account.c.remote_id, where="remote_id IS NOT NULL")

task = Table(
    "task",
    metadata,
    own_id(),
    to("account"),
    to("application"),
    to("user", index=True),
    Column("status", String(16), nullable=False),
    Column("version", Integer, nullable=False),
    # What the account is to become, in words: for one that is done, what it became then.
    Column("desired_state", Text, nullable=False),
    Column("attempts", Integer, nullable=False),
    at("created_at", nullable=False),
    at("next_attempt_at"),
    at("closed_at"),
    Column("message", Text),
    Column("hint", Text),
    # What kind of trouble it is, so that all of one kind can be taken up again together.
    Column("kind", String(40)),
    # Whether it takes something away; then it goes only once the removal limit, or a user, let it through.
    Column("removes", Boolean(create_constraint=False), nullable=False, server_default="0"),
    at("released_at"),
    Column("released_by", Text),
    # Since when the removal limits hold it. Only an operator ends that, or a change after which it is judged
    # again.
    at("held_at"),
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

# A group as it is sent to an application: a group of a source ("group:ID"), or a role whose users are kept
# as a group ("role:ID").
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
    # What was exchanged in the last attempt.
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

# Who is to be in such a group, and as which account there they were agreed to be; only accounts that are
# there.
provisioned_member = Table(
    "provisioned_member",
    metadata,
    Column("provisioned_group_id", String(36), ForeignKey("provisioned_group.id"), primary_key=True),
    Column("account_id", String(36), ForeignKey("account.id"), primary_key=True),
    Column("desired", Boolean(create_constraint=False), nullable=False),
    Column("applied_remote_id", Text),
)
Index("ix_provisioned_member_account", provisioned_member.c.account_id)

# One reading of another system: a reconciliation, or a pull of a source, with counts.
run = Table(
    "run",
    metadata,
    own_id(),
    Column("kind", String(20), nullable=False),
    to("application", nullable=True),
    to("source", nullable=True),
    # Of a pull: whether everyone is read, whether it only shows what it would do, and whether all who are
    # missing may leave.
    Column("whole", Boolean(create_constraint=False)),
    Column("preview", Boolean(create_constraint=False)),
    Column("allow_removals", Boolean(create_constraint=False)),
    # How often the worker ended in the middle of it, or of the run that it takes up.
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
)
some_of("ix_run_open", run.c.status, where="ended_at IS NULL")
Index("ix_run_of_application", run.c.application_id, run.c.id)
some_of("ix_run_of_source", run.c.source_id, run.c.id, where="source_id IS NOT NULL")

# What a pull did, or would do, to one user or group.
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

# A difference between an application as it is and as it should be.
drift = Table(
    "drift",
    metadata,
    own_id(),
    to("application"),
    Column("kind", String(20), nullable=False),
    # What it is about, once for each: an account of ours, or what was found there.
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
    UniqueConstraint("application_id", "kind", "about"),
)
Index("ix_drift_of_application", drift.c.application_id, drift.c.status, drift.c.id)

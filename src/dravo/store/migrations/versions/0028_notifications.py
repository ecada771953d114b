"""Add notifications, and keep what was sent."""

from __future__ import annotations

import json

import sqlalchemy as sa
from alembic import op

revision = "0028"
down_revision = "0027"

# Rules that tell who was told before, about access requests and waiting deactivations, and about more.
_OF_OWNERS = [
    "task_failed",
    "application_paused",
    "removals_held",
    "drift_found",
    "secret_expiring",
    "seats_nearly_full",
    "seats_full",
    "review_due",
    "review_undecided",
]
# What owners decide; an application without an owner has administrators for it.
_DECIDED_BY_OWNERS = ["access_requested", "review_opened"]
_OF_ORGANIZATION = [
    "conflict_waiting",
    "import_failed",
    "import_held",
    "deactivations_waiting",
    "token_expiring",
    "certificate_expiring",
    "key_expiring",
    "provider_changed",
    "provider_updated",
    "provider_unreadable",
    "sign_ins_refused",
    "test_sign_in_refused",
    "operator_created",
    "operator_locked_out",
    "recovery_code_used",
    "api_token_expiring",
    "worker_restarted",
    "webhook_disabled",
]
_ADMINISTRATORS = (
    '[{"kind": "operators", "value": "super_administrator"}, {"kind": "operators", "value": "administrator"}]'
)
_OWNERS = (
    '["task_failed", "application_paused", "removals_held", "drift_found", "secret_expiring", '
    '"seats_nearly_full", "seats_full", "review_opened", "review_due", "review_undecided"]'
)
_OWNERS = '[{"kind": "owners", "value": ""}]'


def upgrade() -> None:
    """Create the tables; emails that wait are sent as before."""
    op.create_table(
        "notification_event",
        sa.Column("id", sa.String(36), nullable=False),
        sa.Column("kind", sa.String(32), nullable=False),
        sa.Column("subject_id", sa.String(64), nullable=False),
        sa.Column("subject", sa.Text, nullable=False),
        sa.Column("application_id", sa.String(36)),
        sa.Column("source_id", sa.String(36)),
        sa.Column("title", sa.Text, nullable=False),
        sa.Column("text", sa.Text, nullable=False),
        sa.Column("path", sa.Text, nullable=False),
        sa.Column("number", sa.Integer, nullable=False, server_default="1"),
        sa.Column("level", sa.Integer),
        sa.Column("status", sa.String(12), nullable=False),
        sa.Column("began_at", sa.String(27), nullable=False),
        sa.Column("reports", sa.Integer, nullable=False, server_default="0"),
        sa.Column("next_report_at", sa.String(27)),
        sa.Column("ended_at", sa.String(27)),
        sa.PrimaryKeyConstraint("id", name="pk_notification_event"),
    )
    op.create_index(
        "uq_notification_event_open",
        "notification_event",
        ["kind", "subject_id"],
        unique=True,
        sqlite_where=sa.text("status = 'open'"),
    )
    op.create_index(
        "ix_notification_event_unreported",
        "notification_event",
        ["id"],
        sqlite_where=sa.text("status = 'happened' AND reports = 0"),
    )
    op.create_index("ix_notification_event_ended", "notification_event", ["status", "ended_at"])
    op.create_table(
        "notification_rule",
        sa.Column("id", sa.String(36), nullable=False),
        sa.Column("label", sa.Text, nullable=False),
        sa.Column("kinds", sa.Text),
        sa.Column("application_ids", sa.Text),
        sa.Column("source_ids", sa.Text),
        sa.Column("recipients", sa.Text, nullable=False),
        sa.Column("frequency", sa.String(12), nullable=False),
        sa.Column("enabled", sa.Boolean, nullable=False, server_default="1"),
        sa.Column("created_at", sa.String(27), nullable=False),
        sa.PrimaryKeyConstraint("id", name="pk_notification_rule"),
    )
    op.create_table(
        "webhook",
        sa.Column("id", sa.String(36), nullable=False),
        sa.Column("label", sa.Text, nullable=False),
        sa.Column("url", sa.Text, nullable=False),
        sa.Column("secret", sa.Text, nullable=False),
        sa.Column("created_at", sa.String(27), nullable=False),
        sa.Column("disabled_at", sa.String(27)),
        sa.Column("sent_at", sa.String(27)),
        sa.Column("failing_since", sa.String(27)),
        sa.Column("trouble", sa.Text),
        sa.PrimaryKeyConstraint("id", name="pk_webhook"),
    )
    op.create_table(
        "message",
        sa.Column("id", sa.String(36), nullable=False),
        sa.Column("channel", sa.String(8), nullable=False),
        sa.Column("kind", sa.String(24), nullable=False),
        sa.Column("recipient", sa.Text, nullable=False),
        sa.Column("webhook_id", sa.String(36)),
        sa.Column("subject", sa.Text, nullable=False),
        sa.Column("content", sa.Text),
        sa.Column("status", sa.String(12), nullable=False),
        sa.Column("created_at", sa.String(27), nullable=False),
        sa.Column("until_at", sa.String(27), nullable=False),
        sa.Column("next_at", sa.String(27), nullable=False),
        sa.Column("tries", sa.Integer, nullable=False, server_default="0"),
        sa.Column("lost", sa.Integer, nullable=False, server_default="0"),
        sa.Column("trouble", sa.Text),
        sa.Column("ended_at", sa.String(27)),
        sa.Column("event_id", sa.String(36)),
        sa.Column("rule_id", sa.String(36)),
        sa.ForeignKeyConstraint(
            ["event_id"], ["notification_event.id"], name="fk_message_event_id_notification_event"
        ),
        sa.PrimaryKeyConstraint("id", name="pk_message"),
    )
    op.create_index("ix_message_event_id", "message", ["event_id"])
    op.create_index(
        "ix_message_next",
        "message",
        ["next_at"],
        sqlite_where=sa.text("status IN ('collected', 'waiting')"),
    )
    op.create_index("ix_message_created", "message", ["created_at"])
    op.create_index(
        "ix_sign_in_trace_refused",
        "sign_in_trace",
        ["at", "source_id"],
        sqlite_where=sa.text("outcome = 'refused' AND test_id IS NULL"),
    )
    op.create_table(
        "announcement",
        sa.Column("id", sa.String(36), nullable=False),
        sa.Column("about", sa.String(12), nullable=False),
        sa.Column("about_id", sa.String(36), nullable=False),
        sa.Column("about_label", sa.Text, nullable=False),
        sa.Column("subject", sa.Text, nullable=False),
        sa.Column("text", sa.Text, nullable=False),
        sa.Column("status", sa.String(12), nullable=False),
        sa.Column("send_at", sa.String(27), nullable=False),
        sa.Column("created_at", sa.String(27), nullable=False),
        sa.Column("created_by", sa.Text, nullable=False),
        sa.Column("ended_at", sa.String(27)),
        sa.Column("written", sa.Integer, nullable=False, server_default="0"),
        sa.Column("place", sa.String(36), nullable=False, server_default=""),
        sa.PrimaryKeyConstraint("id", name="pk_announcement"),
    )
    op.create_index(
        "ix_announcement_due",
        "announcement",
        ["send_at"],
        sqlite_where=sa.text("status IN ('scheduled', 'sending')"),
    )
    # Recipient and subject are within the encrypted content, and are read from there when it is sent.
    op.execute(
        "INSERT INTO message (id, channel, kind, recipient, subject, content, status, created_at, until_at, "
        "next_at, tries, trouble) SELECT id, 'email', 'other', '', '', content, 'waiting', created_at, "
        "until_at, next_at, tries, trouble FROM outbound_mail"
    )
    op.drop_table("outbound_mail")
    now = "strftime('%Y-%m-%dT%H:%M:%f000Z', 'now')"
    rules = (
        ("00000000-0000-7000-8000-000000000001", "Administrators", _OF_OWNERS + _OF_ORGANIZATION, _ADMINISTRATORS),
        ("00000000-0000-7000-8000-000000000002", "Owners of applications", _OF_OWNERS + _DECIDED_BY_OWNERS, _OWNERS),
    )
    for rule_id, label, kinds, recipients in rules:
        op.execute(
            sa.text(
                "INSERT INTO notification_rule (id, label, kinds, recipients, frequency, enabled, created_at) "
                f"VALUES (:id, :label, :kinds, :recipients, 'immediately', 1, {now})"
            ).bindparams(id=rule_id, label=label, kinds=json.dumps(kinds), recipients=recipients)
        )

"""The tables. Typed columns for what is searched or joined, JSON for the rest of a resource; instants are text of one width."""

from __future__ import annotations

from typing import Any

import orjson
from sqlalchemy import (
    Boolean,
    Column,
    ForeignKey,
    Index,
    Integer,
    MetaData,
    String,
    Table,
    Text,
    TypeDecorator,
    UniqueConstraint,
    text,
)

metadata = MetaData(
    naming_convention={
        "ix": "ix_%(table_name)s_%(column_0_N_name)s",
        "uq": "uq_%(table_name)s_%(column_0_N_name)s",
        "fk": "fk_%(table_name)s_%(column_0_N_name)s_%(referred_table_name)s",
        "pk": "pk_%(table_name)s",
    }
)


class Json(TypeDecorator[Any]):
    """A JSON value, kept as text."""

    impl = Text
    cache_ok = True

    def process_bind_param(self, value: Any, dialect: Any) -> str | None:
        """Return the text that is kept."""
        return None if value is None else orjson.dumps(value).decode()

    def process_result_value(self, value: Any, dialect: Any) -> Any:
        """Return the value that the text stands for."""
        return None if value is None else orjson.loads(value)


def _id() -> Column[str]:
    return Column("id", String(36), primary_key=True)


def _to(table: str, name: str | None = None, *, nullable: bool = False, index: bool = False) -> Column[str]:
    return Column(name or f"{table}_id", String(36), ForeignKey(f"{table}.id"), nullable=nullable, index=index)


def _at(name: str, *, nullable: bool = True) -> Column[str]:
    return Column(name, String(27), nullable=nullable)


def _one(name: str, *columns: Any, where: str) -> Index:
    """Return a unique index over the rows that meet a condition."""
    return Index(name, *columns, unique=True, sqlite_where=text(where), postgresql_where=text(where))


def _some(name: str, *columns: Any, where: str) -> Index:
    """Return an index over the rows that meet a condition."""
    return Index(name, *columns, sqlite_where=text(where), postgresql_where=text(where))


# Numbers that are raised with each change, so that what was read can be checked again before it is written upon.
revision = Table("revision", metadata, Column("name", String(40), primary_key=True), Column("value", Integer, nullable=False))

source = Table(
    "source",
    metadata,
    _id(),
    Column("key", String(64), nullable=False, unique=True),
    Column("label", Text, nullable=False),
    Column("channel", String(16), nullable=False),
    Column("precedence", Integer, nullable=False, default=100),
    _at("created_at", nullable=False),
)

source_token = Table(
    "source_token",
    metadata,
    _id(),
    _to("source", index=True),
    Column("label", Text, nullable=False),
    Column("prefix", String(16), nullable=False),
    Column("hash", String(64), nullable=False, unique=True),
    _at("created_at", nullable=False),
    _at("expires_at"),
    _at("last_used_at"),
    _at("revoked_at"),
    # What it opens: people, groups or both; reading only, or writing too.
    Column("kinds", String(8), nullable=False, server_default="both"),
    Column("access", String(8), nullable=False, server_default="write"),
)

# Extension schemas that operators added, as the documents of RFC 7643, section 7; `kind` is "User" or "Group".
source_schema = Table(
    "source_schema",
    metadata,
    _id(),
    _to("source"),
    Column("urn", Text, nullable=False),
    Column("kind", String(8), nullable=False),
    Column("document", Json, nullable=False),
    _at("created_at", nullable=False),
    UniqueConstraint("source_id", "urn"),
)

# What each request of a source did. Kept for a while; see the settings for how long.
trace = Table(
    "trace",
    metadata,
    _id(),
    _to("source"),
    _at("at", nullable=False),
    Column("method", String(8), nullable=False),
    Column("path", Text, nullable=False),
    Column("query", Text),
    Column("status", Integer, nullable=False),
    Column("milliseconds", Integer, nullable=False),
    # In a sentence what was done, or why not.
    Column("outcome", Text, nullable=False),
    Column("manners", Json),
    Column("effects", Json),
    Column("body", Text),
)
Index("ix_trace_of_source", trace.c.source_id, trace.c.id)

# What operators set for the whole house.
setting = Table("setting", metadata, Column("name", String(40), primary_key=True), Column("value", Json, nullable=False))

# What real traffic has shown to work, or not, on a source's exchange sheet.
source_sight = Table(
    "source_sight",
    metadata,
    _to("source"),
    Column("what", String(40), nullable=False),
    _at("first_at", nullable=False),
    _at("last_at", nullable=False),
    Column("detail", Text),
    UniqueConstraint("source_id", "what"),
)

user = Table(
    "user",
    metadata,
    _id(),
    Column("user_name", Text, nullable=False),
    Column("user_name_key", Text, nullable=False),
    Column("display_name", Text, nullable=False),
    Column("display_name_key", Text, nullable=False),
    Column("email", Text),
    Column("email_key", Text),
    Column("attributes", Json, nullable=False),
    Column("given_by", Json, nullable=False),
    Column("active", Boolean(create_constraint=False), nullable=False),
    Column("revision", Integer, nullable=False),
    _at("created_at", nullable=False),
    _at("modified_at", nullable=False),
    _at("inactive_since"),
    _at("gone_at"),
    _at("next_change_at"),
)
Index("ix_user_name", user.c.user_name_key, user.c.id)
Index("ix_user_display", user.c.display_name_key, user.c.id)
Index("ix_user_email", user.c.email_key)
_some("ix_user_next_change", user.c.next_change_at, where="next_change_at IS NOT NULL")

record = Table(
    "record",
    metadata,
    _id(),
    _to("source"),
    Column("channel", String(16), nullable=False),
    _to("user", index=True),
    Column("user_name_key", Text, nullable=False),
    Column("external_id", Text),
    # The first e-mail address, folded, and all others one a line: most people have one.
    Column("email_key", Text),
    Column("more_emails", Text),
    Column("data", Json, nullable=False),
    Column("version", Integer, nullable=False),
    _at("created_at", nullable=False),
    _at("modified_at", nullable=False),
    _at("gone_at"),
)
_some("ix_record_email", record.c.source_id, record.c.email_key, where="gone_at IS NULL AND email_key IS NOT NULL")
_some("ix_record_more_emails", record.c.source_id, record.c.more_emails, where="gone_at IS NULL AND more_emails IS NOT NULL")
_one("uq_record_user_name", record.c.source_id, record.c.channel, record.c.user_name_key, where="gone_at IS NULL")
_some("ix_record_external_id", record.c.source_id, record.c.channel, record.c.external_id, where="gone_at IS NULL")
_some("ix_record_listing", record.c.source_id, record.c.channel, record.c.id, where="gone_at IS NULL")

# Values of extension attributes that nobody else of the source may have.
record_unique = Table(
    "record_unique",
    metadata,
    _to("record", index=True),
    _to("source"),
    Column("path", Text, nullable=False),
    Column("value_key", Text, nullable=False),
    UniqueConstraint("source_id", "path", "value_key"),
)

group = Table(
    "group",
    metadata,
    _id(),
    _to("source", nullable=True),
    Column("channel", String(16), nullable=False),
    Column("display_name", Text, nullable=False),
    Column("display_name_key", Text, nullable=False),
    Column("external_id", Text),
    Column("data", Json, nullable=False),
    Column("version", Integer, nullable=False),
    _at("created_at", nullable=False),
    _at("modified_at", nullable=False),
    _at("gone_at"),
)
_some("ix_group_name", group.c.source_id, group.c.channel, group.c.display_name_key, where="gone_at IS NULL")
_some("ix_group_external_id", group.c.source_id, group.c.channel, group.c.external_id, where="gone_at IS NULL")
_some("ix_group_listing", group.c.display_name_key, group.c.id, where="gone_at IS NULL")

# Who is listed in a group: a record of the same source, or another group of it; in a local group users and groups of any source.
# Ended rows are history.
membership = Table(
    "membership",
    metadata,
    Column("id", Integer, primary_key=True),
    _to("group"),
    _to("record", nullable=True),
    _to("group", "inner_group_id", nullable=True),
    _to("user", nullable=True),
    _at("from_at", nullable=False),
    _at("until_at"),
)
_one("uq_membership_record", membership.c.group_id, membership.c.record_id, where="until_at IS NULL AND record_id IS NOT NULL")
_one("uq_membership_group", membership.c.group_id, membership.c.inner_group_id, where="until_at IS NULL AND inner_group_id IS NOT NULL")
_one("uq_membership_user", membership.c.group_id, membership.c.user_id, where="until_at IS NULL AND user_id IS NOT NULL")
_some("ix_membership_of_user", membership.c.user_id, where="until_at IS NULL AND user_id IS NOT NULL")
_some("ix_membership_of_record", membership.c.record_id, where="until_at IS NULL AND record_id IS NOT NULL")
_some("ix_membership_of_group", membership.c.inner_group_id, where="until_at IS NULL AND inner_group_id IS NOT NULL")
Index("ix_membership_history", membership.c.record_id, membership.c.from_at)

application = Table(
    "application",
    metadata,
    _id(),
    Column("key", String(64), nullable=False, unique=True),
    Column("label", Text, nullable=False),
    Column("owner", Text),
    Column("revision", Integer, nullable=False),
    _at("created_at", nullable=False),
    Column("tracked_only", Boolean(create_constraint=False), nullable=False),
    Column("switched_on", Boolean(create_constraint=False), nullable=False),
    Column("create_accounts", Boolean(create_constraint=False), nullable=False),
    Column("update_accounts", Boolean(create_constraint=False), nullable=False),
    Column("adopt_by_user_name", Boolean(create_constraint=False), nullable=False),
    Column("on_losing_access", String(16), nullable=False),
    Column("on_inactive", String(16), nullable=False),
    Column("on_gone", String(16), nullable=False),
    Column("at_a_time", Integer, nullable=False),
    Column("base_url", Text),
    Column("secret", Text),
    Column("capabilities", Json),
    _at("checked_at"),
    # How we sign in there: {"kind": "bearer" (if null), "basic" or "client credentials", ...}; the secret itself stands apart.
    Column("auth", Json),
    _at("secret_expires_at"),
    # What goes over: attributes by expressions, how roles go, which groups.
    Column("attributes", Json),
    Column("roles_as", Json),
    Column("groups_over", Json),
    Column("adopt_groups", Boolean(create_constraint=False), nullable=False, server_default="0"),
    # Requests a second at the most; null: as many as it takes.
    Column("per_second", Integer),
    # When it is compared with what should be there: a cron expression, and the next such instant.
    Column("reconcile_at", Text),
    _at("reconcile_next_at"),
    # How access is decided here: see core/access.py.
    Column("open_to", String(12), nullable=False, server_default="assigned"),
    Column("if_nothing", String(16), nullable=False, server_default="no access"),
    Column("default_role_id", String(36)),
    Column("several", String(12), nullable=False, server_default="all"),
    Column("first", String(12), nullable=False, server_default="both"),
    # How it answers: failures in a row and when to try again; paused until somebody does something.
    Column("failures", Integer, nullable=False),
    _at("retry_at"),
    _at("answered_at"),
    _at("paused_at"),
    Column("trouble", Text),
    Column("trouble_mend", Text),
)

role = Table(
    "role",
    metadata,
    _id(),
    _to("application"),
    Column("key", String(64), nullable=False),
    Column("label", Text, nullable=False),
    Column("rank", Integer, nullable=False),
    UniqueConstraint("application_id", "key"),
)

assignment = Table(
    "assignment",
    metadata,
    _id(),
    _to("application", index=True),
    # The role that it gives; null lets in without one, or keeps out.
    _to("role", nullable=True),
    # For whom: a user, a group, those who meet a condition, groups of a source whose names fit a pattern; else everybody.
    _to("user", nullable=True),
    _to("group", nullable=True),
    Column("rule", Text),
    Column("pattern", Text),
    _to("source", nullable=True),
    # Groups by id that may give the application's highest role by a pattern.
    Column("confirmed", Json),
    Column("excludes", Boolean(create_constraint=False), nullable=False, server_default="0"),
    _at("newcomers_since"),
    _at("from_at"),
    _at("until_at"),
    # The days that were said, where days were: their instants follow from the organisation's time zone.
    Column("from_day", String(10)),
    Column("until_day", String(10)),
    Column("note", Text),
    _at("created_at", nullable=False),
    Column("created_by", Text, nullable=False),
    _at("removed_at"),
)
_some("ix_assignment_user", assignment.c.user_id, where="removed_at IS NULL AND user_id IS NOT NULL")
_one("uq_assignment_user", assignment.c.role_id, assignment.c.user_id, where="removed_at IS NULL AND user_id IS NOT NULL")
_one(
    "uq_assignment_user_no_role", assignment.c.application_id, assignment.c.user_id, assignment.c.excludes,
    where="removed_at IS NULL AND user_id IS NOT NULL AND role_id IS NULL",
)  # fmt: skip
_one(
    "uq_assignment_group_no_role", assignment.c.application_id, assignment.c.group_id, assignment.c.excludes,
    where="removed_at IS NULL AND group_id IS NOT NULL AND role_id IS NULL",
)  # fmt: skip
_one("uq_assignment_group", assignment.c.role_id, assignment.c.group_id, where="removed_at IS NULL AND group_id IS NOT NULL")

# Roles that somebody keeps because nothing gives one any more, where the application's policy says so.
kept = Table(
    "kept",
    metadata,
    _id(),
    _to("user"),
    _to("application"),
    _to("role"),
    _at("from_at", nullable=False),
    _at("until_at"),
)
_one("uq_kept_open", kept.c.user_id, kept.c.role_id, where="until_at IS NULL")

# Who has what, from when until when, and why; the reasons are snapshots.
access = Table(
    "access",
    metadata,
    _id(),
    _to("user"),
    _to("application"),
    _to("role"),
    Column("reasons", Json, nullable=False),
    # Whether it rests on nothing but assignments to the person.
    Column("direct_only", Boolean(create_constraint=False), nullable=False, server_default="0"),
    _at("from_at", nullable=False),
    _at("until_at"),
)
_one("uq_access_open", access.c.user_id, access.c.role_id, where="until_at IS NULL")
_some("ix_access_of_application", access.c.application_id, access.c.id, where="until_at IS NULL")
Index("ix_access_history", access.c.user_id, access.c.from_at)
_some("ix_access_direct", access.c.user_id, where="until_at IS NULL AND direct_only = 1")
Index("ix_access_began", access.c.from_at)
_some("ix_access_ended", access.c.until_at, where="until_at IS NOT NULL")

account = Table(
    "account",
    metadata,
    _id(),
    _to("user"),
    _to("application"),
    Column("due", Json, nullable=False),
    Column("due_version", Integer, nullable=False),
    _at("due_since", nullable=False),
    Column("agreed", Json),
    # What was last agreed, also when it has since come into doubt: by this it is judged what a change takes away.
    Column("had", Json),
    Column("agreed_version", Integer, nullable=False),
    _at("agreed_at"),
    Column("remote_id", Text),
    Column("origin", String(16)),
    # Since when it is not known whether an account was made there: its reply was lost.
    _at("doubt_at"),
    UniqueConstraint("user_id", "application_id"),
)
Index("ix_account_of_application", account.c.application_id, account.c.id)
_one("uq_account_remote", account.c.application_id, account.c.remote_id, where="remote_id IS NOT NULL")

delivery = Table(
    "delivery",
    metadata,
    _id(),
    _to("account"),
    _to("application"),
    _to("user", index=True),
    Column("state", String(16), nullable=False),
    Column("version", Integer, nullable=False),
    # What the account is to become, in words: for one that is done, what it became then.
    Column("aim", Text, nullable=False),
    Column("attempts", Integer, nullable=False),
    _at("created_at", nullable=False),
    _at("next_attempt_at"),
    _at("closed_at"),
    Column("message", Text),
    Column("mend", Text),
    # What kind of trouble it is, so that all of one kind can be taken up again together.
    Column("kind", String(40)),
    # Whether it takes something away; then it goes only once the guard, or a person, let it through.
    Column("removes", Boolean(create_constraint=False), nullable=False, server_default="0"),
    _at("cleared_at"),
    Column("cleared_by", Text),
)
_one("uq_delivery_open", delivery.c.account_id, where="closed_at IS NULL")
_some("ix_delivery_waiting", delivery.c.application_id, delivery.c.next_attempt_at, where="state = 'waiting'")
Index("ix_delivery_of_application", delivery.c.application_id, delivery.c.id)
Index("ix_delivery_state", delivery.c.state, delivery.c.id)
_some("ix_delivery_removing", delivery.c.cleared_at, delivery.c.application_id, where="removes = 1")
Index("ix_delivery_of_account", delivery.c.account_id, delivery.c.id)

delivery_attempt = Table(
    "delivery_attempt",
    metadata,
    Column("id", Integer, primary_key=True),
    _to("delivery", index=True),
    Column("version", Integer, nullable=False),
    _at("started_at", nullable=False),
    _at("ended_at", nullable=False),
    Column("outcome", String(16), nullable=False),
    Column("message", Text),
    Column("exchanges", Json, nullable=False),
)

# A group as it goes over to an application: a group of a source ("group:ID"), or a role whose people are kept as a group ("role:ID").
delivered_group = Table(
    "delivered_group",
    metadata,
    _id(),
    _to("application"),
    Column("key", String(48), nullable=False),
    Column("state", String(16), nullable=False),
    Column("agreed_name", Text),
    _at("agreed_at"),
    Column("remote_id", Text),
    Column("origin", String(16)),
    Column("attempts", Integer, nullable=False),
    _at("next_attempt_at"),
    Column("message", Text),
    Column("mend", Text),
    # What was exchanged in the last attempt.
    Column("exchanges", Json),
    _at("created_at", nullable=False),
    UniqueConstraint("application_id", "key"),
)
_some("ix_delivered_group_waiting", delivered_group.c.application_id, delivered_group.c.next_attempt_at, where="state = 'waiting'")

# Who is to be in such a group, and as which account there they were agreed to be; only accounts that are there.
delivered_member = Table(
    "delivered_member",
    metadata,
    Column("delivered_group_id", String(36), ForeignKey("delivered_group.id"), primary_key=True),
    Column("account_id", String(36), ForeignKey("account.id"), primary_key=True),
    Column("due", Boolean(create_constraint=False), nullable=False),
    Column("agreed_remote_id", Text),
)
Index("ix_delivered_member_account", delivered_member.c.account_id)

# One reading of another system: a reconciliation, with counts.
run = Table(
    "run",
    metadata,
    _id(),
    Column("kind", String(20), nullable=False),
    _to("application", nullable=True),
    Column("state", String(16), nullable=False),
    Column("asked_by", Text, nullable=False),
    _at("asked_at", nullable=False),
    _at("started_at"),
    _at("ended_at"),
    Column("progress", Integer, nullable=False),
    Column("counts", Json),
    Column("message", Text),
    Column("mend", Text),
    Column("stop_asked", Boolean(create_constraint=False), nullable=False),
)
_some("ix_run_open", run.c.state, where="ended_at IS NULL")
Index("ix_run_of_application", run.c.application_id, run.c.id)

# A difference between an application as it is and as it should be.
drift = Table(
    "drift",
    metadata,
    _id(),
    _to("application"),
    Column("kind", String(20), nullable=False),
    # What it is about, once for each: an account of ours, or what was found there.
    Column("about", Text, nullable=False),
    _to("account", nullable=True),
    Column("remote_id", Text),
    Column("name", Text, nullable=False),
    Column("there", Json),
    Column("differences", Json),
    Column("state", String(16), nullable=False),
    _at("first_seen_at", nullable=False),
    _at("last_seen_at", nullable=False),
    Column("run_id", String(36), nullable=False),
    UniqueConstraint("application_id", "kind", "about"),
)
Index("ix_drift_of_application", drift.c.application_id, drift.c.state, drift.c.id)

# People whose access has to be worked out anew because something that touches many has changed; nobody in here is delivered.
mark = Table(
    "mark",
    metadata,
    Column("user_id", String(36), ForeignKey("user.id"), primary_key=True),
    _at("since", nullable=False),
    # Where what is taken away with it was confirmed by an operator, and by whom.
    Column("cleared_for", String(36)),
    Column("cleared_by", Text),
)

operator = Table(
    "operator",
    metadata,
    _id(),
    Column("name", Text, nullable=False),
    Column("name_key", Text, nullable=False, unique=True),
    Column("kind", String(20), nullable=False),
    # Whether they see what people's attributes are; names and user names are always seen.
    Column("masked", Boolean(create_constraint=False), nullable=False, server_default="0"),
    Column("password_hash", Text, nullable=False),
    _at("created_at", nullable=False),
    _at("disabled_at"),
)

# The applications of an application owner.
operator_application = Table(
    "operator_application",
    metadata,
    Column("operator_id", String(36), ForeignKey("operator.id"), primary_key=True),
    Column("application_id", String(36), ForeignKey("application.id"), primary_key=True),
)

operator_session = Table(
    "operator_session",
    metadata,
    Column("hash", String(64), primary_key=True),
    _to("operator", index=True),
    Column("csrf", String(64), nullable=False),
    _at("created_at", nullable=False),
    _at("last_seen_at", nullable=False),
    _at("expires_at", nullable=False),
)

api_token = Table(
    "api_token",
    metadata,
    _id(),
    _to("operator", index=True),
    Column("label", Text, nullable=False),
    Column("prefix", String(16), nullable=False),
    Column("hash", String(64), nullable=False, unique=True),
    Column("scope", String(8), nullable=False),
    _at("created_at", nullable=False),
    _at("expires_at"),
    _at("last_used_at"),
    _at("revoked_at"),
)

# Append-only. The chain covers everything but `personal`, of which it covers a keyed digest, so that a person can be erased.
audit = Table(
    "audit",
    metadata,
    Column("id", Integer, primary_key=True),
    _at("at", nullable=False),
    Column("operator_id", String(36)),
    Column("operator_name", Text, nullable=False),
    Column("action", String(60), nullable=False),
    Column("object_kind", String(30), nullable=False),
    Column("object_id", String(36), nullable=False),
    Column("details", Json, nullable=False),
    Column("personal", Json),
    Column("personal_digest", String(64), nullable=False),
    Column("hmac", String(64), nullable=False),
)
Index("ix_audit_object", audit.c.object_kind, audit.c.object_id, audit.c.id)

"""The tables of users, source records and groups."""

from __future__ import annotations

from sqlalchemy import Boolean, Column, ForeignKey, Index, Integer, String, Table, Text, UniqueConstraint

from dravo.store.tables.base import Json, at, metadata, one_of, own_id, some_of, to

user = Table(
    "user",
    metadata,
    own_id(),
    Column("user_name", Text, nullable=False),
    Column("user_name_key", Text, nullable=False),
    Column("display_name", Text, nullable=False),
    Column("display_name_key", Text, nullable=False),
    Column("email", Text),
    Column("email_key", Text),
    Column("attributes", Json, nullable=False),
    Column("value_sources", Json, nullable=False),
    Column("active", Boolean(create_constraint=False), nullable=False),
    Column("revision", Integer, nullable=False),
    at("created_at", nullable=False),
    at("modified_at", nullable=False),
    at("inactive_since"),
    at("left_at"),
    at("next_change_at"),
    # A mark by an operator, "inactive" or "left", which wins over all sources from its time on.
    Column("mark", String(8)),
    at("mark_from_at"),
    Column("mark_note", Text),
    Column("marked_by", Text),
    at("marked_at"),
    # Of a local user who has not accepted the invitation yet.
    at("invited_at"),
)
some_of("ix_user_invited", user.c.display_name_key, user.c.id, where="invited_at IS NOT NULL")
some_of("ix_user_mark", user.c.display_name_key, user.c.id, where="mark IS NOT NULL")
Index("ix_user_status", user.c.active, user.c.left_at, user.c.display_name_key, user.c.id)
Index("ix_user_name", user.c.user_name_key, user.c.id)
# Finds words without reading rows.
Index("ix_user_display", user.c.display_name_key, user.c.id, user.c.user_name_key, user.c.email_key)
Index("ix_user_email", user.c.email_key)
some_of("ix_user_next_change", user.c.next_change_at, where="next_change_at IS NOT NULL")

record = Table(
    "record",
    metadata,
    own_id(),
    to("source"),
    Column("connection_type", String(16), nullable=False),
    # No user before the policy of the source accepts the record.
    to("user", nullable=True, index=True),
    Column("user_name_key", Text, nullable=False),
    Column("external_id", Text),
    # The first email address in the compared form; all others, one per line.
    Column("email_key", Text),
    Column("more_emails", Text),
    Column("data", Json, nullable=False),
    Column("version", Integer, nullable=False),
    at("created_at", nullable=False),
    at("modified_at", nullable=False),
    at("deleted_at"),
    # Of imports: the ID in the source, the reference that its groups use, a digest to detect changes, and the
    # reported attributes.
    Column("native_id", Text),
    Column("reference", Text),
    Column("digest", String(32)),
    Column("reported", Json),
    # Whether a conflict about its user is open. Until a decision, it changes nothing.
    Column("undecided", Boolean(create_constraint=False), nullable=False, server_default="0"),
    # Of inbound SCIM, see core/identity/acceptance.py. The user in use where it differs from what the source
    # sent; why the record counts for nobody; and what waits until the source is enabled.
    Column("in_use", Json),
    Column("left_out", String(16)),
    Column("waiting", String(16)),
    # Time of the last sign-in with groups. Memberships from claims expire.
    at("claims_seen_at"),
    # Time of the last sign-in.
    at("signed_in_at"),
)
some_of(
    "ix_record_locator",
    record.c.source_id,
    record.c.reference,
    where="deleted_at IS NULL AND reference IS NOT NULL",
)
one_of(
    "uq_record_native_id",
    record.c.source_id,
    record.c.connection_type,
    record.c.native_id,
    where="native_id IS NOT NULL",
)
some_of(
    "ix_record_email",
    record.c.source_id,
    record.c.email_key,
    where="deleted_at IS NULL AND email_key IS NOT NULL",
)
some_of(
    "ix_record_more_emails",
    record.c.source_id,
    record.c.more_emails,
    where="deleted_at IS NULL AND more_emails IS NOT NULL",
)
one_of(
    "uq_record_user_name",
    record.c.source_id,
    record.c.connection_type,
    record.c.user_name_key,
    where="deleted_at IS NULL",
)
some_of(
    "ix_record_external_id",
    record.c.source_id,
    record.c.connection_type,
    record.c.external_id,
    where="deleted_at IS NULL",
)
some_of("ix_record_signed_in", record.c.source_id, record.c.signed_in_at, where="signed_in_at IS NOT NULL")
some_of("ix_record_heard", record.c.source_id, record.c.claims_seen_at, where="claims_seen_at IS NOT NULL")
some_of(
    "ix_record_listing", record.c.source_id, record.c.connection_type, record.c.id, where="deleted_at IS NULL"
)

some_of("ix_record_waiting", record.c.source_id, record.c.waiting, where="waiting IS NOT NULL")
some_of("ix_record_left_out", record.c.source_id, record.c.left_out, where="left_out IS NOT NULL")

# Records to which the policy of their source has to be applied again.
pending_policy = Table(
    "pending_policy",
    metadata,
    Column("record_id", String(36), ForeignKey("record.id"), primary_key=True),
    to("source", index=True),
    at("since", nullable=False),
)

# Values of extension attributes that are unique within a source.
record_unique = Table(
    "record_unique",
    metadata,
    to("record", index=True),
    to("source"),
    Column("path", Text, nullable=False),
    Column("value_key", Text, nullable=False),
    UniqueConstraint("source_id", "path", "value_key"),
)

group = Table(
    "group",
    metadata,
    own_id(),
    to("source", nullable=True),
    Column("connection_type", String(16), nullable=False),
    Column("display_name", Text, nullable=False),
    Column("display_name_key", Text, nullable=False),
    Column("external_id", Text),
    Column("data", Json, nullable=False),
    Column("version", Integer, nullable=False),
    at("created_at", nullable=False),
    at("modified_at", nullable=False),
    at("deleted_at"),
    # Of imports: the ID in the source, the reference that other groups use, and a digest to detect changes.
    Column("native_id", Text),
    Column("reference", Text),
    Column("digest", String(32)),
    # Of inbound SCIM: why the group gives nothing, what waits until the source is enabled, and the name that
    # counts until then.
    Column("left_out", String(16)),
    Column("waiting", String(16)),
    Column("name_in_use", Text),
    # Who decides about the members; NULL as the source says.
    Column("members_from", String(16)),
    # Of a local group: what it is for.
    Column("description", Text),
)
some_of("ix_group_members_from", group.c.id, where="members_from IS NOT NULL")
some_of("ix_group_waiting", group.c.source_id, group.c.id, where="waiting IS NOT NULL")
one_of(
    "uq_group_native_id",
    group.c.source_id,
    group.c.connection_type,
    group.c.native_id,
    where="native_id IS NOT NULL",
)
some_of(
    "ix_group_name",
    group.c.source_id,
    group.c.connection_type,
    group.c.display_name_key,
    where="deleted_at IS NULL",
)
some_of(
    "ix_group_external_id",
    group.c.source_id,
    group.c.connection_type,
    group.c.external_id,
    where="deleted_at IS NULL",
)
some_of("ix_group_listing", group.c.display_name_key, group.c.id, where="deleted_at IS NULL")

# Members of groups: records or groups of the same source; in local groups, users and groups of any source.
# Ended rows are history.
membership = Table(
    "membership",
    metadata,
    Column("id", Integer, primary_key=True),
    to("group"),
    to("record", nullable=True),
    to("group", "inner_group_id", nullable=True),
    to("user", nullable=True),
    at("from_at", nullable=False),
    at("until_at"),
    # Of a disabled source: "add" for a member who counts once it is enabled (until_at is set until then), or
    # "end" for one who counts until then.
    Column("waiting", String(8)),
)
some_of("ix_membership_waiting", membership.c.group_id, where="waiting IS NOT NULL")
some_of("ix_membership_record_waiting", membership.c.record_id, where="waiting IS NOT NULL")
one_of(
    "uq_membership_record",
    membership.c.group_id,
    membership.c.record_id,
    where="until_at IS NULL AND record_id IS NOT NULL",
)
one_of(
    "uq_membership_group",
    membership.c.group_id,
    membership.c.inner_group_id,
    where="until_at IS NULL AND inner_group_id IS NOT NULL",
)
one_of(
    "uq_membership_user",
    membership.c.group_id,
    membership.c.user_id,
    where="until_at IS NULL AND user_id IS NOT NULL",
)
some_of("ix_membership_of_user", membership.c.user_id, where="until_at IS NULL AND user_id IS NOT NULL")
some_of("ix_membership_of_record", membership.c.record_id, where="until_at IS NULL AND record_id IS NOT NULL")
some_of(
    "ix_membership_of_group",
    membership.c.inner_group_id,
    where="until_at IS NULL AND inner_group_id IS NOT NULL",
)
Index("ix_membership_history", membership.c.record_id, membership.c.from_at)

# Erased users, whose rows stay without values.
erased_user = Table(
    "erased_user",
    metadata,
    own_id(),
    to("user"),
    at("erased_at", nullable=False),
    Column("erased_by", Text, nullable=False),
    at("accepted_at"),
    Column("accepted_by", Text),
)

# Keyed digests of the identifiers by which sources reported erased users; their records are ignored.
erased_identifier = Table(
    "erased_identifier",
    metadata,
    to("erased_user"),
    to("source"),
    Column("digest", String(64), nullable=False),
    UniqueConstraint("source_id", "digest", "erased_user_id"),
)

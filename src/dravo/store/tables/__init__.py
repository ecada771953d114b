"""The tables."""

from dravo.store.tables.access import access, application, assignment, kept, mark, plan, review, review_row, role, seat
from dravo.store.tables.base import Json, metadata
from dravo.store.tables.mail import mail_due
from dravo.store.tables.operators import api_token, audit, operator, operator_application, operator_link, operator_recovery, operator_session
from dravo.store.tables.provisioning import account, delivered_group, delivered_member, delivery, delivery_attempt, drift, run, run_line
from dravo.store.tables.sign_in import sign_in_begun, sign_in_key, sign_in_seen, sign_in_trace, sign_in_trial, source_sign_in, visit
from dravo.store.tables.sources import conflict, picture, revision, setting, source, source_pull, source_schema, source_sight, source_token, trace
from dravo.store.tables.users import group, membership, record, record_unique, user

__all__ = [
    "Json",
    "access",
    "account",
    "api_token",
    "application",
    "assignment",
    "audit",
    "conflict",
    "delivered_group",
    "delivered_member",
    "delivery",
    "delivery_attempt",
    "drift",
    "group",
    "kept",
    "mail_due",
    "mark",
    "membership",
    "metadata",
    "operator",
    "operator_application",
    "operator_link",
    "operator_recovery",
    "operator_session",
    "picture",
    "plan",
    "record",
    "record_unique",
    "review",
    "review_row",
    "revision",
    "role",
    "run",
    "run_line",
    "seat",
    "setting",
    "sign_in_begun",
    "sign_in_key",
    "sign_in_seen",
    "sign_in_trace",
    "sign_in_trial",
    "source",
    "source_pull",
    "source_schema",
    "source_sight",
    "source_sign_in",
    "source_token",
    "trace",
    "user",
    "visit",
]

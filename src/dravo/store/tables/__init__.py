"""The tables."""

from dravo.store.tables.access import access, application, assignment, license_plan, pending_recompute, retained_role, review, review_row, role, seat
from dravo.store.tables.base import Json, metadata
from dravo.store.tables.mail import outbound_mail
from dravo.store.tables.operators import api_token, audit, operator, operator_application, operator_link, operator_recovery, operator_session
from dravo.store.tables.provisioning import account, drift, provisioned_group, provisioned_member, run, run_entry, task, task_attempt
from dravo.store.tables.sign_in import consumed_assertion, sign_in_key, sign_in_request, sign_in_trace, source_sign_in, test_sign_in, user_session
from dravo.store.tables.sources import (
    cached_report,
    conflict,
    revision,
    setting,
    source,
    source_import,
    source_observation,
    source_schema,
    source_token,
    trace,
)
from dravo.store.tables.users import group, membership, record, record_unique, user

__all__ = [
    "Json",
    "access",
    "account",
    "api_token",
    "application",
    "assignment",
    "audit",
    "cached_report",
    "conflict",
    "consumed_assertion",
    "drift",
    "group",
    "license_plan",
    "membership",
    "metadata",
    "operator",
    "operator_application",
    "operator_link",
    "operator_recovery",
    "operator_session",
    "outbound_mail",
    "pending_recompute",
    "provisioned_group",
    "provisioned_member",
    "record",
    "record_unique",
    "retained_role",
    "review",
    "review_row",
    "revision",
    "role",
    "run",
    "run_entry",
    "seat",
    "setting",
    "sign_in_key",
    "sign_in_request",
    "sign_in_trace",
    "source",
    "source_import",
    "source_observation",
    "source_schema",
    "source_sign_in",
    "source_token",
    "task",
    "task_attempt",
    "test_sign_in",
    "trace",
    "user",
    "user_session",
]

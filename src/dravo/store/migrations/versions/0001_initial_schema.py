"""The initial schema."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = '0001'
down_revision = None


def upgrade() -> None:
    """Create all tables."""
    op.create_table('application',
    sa.Column('id', sa.String(length=36), nullable=False),
    sa.Column('key', sa.String(length=64), nullable=False),
    sa.Column('label', sa.Text(), nullable=False),
    sa.Column('owner', sa.Text(), nullable=True),
    sa.Column('address', sa.Text(), nullable=True),
    sa.Column('hidden', sa.Boolean(), server_default='0', nullable=False),
    sa.Column('revision', sa.Integer(), nullable=False),
    sa.Column('created_at', sa.String(length=27), nullable=False),
    sa.Column('tracked_only', sa.Boolean(), nullable=False),
    sa.Column('enabled', sa.Boolean(), nullable=False),
    sa.Column('create_accounts', sa.Boolean(), nullable=False),
    sa.Column('update_accounts', sa.Boolean(), nullable=False),
    sa.Column('adopt_by_user_name', sa.Boolean(), nullable=False),
    sa.Column('on_losing_access', sa.String(length=16), nullable=False),
    sa.Column('on_inactive', sa.String(length=16), nullable=False),
    sa.Column('on_leaving', sa.String(length=16), nullable=False),
    sa.Column('max_concurrency', sa.Integer(), nullable=False),
    sa.Column('base_url', sa.Text(), nullable=True),
    sa.Column('secret', sa.Text(), nullable=True),
    sa.Column('capabilities', sa.Text(), nullable=True),
    sa.Column('checked_at', sa.String(length=27), nullable=True),
    sa.Column('auth', sa.Text(), nullable=True),
    sa.Column('secret_expires_at', sa.String(length=27), nullable=True),
    sa.Column('attributes', sa.Text(), nullable=True),
    sa.Column('role_encoding', sa.Text(), nullable=True),
    sa.Column('plan_encoding', sa.Text(), nullable=True),
    sa.Column('provisioned_groups', sa.Text(), nullable=True),
    sa.Column('adopt_groups', sa.Boolean(), server_default='0', nullable=False),
    sa.Column('rate_limit', sa.Integer(), nullable=True),
    sa.Column('reconcile_schedule', sa.Text(), nullable=True),
    sa.Column('reconcile_next_at', sa.String(length=27), nullable=True),
    sa.Column('eligibility', sa.String(length=12), server_default='assigned', nullable=False),
    sa.Column('fallback', sa.String(length=16), server_default='no_access', nullable=False),
    sa.Column('default_role_id', sa.String(length=36), nullable=True),
    sa.Column('several', sa.String(length=12), server_default='all', nullable=False),
    sa.Column('first', sa.String(length=12), server_default='both', nullable=False),
    sa.Column('failures', sa.Integer(), nullable=False),
    sa.Column('retry_at', sa.String(length=27), nullable=True),
    sa.Column('answered_at', sa.String(length=27), nullable=True),
    sa.Column('paused_at', sa.String(length=27), nullable=True),
    sa.Column('trouble', sa.Text(), nullable=True),
    sa.Column('trouble_hint', sa.Text(), nullable=True),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_application')),
    sa.UniqueConstraint('key', name=op.f('uq_application_key'))
    )
    op.create_table('audit',
    sa.Column('id', sa.Integer(), nullable=False),
    sa.Column('at', sa.String(length=27), nullable=False),
    sa.Column('operator_id', sa.String(length=36), nullable=True),
    sa.Column('operator_name', sa.Text(), nullable=False),
    sa.Column('action', sa.String(length=60), nullable=False),
    sa.Column('object_kind', sa.String(length=30), nullable=False),
    sa.Column('object_id', sa.String(length=36), nullable=False),
    sa.Column('details', sa.Text(), nullable=False),
    sa.Column('personal', sa.Text(), nullable=True),
    sa.Column('personal_digest', sa.String(length=64), nullable=False),
    sa.Column('hmac', sa.String(length=64), nullable=False),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_audit'))
    )
    with op.batch_alter_table('audit', schema=None) as batch_op:
        batch_op.create_index('ix_audit_object', ['object_kind', 'object_id', 'id'], unique=False)

    op.create_table('cached_report',
    sa.Column('name', sa.String(length=40), nullable=False),
    sa.Column('at', sa.String(length=27), nullable=False),
    sa.Column('marker', sa.Text(), nullable=False),
    sa.Column('value', sa.Text(), nullable=False),
    sa.Column('milliseconds', sa.Integer(), nullable=False),
    sa.PrimaryKeyConstraint('name', name=op.f('pk_cached_report'))
    )
    op.create_table('operator',
    sa.Column('id', sa.String(length=36), nullable=False),
    sa.Column('name', sa.Text(), nullable=False),
    sa.Column('name_key', sa.Text(), nullable=False),
    sa.Column('kind', sa.String(length=20), nullable=False),
    sa.Column('masked', sa.Boolean(), server_default='0', nullable=False),
    sa.Column('password_hash', sa.Text(), nullable=False),
    sa.Column('factor_secret', sa.Text(), nullable=True),
    sa.Column('factor_pending', sa.Text(), nullable=True),
    sa.Column('factor_at', sa.String(length=27), nullable=True),
    sa.Column('factor_counter', sa.Integer(), nullable=True),
    sa.Column('only_by_source', sa.Boolean(), server_default='0', nullable=False),
    sa.Column('created_at', sa.String(length=27), nullable=False),
    sa.Column('disabled_at', sa.String(length=27), nullable=True),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_operator')),
    sa.UniqueConstraint('name_key', name=op.f('uq_operator_name_key'))
    )
    op.create_table('outbound_mail',
    sa.Column('id', sa.String(length=36), nullable=False),
    sa.Column('content', sa.Text(), nullable=False),
    sa.Column('created_at', sa.String(length=27), nullable=False),
    sa.Column('until_at', sa.String(length=27), nullable=False),
    sa.Column('next_at', sa.String(length=27), nullable=False),
    sa.Column('tries', sa.Integer(), server_default='0', nullable=False),
    sa.Column('trouble', sa.Text(), nullable=True),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_outbound_mail'))
    )
    with op.batch_alter_table('outbound_mail', schema=None) as batch_op:
        batch_op.create_index('ix_outbound_mail_next', ['next_at'], unique=False)

    op.create_table('review',
    sa.Column('id', sa.String(length=36), nullable=False),
    sa.Column('label', sa.Text(), nullable=False),
    sa.Column('note', sa.Text(), nullable=True),
    sa.Column('narrowed', sa.Text(), nullable=False),
    sa.Column('created_at', sa.String(length=27), nullable=False),
    sa.Column('created_by', sa.Text(), nullable=False),
    sa.Column('until_at', sa.String(length=27), nullable=False),
    sa.Column('until_day', sa.String(length=10), nullable=True),
    sa.Column('closed_at', sa.String(length=27), nullable=True),
    sa.Column('closed_by', sa.Text(), nullable=True),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_review'))
    )
    op.create_table('revision',
    sa.Column('name', sa.String(length=40), nullable=False),
    sa.Column('value', sa.Integer(), nullable=False),
    sa.PrimaryKeyConstraint('name', name=op.f('pk_revision'))
    )
    op.create_table('setting',
    sa.Column('name', sa.String(length=40), nullable=False),
    sa.Column('value', sa.Text(), nullable=False),
    sa.PrimaryKeyConstraint('name', name=op.f('pk_setting'))
    )
    op.create_table('source',
    sa.Column('id', sa.String(length=36), nullable=False),
    sa.Column('key', sa.String(length=64), nullable=False),
    sa.Column('label', sa.Text(), nullable=False),
    sa.Column('connection_type', sa.String(length=16), nullable=False),
    sa.Column('priority', sa.Integer(), nullable=False),
    sa.Column('deactivation_wins', sa.Boolean(), server_default='0', nullable=False),
    sa.Column('updates', sa.Boolean(), server_default='1', nullable=False),
    sa.Column('policy', sa.Text(), nullable=True),
    sa.Column('domains', sa.Text(), nullable=True),
    sa.Column('created_at', sa.String(length=27), nullable=False),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_source')),
    sa.UniqueConstraint('key', name=op.f('uq_source_key'))
    )
    op.create_table('user',
    sa.Column('id', sa.String(length=36), nullable=False),
    sa.Column('user_name', sa.Text(), nullable=False),
    sa.Column('user_name_key', sa.Text(), nullable=False),
    sa.Column('display_name', sa.Text(), nullable=False),
    sa.Column('display_name_key', sa.Text(), nullable=False),
    sa.Column('email', sa.Text(), nullable=True),
    sa.Column('email_key', sa.Text(), nullable=True),
    sa.Column('attributes', sa.Text(), nullable=False),
    sa.Column('value_sources', sa.Text(), nullable=False),
    sa.Column('active', sa.Boolean(), nullable=False),
    sa.Column('revision', sa.Integer(), nullable=False),
    sa.Column('created_at', sa.String(length=27), nullable=False),
    sa.Column('modified_at', sa.String(length=27), nullable=False),
    sa.Column('inactive_since', sa.String(length=27), nullable=True),
    sa.Column('left_at', sa.String(length=27), nullable=True),
    sa.Column('next_change_at', sa.String(length=27), nullable=True),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_user'))
    )
    with op.batch_alter_table('user', schema=None) as batch_op:
        batch_op.create_index('ix_user_display', ['display_name_key', 'id', 'user_name_key', 'email_key'], unique=False)
        batch_op.create_index('ix_user_email', ['email_key'], unique=False)
        batch_op.create_index('ix_user_name', ['user_name_key', 'id'], unique=False)
        batch_op.create_index('ix_user_next_change', ['next_change_at'], unique=False, sqlite_where=sa.text('next_change_at IS NOT NULL'), postgresql_where=sa.text('next_change_at IS NOT NULL'))
        batch_op.create_index('ix_user_status', ['active', 'left_at', 'display_name_key', 'id'], unique=False)

    op.create_table('account',
    sa.Column('id', sa.String(length=36), nullable=False),
    sa.Column('user_id', sa.String(length=36), nullable=False),
    sa.Column('application_id', sa.String(length=36), nullable=False),
    sa.Column('desired', sa.Text(), nullable=False),
    sa.Column('desired_version', sa.Integer(), nullable=False),
    sa.Column('pending_since', sa.String(length=27), nullable=False),
    sa.Column('applied', sa.Text(), nullable=True),
    sa.Column('last_applied', sa.Text(), nullable=True),
    sa.Column('applied_version', sa.Integer(), nullable=False),
    sa.Column('applied_at', sa.String(length=27), nullable=True),
    sa.Column('remote_id', sa.Text(), nullable=True),
    sa.Column('origin', sa.String(length=16), nullable=True),
    sa.Column('outcome_unknown_since', sa.String(length=27), nullable=True),
    sa.Column('lists_valid_from', sa.String(length=27), nullable=True),
    sa.Column('to_empty', sa.Text(), nullable=True),
    sa.ForeignKeyConstraint(['application_id'], ['application.id'], name=op.f('fk_account_application_id_application')),
    sa.ForeignKeyConstraint(['user_id'], ['user.id'], name=op.f('fk_account_user_id_user')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_account')),
    sa.UniqueConstraint('user_id', 'application_id', name=op.f('uq_account_user_id_application_id'))
    )
    with op.batch_alter_table('account', schema=None) as batch_op:
        batch_op.create_index('ix_account_of_application', ['application_id', 'id'], unique=False)
        batch_op.create_index('uq_account_remote', ['application_id', 'remote_id'], unique=True, sqlite_where=sa.text('remote_id IS NOT NULL'), postgresql_where=sa.text('remote_id IS NOT NULL'))

    op.create_table('api_token',
    sa.Column('id', sa.String(length=36), nullable=False),
    sa.Column('operator_id', sa.String(length=36), nullable=False),
    sa.Column('parent_id', sa.String(length=36), nullable=True),
    sa.Column('permissions', sa.Text(), nullable=True),
    sa.Column('label', sa.Text(), nullable=False),
    sa.Column('prefix', sa.String(length=16), nullable=False),
    sa.Column('hash', sa.String(length=64), nullable=False),
    sa.Column('scope', sa.String(length=8), nullable=False),
    sa.Column('created_at', sa.String(length=27), nullable=False),
    sa.Column('expires_at', sa.String(length=27), nullable=True),
    sa.Column('last_used_at', sa.String(length=27), nullable=True),
    sa.Column('revoked_at', sa.String(length=27), nullable=True),
    sa.ForeignKeyConstraint(['operator_id'], ['operator.id'], name=op.f('fk_api_token_operator_id_operator')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_api_token')),
    sa.UniqueConstraint('hash', name=op.f('uq_api_token_hash'))
    )
    with op.batch_alter_table('api_token', schema=None) as batch_op:
        batch_op.create_index(batch_op.f('ix_api_token_operator_id'), ['operator_id'], unique=False)
        batch_op.create_index(batch_op.f('ix_api_token_parent_id'), ['parent_id'], unique=False)

    op.create_table('conflict',
    sa.Column('id', sa.String(length=36), nullable=False),
    sa.Column('source_id', sa.String(length=36), nullable=False),
    sa.Column('connection_type', sa.String(length=16), server_default='import', nullable=False),
    sa.Column('subject', sa.String(length=8), nullable=False),
    sa.Column('native_id', sa.Text(), nullable=False),
    sa.Column('kind', sa.String(length=20), nullable=False),
    sa.Column('name', sa.Text(), nullable=False),
    sa.Column('message', sa.Text(), nullable=False),
    sa.Column('entry', sa.Text(), nullable=False),
    sa.Column('candidates', sa.Text(), nullable=False),
    sa.Column('status', sa.String(length=16), nullable=False),
    sa.Column('decision', sa.String(length=16), nullable=True),
    sa.Column('user_id', sa.String(length=36), nullable=True),
    sa.Column('decided_by', sa.Text(), nullable=True),
    sa.Column('first_seen_at', sa.String(length=27), nullable=False),
    sa.Column('last_seen_at', sa.String(length=27), nullable=False),
    sa.Column('decided_at', sa.String(length=27), nullable=True),
    sa.ForeignKeyConstraint(['source_id'], ['source.id'], name=op.f('fk_conflict_source_id_source')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_conflict'))
    )
    with op.batch_alter_table('conflict', schema=None) as batch_op:
        batch_op.create_index('ix_conflict_open', ['source_id', 'id'], unique=False, sqlite_where=sa.text("status = 'open'"), postgresql_where=sa.text("status = 'open'"))
        batch_op.create_index('uq_conflict', ['source_id', 'subject', 'native_id'], unique=True, sqlite_where=sa.text("status != 'over'"), postgresql_where=sa.text("status != 'over'"))

    op.create_table('consumed_assertion',
    sa.Column('source_id', sa.String(length=36), nullable=False),
    sa.Column('once_hash', sa.String(length=64), nullable=False),
    sa.Column('until_at', sa.String(length=27), nullable=False),
    sa.ForeignKeyConstraint(['source_id'], ['source.id'], name=op.f('fk_consumed_assertion_source_id_source')),
    sa.UniqueConstraint('source_id', 'once_hash', name=op.f('uq_consumed_assertion_source_id_once_hash'))
    )
    with op.batch_alter_table('consumed_assertion', schema=None) as batch_op:
        batch_op.create_index('ix_consumed_assertion_until', ['until_at'], unique=False)

    op.create_table('group',
    sa.Column('id', sa.String(length=36), nullable=False),
    sa.Column('source_id', sa.String(length=36), nullable=True),
    sa.Column('connection_type', sa.String(length=16), nullable=False),
    sa.Column('display_name', sa.Text(), nullable=False),
    sa.Column('display_name_key', sa.Text(), nullable=False),
    sa.Column('external_id', sa.Text(), nullable=True),
    sa.Column('data', sa.Text(), nullable=False),
    sa.Column('version', sa.Integer(), nullable=False),
    sa.Column('created_at', sa.String(length=27), nullable=False),
    sa.Column('modified_at', sa.String(length=27), nullable=False),
    sa.Column('deleted_at', sa.String(length=27), nullable=True),
    sa.Column('native_id', sa.Text(), nullable=True),
    sa.Column('reference', sa.Text(), nullable=True),
    sa.Column('digest', sa.String(length=32), nullable=True),
    sa.ForeignKeyConstraint(['source_id'], ['source.id'], name=op.f('fk_group_source_id_source')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_group'))
    )
    with op.batch_alter_table('group', schema=None) as batch_op:
        batch_op.create_index('ix_group_external_id', ['source_id', 'connection_type', 'external_id'], unique=False, sqlite_where=sa.text('deleted_at IS NULL'), postgresql_where=sa.text('deleted_at IS NULL'))
        batch_op.create_index('ix_group_listing', ['display_name_key', 'id'], unique=False, sqlite_where=sa.text('deleted_at IS NULL'), postgresql_where=sa.text('deleted_at IS NULL'))
        batch_op.create_index('ix_group_name', ['source_id', 'connection_type', 'display_name_key'], unique=False, sqlite_where=sa.text('deleted_at IS NULL'), postgresql_where=sa.text('deleted_at IS NULL'))
        batch_op.create_index('uq_group_native_id', ['source_id', 'connection_type', 'native_id'], unique=True, sqlite_where=sa.text('native_id IS NOT NULL'), postgresql_where=sa.text('native_id IS NOT NULL'))

    op.create_table('license_plan',
    sa.Column('id', sa.String(length=36), nullable=False),
    sa.Column('application_id', sa.String(length=36), nullable=False),
    sa.Column('key', sa.String(length=64), nullable=False),
    sa.Column('label', sa.Text(), nullable=False),
    sa.Column('rank', sa.Integer(), nullable=False),
    sa.Column('seats', sa.Integer(), nullable=True),
    sa.ForeignKeyConstraint(['application_id'], ['application.id'], name=op.f('fk_license_plan_application_id_application')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_license_plan')),
    sa.UniqueConstraint('application_id', 'key', name=op.f('uq_license_plan_application_id_key'))
    )
    op.create_table('operator_application',
    sa.Column('operator_id', sa.String(length=36), nullable=False),
    sa.Column('application_id', sa.String(length=36), nullable=False),
    sa.ForeignKeyConstraint(['application_id'], ['application.id'], name=op.f('fk_operator_application_application_id_application')),
    sa.ForeignKeyConstraint(['operator_id'], ['operator.id'], name=op.f('fk_operator_application_operator_id_operator')),
    sa.PrimaryKeyConstraint('operator_id', 'application_id', name=op.f('pk_operator_application'))
    )
    op.create_table('operator_link',
    sa.Column('id', sa.String(length=36), nullable=False),
    sa.Column('operator_id', sa.String(length=36), nullable=False),
    sa.Column('source_id', sa.String(length=36), nullable=False),
    sa.Column('native_id', sa.Text(), nullable=False),
    sa.Column('subject', sa.Text(), nullable=False),
    sa.Column('created_at', sa.String(length=27), nullable=False),
    sa.Column('last_used_at', sa.String(length=27), nullable=False),
    sa.ForeignKeyConstraint(['operator_id'], ['operator.id'], name=op.f('fk_operator_link_operator_id_operator')),
    sa.ForeignKeyConstraint(['source_id'], ['source.id'], name=op.f('fk_operator_link_source_id_source')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_operator_link')),
    sa.UniqueConstraint('source_id', 'native_id', name=op.f('uq_operator_link_source_id_native_id'))
    )
    with op.batch_alter_table('operator_link', schema=None) as batch_op:
        batch_op.create_index(batch_op.f('ix_operator_link_operator_id'), ['operator_id'], unique=False)

    op.create_table('operator_recovery',
    sa.Column('operator_id', sa.String(length=36), nullable=False),
    sa.Column('hash', sa.String(length=64), nullable=False),
    sa.Column('used_at', sa.String(length=27), nullable=True),
    sa.ForeignKeyConstraint(['operator_id'], ['operator.id'], name=op.f('fk_operator_recovery_operator_id_operator')),
    sa.PrimaryKeyConstraint('hash', name=op.f('pk_operator_recovery'))
    )
    with op.batch_alter_table('operator_recovery', schema=None) as batch_op:
        batch_op.create_index(batch_op.f('ix_operator_recovery_operator_id'), ['operator_id'], unique=False)

    op.create_table('operator_session',
    sa.Column('hash', sa.String(length=64), nullable=False),
    sa.Column('operator_id', sa.String(length=36), nullable=False),
    sa.Column('source_id', sa.String(length=36), nullable=True),
    sa.Column('provider_session', sa.Text(), nullable=True),
    sa.Column('subject', sa.Text(), nullable=True),
    sa.Column('subject_format', sa.Text(), nullable=True),
    sa.Column('created_at', sa.String(length=27), nullable=False),
    sa.Column('last_seen_at', sa.String(length=27), nullable=False),
    sa.Column('expires_at', sa.String(length=27), nullable=False),
    sa.ForeignKeyConstraint(['operator_id'], ['operator.id'], name=op.f('fk_operator_session_operator_id_operator')),
    sa.PrimaryKeyConstraint('hash', name=op.f('pk_operator_session'))
    )
    with op.batch_alter_table('operator_session', schema=None) as batch_op:
        batch_op.create_index(batch_op.f('ix_operator_session_operator_id'), ['operator_id'], unique=False)

    op.create_table('pending_recompute',
    sa.Column('user_id', sa.String(length=36), nullable=False),
    sa.Column('since', sa.String(length=27), nullable=False),
    sa.Column('confirmed_for', sa.String(length=36), nullable=True),
    sa.Column('released_by', sa.Text(), nullable=True),
    sa.ForeignKeyConstraint(['user_id'], ['user.id'], name=op.f('fk_pending_recompute_user_id_user')),
    sa.PrimaryKeyConstraint('user_id', name=op.f('pk_pending_recompute'))
    )
    op.create_table('provisioned_group',
    sa.Column('id', sa.String(length=36), nullable=False),
    sa.Column('application_id', sa.String(length=36), nullable=False),
    sa.Column('key', sa.String(length=48), nullable=False),
    sa.Column('status', sa.String(length=16), nullable=False),
    sa.Column('applied_name', sa.Text(), nullable=True),
    sa.Column('applied_at', sa.String(length=27), nullable=True),
    sa.Column('remote_id', sa.Text(), nullable=True),
    sa.Column('origin', sa.String(length=16), nullable=True),
    sa.Column('attempts', sa.Integer(), nullable=False),
    sa.Column('next_attempt_at', sa.String(length=27), nullable=True),
    sa.Column('message', sa.Text(), nullable=True),
    sa.Column('hint', sa.Text(), nullable=True),
    sa.Column('exchanges', sa.Text(), nullable=True),
    sa.Column('created_at', sa.String(length=27), nullable=False),
    sa.ForeignKeyConstraint(['application_id'], ['application.id'], name=op.f('fk_provisioned_group_application_id_application')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_provisioned_group')),
    sa.UniqueConstraint('application_id', 'key', name=op.f('uq_provisioned_group_application_id_key'))
    )
    with op.batch_alter_table('provisioned_group', schema=None) as batch_op:
        batch_op.create_index('ix_provisioned_group_waiting', ['application_id', 'next_attempt_at'], unique=False, sqlite_where=sa.text("status = 'waiting'"), postgresql_where=sa.text("status = 'waiting'"))

    op.create_table('record',
    sa.Column('id', sa.String(length=36), nullable=False),
    sa.Column('source_id', sa.String(length=36), nullable=False),
    sa.Column('connection_type', sa.String(length=16), nullable=False),
    sa.Column('user_id', sa.String(length=36), nullable=False),
    sa.Column('user_name_key', sa.Text(), nullable=False),
    sa.Column('external_id', sa.Text(), nullable=True),
    sa.Column('email_key', sa.Text(), nullable=True),
    sa.Column('more_emails', sa.Text(), nullable=True),
    sa.Column('data', sa.Text(), nullable=False),
    sa.Column('version', sa.Integer(), nullable=False),
    sa.Column('created_at', sa.String(length=27), nullable=False),
    sa.Column('modified_at', sa.String(length=27), nullable=False),
    sa.Column('deleted_at', sa.String(length=27), nullable=True),
    sa.Column('native_id', sa.Text(), nullable=True),
    sa.Column('reference', sa.Text(), nullable=True),
    sa.Column('digest', sa.String(length=32), nullable=True),
    sa.Column('reported', sa.Text(), nullable=True),
    sa.Column('undecided', sa.Boolean(), server_default='0', nullable=False),
    sa.Column('claims_seen_at', sa.String(length=27), nullable=True),
    sa.ForeignKeyConstraint(['source_id'], ['source.id'], name=op.f('fk_record_source_id_source')),
    sa.ForeignKeyConstraint(['user_id'], ['user.id'], name=op.f('fk_record_user_id_user')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_record'))
    )
    with op.batch_alter_table('record', schema=None) as batch_op:
        batch_op.create_index('ix_record_email', ['source_id', 'email_key'], unique=False, sqlite_where=sa.text('deleted_at IS NULL AND email_key IS NOT NULL'), postgresql_where=sa.text('deleted_at IS NULL AND email_key IS NOT NULL'))
        batch_op.create_index('ix_record_external_id', ['source_id', 'connection_type', 'external_id'], unique=False, sqlite_where=sa.text('deleted_at IS NULL'), postgresql_where=sa.text('deleted_at IS NULL'))
        batch_op.create_index('ix_record_heard', ['source_id', 'claims_seen_at'], unique=False, sqlite_where=sa.text('claims_seen_at IS NOT NULL'), postgresql_where=sa.text('claims_seen_at IS NOT NULL'))
        batch_op.create_index('ix_record_listing', ['source_id', 'connection_type', 'id'], unique=False, sqlite_where=sa.text('deleted_at IS NULL'), postgresql_where=sa.text('deleted_at IS NULL'))
        batch_op.create_index('ix_record_locator', ['source_id', 'reference'], unique=False, sqlite_where=sa.text('deleted_at IS NULL AND reference IS NOT NULL'), postgresql_where=sa.text('deleted_at IS NULL AND reference IS NOT NULL'))
        batch_op.create_index('ix_record_more_emails', ['source_id', 'more_emails'], unique=False, sqlite_where=sa.text('deleted_at IS NULL AND more_emails IS NOT NULL'), postgresql_where=sa.text('deleted_at IS NULL AND more_emails IS NOT NULL'))
        batch_op.create_index(batch_op.f('ix_record_user_id'), ['user_id'], unique=False)
        batch_op.create_index('uq_record_native_id', ['source_id', 'connection_type', 'native_id'], unique=True, sqlite_where=sa.text('native_id IS NOT NULL'), postgresql_where=sa.text('native_id IS NOT NULL'))
        batch_op.create_index('uq_record_user_name', ['source_id', 'connection_type', 'user_name_key'], unique=True, sqlite_where=sa.text('deleted_at IS NULL'), postgresql_where=sa.text('deleted_at IS NULL'))

    op.create_table('role',
    sa.Column('id', sa.String(length=36), nullable=False),
    sa.Column('application_id', sa.String(length=36), nullable=False),
    sa.Column('key', sa.String(length=64), nullable=False),
    sa.Column('label', sa.Text(), nullable=False),
    sa.Column('rank', sa.Integer(), nullable=False),
    sa.ForeignKeyConstraint(['application_id'], ['application.id'], name=op.f('fk_role_application_id_application')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_role')),
    sa.UniqueConstraint('application_id', 'key', name=op.f('uq_role_application_id_key'))
    )
    op.create_table('run',
    sa.Column('id', sa.String(length=36), nullable=False),
    sa.Column('kind', sa.String(length=20), nullable=False),
    sa.Column('application_id', sa.String(length=36), nullable=True),
    sa.Column('source_id', sa.String(length=36), nullable=True),
    sa.Column('whole', sa.Boolean(), nullable=True),
    sa.Column('preview', sa.Boolean(), nullable=True),
    sa.Column('allow_removals', sa.Boolean(), nullable=True),
    sa.Column('crashes', sa.Integer(), server_default='0', nullable=False),
    sa.Column('status', sa.String(length=16), nullable=False),
    sa.Column('requested_by', sa.Text(), nullable=False),
    sa.Column('requested_at', sa.String(length=27), nullable=False),
    sa.Column('started_at', sa.String(length=27), nullable=True),
    sa.Column('ended_at', sa.String(length=27), nullable=True),
    sa.Column('progress', sa.Integer(), nullable=False),
    sa.Column('counts', sa.Text(), nullable=True),
    sa.Column('message', sa.Text(), nullable=True),
    sa.Column('hint', sa.Text(), nullable=True),
    sa.Column('stop_requested', sa.Boolean(), nullable=False),
    sa.ForeignKeyConstraint(['application_id'], ['application.id'], name=op.f('fk_run_application_id_application')),
    sa.ForeignKeyConstraint(['source_id'], ['source.id'], name=op.f('fk_run_source_id_source')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_run'))
    )
    with op.batch_alter_table('run', schema=None) as batch_op:
        batch_op.create_index('ix_run_of_application', ['application_id', 'id'], unique=False)
        batch_op.create_index('ix_run_of_source', ['source_id', 'id'], unique=False, sqlite_where=sa.text('source_id IS NOT NULL'), postgresql_where=sa.text('source_id IS NOT NULL'))
        batch_op.create_index('ix_run_open', ['status'], unique=False, sqlite_where=sa.text('ended_at IS NULL'), postgresql_where=sa.text('ended_at IS NULL'))

    op.create_table('sign_in_key',
    sa.Column('id', sa.String(length=36), nullable=False),
    sa.Column('source_id', sa.String(length=36), nullable=False),
    sa.Column('secret', sa.Text(), nullable=False),
    sa.Column('certificate', sa.Text(), nullable=False),
    sa.Column('created_at', sa.String(length=27), nullable=False),
    sa.Column('signs_from', sa.String(length=27), nullable=False),
    sa.Column('retired_at', sa.String(length=27), nullable=True),
    sa.ForeignKeyConstraint(['source_id'], ['source.id'], name=op.f('fk_sign_in_key_source_id_source')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_sign_in_key'))
    )
    with op.batch_alter_table('sign_in_key', schema=None) as batch_op:
        batch_op.create_index(batch_op.f('ix_sign_in_key_source_id'), ['source_id'], unique=False)

    op.create_table('sign_in_request',
    sa.Column('state_hash', sa.String(length=64), nullable=False),
    sa.Column('source_id', sa.String(length=36), nullable=False),
    sa.Column('browser_hash', sa.String(length=64), nullable=False),
    sa.Column('request_id', sa.String(length=80), nullable=True),
    sa.Column('secret', sa.Text(), nullable=True),
    sa.Column('test_id', sa.String(length=36), nullable=True),
    sa.Column('operator_id', sa.String(length=36), nullable=True),
    sa.Column('tries', sa.Integer(), server_default='0', nullable=False),
    sa.Column('back', sa.Text(), nullable=False),
    sa.Column('begun_at', sa.String(length=27), nullable=True),
    sa.Column('until_at', sa.String(length=27), nullable=False),
    sa.ForeignKeyConstraint(['source_id'], ['source.id'], name=op.f('fk_sign_in_request_source_id_source')),
    sa.PrimaryKeyConstraint('state_hash', name=op.f('pk_sign_in_request'))
    )
    with op.batch_alter_table('sign_in_request', schema=None) as batch_op:
        batch_op.create_index('ix_sign_in_request_until', ['until_at'], unique=False)

    op.create_table('sign_in_trace',
    sa.Column('id', sa.String(length=36), nullable=False),
    sa.Column('source_id', sa.String(length=36), nullable=False),
    sa.Column('at', sa.String(length=27), nullable=False),
    sa.Column('test_id', sa.String(length=36), nullable=True),
    sa.Column('outcome', sa.String(length=10), nullable=False),
    sa.Column('reason', sa.String(length=40), nullable=True),
    sa.Column('message', sa.Text(), nullable=False),
    sa.Column('hint', sa.Text(), nullable=False),
    sa.Column('name', sa.Text(), nullable=False),
    sa.Column('user_id', sa.String(length=36), nullable=True),
    sa.Column('steps', sa.Text(), nullable=False),
    sa.Column('received', sa.Text(), nullable=False),
    sa.Column('result', sa.Text(), nullable=False),
    sa.Column('raw', sa.Text(), nullable=True),
    sa.ForeignKeyConstraint(['source_id'], ['source.id'], name=op.f('fk_sign_in_trace_source_id_source')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_sign_in_trace'))
    )
    with op.batch_alter_table('sign_in_trace', schema=None) as batch_op:
        batch_op.create_index('ix_sign_in_trace_of_source', ['source_id', 'id'], unique=False)
        batch_op.create_index('ix_sign_in_trace_of_sign_in_test', ['test_id'], unique=False, sqlite_where=sa.text('test_id IS NOT NULL'), postgresql_where=sa.text('test_id IS NOT NULL'))

    op.create_table('source_import',
    sa.Column('source_id', sa.String(length=36), nullable=False),
    sa.Column('kind', sa.String(length=16), nullable=False),
    sa.Column('settings', sa.Text(), nullable=False),
    sa.Column('secret', sa.Text(), nullable=True),
    sa.Column('enabled', sa.Boolean(), nullable=False),
    sa.Column('enabled_from', sa.String(length=27), nullable=True),
    sa.Column('schedule', sa.String(length=100), nullable=False),
    sa.Column('next_at', sa.String(length=27), nullable=True),
    sa.Column('change_marker', sa.Text(), nullable=True),
    sa.Column('full_at', sa.String(length=27), nullable=True),
    sa.Column('checked', sa.Text(), nullable=True),
    sa.Column('checked_at', sa.String(length=27), nullable=True),
    sa.ForeignKeyConstraint(['source_id'], ['source.id'], name=op.f('fk_source_import_source_id_source')),
    sa.PrimaryKeyConstraint('source_id', name=op.f('pk_source_import'))
    )
    op.create_table('source_observation',
    sa.Column('source_id', sa.String(length=36), nullable=False),
    sa.Column('what', sa.String(length=40), nullable=False),
    sa.Column('first_at', sa.String(length=27), nullable=False),
    sa.Column('last_at', sa.String(length=27), nullable=False),
    sa.Column('detail', sa.Text(), nullable=True),
    sa.ForeignKeyConstraint(['source_id'], ['source.id'], name=op.f('fk_source_observation_source_id_source')),
    sa.UniqueConstraint('source_id', 'what', name=op.f('uq_source_observation_source_id_what'))
    )
    op.create_table('source_schema',
    sa.Column('id', sa.String(length=36), nullable=False),
    sa.Column('source_id', sa.String(length=36), nullable=False),
    sa.Column('urn', sa.Text(), nullable=False),
    sa.Column('kind', sa.String(length=8), nullable=False),
    sa.Column('document', sa.Text(), nullable=False),
    sa.Column('created_at', sa.String(length=27), nullable=False),
    sa.ForeignKeyConstraint(['source_id'], ['source.id'], name=op.f('fk_source_schema_source_id_source')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_source_schema')),
    sa.UniqueConstraint('source_id', 'urn', name=op.f('uq_source_schema_source_id_urn'))
    )
    op.create_table('source_sign_in',
    sa.Column('source_id', sa.String(length=36), nullable=False),
    sa.Column('protocol', sa.String(length=8), nullable=False),
    sa.Column('settings', sa.Text(), nullable=False),
    sa.Column('provider', sa.Text(), nullable=False),
    sa.Column('policy', sa.Text(), nullable=True),
    sa.Column('secret', sa.Text(), nullable=True),
    sa.Column('status', sa.String(length=12), server_default='disabled', nullable=False),
    sa.Column('enabled_from', sa.String(length=27), nullable=True),
    sa.Column('serves', sa.String(length=12), server_default='users', nullable=False),
    sa.Column('verified_at', sa.String(length=27), nullable=True),
    sa.Column('looked_at', sa.String(length=27), nullable=True),
    sa.Column('trouble', sa.Text(), nullable=True),
    sa.Column('waiting', sa.Text(), nullable=True),
    sa.Column('changed_at', sa.String(length=27), nullable=False),
    sa.ForeignKeyConstraint(['source_id'], ['source.id'], name=op.f('fk_source_sign_in_source_id_source')),
    sa.PrimaryKeyConstraint('source_id', name=op.f('pk_source_sign_in'))
    )
    op.create_table('source_token',
    sa.Column('id', sa.String(length=36), nullable=False),
    sa.Column('source_id', sa.String(length=36), nullable=False),
    sa.Column('label', sa.Text(), nullable=False),
    sa.Column('prefix', sa.String(length=16), nullable=False),
    sa.Column('hash', sa.String(length=64), nullable=False),
    sa.Column('created_at', sa.String(length=27), nullable=False),
    sa.Column('expires_at', sa.String(length=27), nullable=True),
    sa.Column('last_used_at', sa.String(length=27), nullable=True),
    sa.Column('revoked_at', sa.String(length=27), nullable=True),
    sa.Column('kinds', sa.String(length=8), server_default='both', nullable=False),
    sa.Column('access', sa.String(length=8), server_default='write', nullable=False),
    sa.ForeignKeyConstraint(['source_id'], ['source.id'], name=op.f('fk_source_token_source_id_source')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_source_token')),
    sa.UniqueConstraint('hash', name=op.f('uq_source_token_hash'))
    )
    with op.batch_alter_table('source_token', schema=None) as batch_op:
        batch_op.create_index(batch_op.f('ix_source_token_source_id'), ['source_id'], unique=False)

    op.create_table('test_sign_in',
    sa.Column('id', sa.String(length=36), nullable=False),
    sa.Column('source_id', sa.String(length=36), nullable=False),
    sa.Column('hash', sa.String(length=64), nullable=False),
    sa.Column('user', sa.Text(), nullable=False),
    sa.Column('user_key', sa.Text(), nullable=False),
    sa.Column('mode', sa.String(length=10), nullable=False),
    sa.Column('created_by', sa.Text(), nullable=False),
    sa.Column('created_at', sa.String(length=27), nullable=False),
    sa.Column('until_at', sa.String(length=27), nullable=False),
    sa.ForeignKeyConstraint(['source_id'], ['source.id'], name=op.f('fk_test_sign_in_source_id_source')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_test_sign_in')),
    sa.UniqueConstraint('hash', name=op.f('uq_test_sign_in_hash'))
    )
    with op.batch_alter_table('test_sign_in', schema=None) as batch_op:
        batch_op.create_index(batch_op.f('ix_test_sign_in_source_id'), ['source_id'], unique=False)

    op.create_table('trace',
    sa.Column('id', sa.String(length=36), nullable=False),
    sa.Column('source_id', sa.String(length=36), nullable=False),
    sa.Column('at', sa.String(length=27), nullable=False),
    sa.Column('method', sa.String(length=8), nullable=False),
    sa.Column('path', sa.Text(), nullable=False),
    sa.Column('query', sa.Text(), nullable=True),
    sa.Column('status', sa.Integer(), nullable=False),
    sa.Column('milliseconds', sa.Integer(), nullable=False),
    sa.Column('outcome', sa.Text(), nullable=False),
    sa.Column('quirks', sa.Text(), nullable=True),
    sa.Column('effects', sa.Text(), nullable=True),
    sa.Column('body', sa.Text(), nullable=True),
    sa.ForeignKeyConstraint(['source_id'], ['source.id'], name=op.f('fk_trace_source_id_source')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_trace'))
    )
    with op.batch_alter_table('trace', schema=None) as batch_op:
        batch_op.create_index('ix_trace_of_source', ['source_id', 'id'], unique=False)

    op.create_table('user_session',
    sa.Column('id', sa.String(length=36), nullable=False),
    sa.Column('hash', sa.String(length=64), nullable=False),
    sa.Column('user_id', sa.String(length=36), nullable=False),
    sa.Column('source_id', sa.String(length=36), nullable=False),
    sa.Column('session', sa.Text(), nullable=True),
    sa.Column('subject', sa.Text(), nullable=False),
    sa.Column('subject_format', sa.Text(), nullable=True),
    sa.Column('created_at', sa.String(length=27), nullable=False),
    sa.Column('last_seen_at', sa.String(length=27), nullable=False),
    sa.Column('until_at', sa.String(length=27), nullable=False),
    sa.ForeignKeyConstraint(['source_id'], ['source.id'], name=op.f('fk_user_session_source_id_source')),
    sa.ForeignKeyConstraint(['user_id'], ['user.id'], name=op.f('fk_user_session_user_id_user')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_user_session')),
    sa.UniqueConstraint('hash', name=op.f('uq_user_session_hash'))
    )
    with op.batch_alter_table('user_session', schema=None) as batch_op:
        batch_op.create_index('ix_user_session_until', ['until_at'], unique=False)
        batch_op.create_index(batch_op.f('ix_user_session_user_id'), ['user_id'], unique=False)

    op.create_table('access',
    sa.Column('id', sa.String(length=36), nullable=False),
    sa.Column('user_id', sa.String(length=36), nullable=False),
    sa.Column('application_id', sa.String(length=36), nullable=False),
    sa.Column('role_id', sa.String(length=36), nullable=False),
    sa.Column('reasons', sa.Text(), nullable=False),
    sa.Column('direct_only', sa.Boolean(), server_default='0', nullable=False),
    sa.Column('from_at', sa.String(length=27), nullable=False),
    sa.Column('until_at', sa.String(length=27), nullable=True),
    sa.ForeignKeyConstraint(['application_id'], ['application.id'], name=op.f('fk_access_application_id_application')),
    sa.ForeignKeyConstraint(['role_id'], ['role.id'], name=op.f('fk_access_role_id_role')),
    sa.ForeignKeyConstraint(['user_id'], ['user.id'], name=op.f('fk_access_user_id_user')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_access'))
    )
    with op.batch_alter_table('access', schema=None) as batch_op:
        batch_op.create_index('ix_access_began', ['from_at'], unique=False)
        batch_op.create_index('ix_access_direct', ['user_id'], unique=False, sqlite_where=sa.text('until_at IS NULL AND direct_only = 1'), postgresql_where=sa.text('until_at IS NULL AND direct_only = 1'))
        batch_op.create_index('ix_access_ended', ['until_at'], unique=False, sqlite_where=sa.text('until_at IS NOT NULL'), postgresql_where=sa.text('until_at IS NOT NULL'))
        batch_op.create_index('ix_access_history', ['user_id', 'from_at'], unique=False)
        batch_op.create_index('ix_access_of_application', ['application_id', 'user_id', 'until_at'], unique=False, sqlite_where=sa.text('until_at IS NULL'), postgresql_where=sa.text('until_at IS NULL'))
        batch_op.create_index('uq_access_open', ['user_id', 'role_id'], unique=True, sqlite_where=sa.text('until_at IS NULL'), postgresql_where=sa.text('until_at IS NULL'))

    op.create_table('assignment',
    sa.Column('id', sa.String(length=36), nullable=False),
    sa.Column('application_id', sa.String(length=36), nullable=False),
    sa.Column('role_id', sa.String(length=36), nullable=True),
    sa.Column('plan_id', sa.String(length=36), nullable=True),
    sa.Column('user_id', sa.String(length=36), nullable=True),
    sa.Column('group_id', sa.String(length=36), nullable=True),
    sa.Column('rule', sa.Text(), nullable=True),
    sa.Column('pattern', sa.Text(), nullable=True),
    sa.Column('source_id', sa.String(length=36), nullable=True),
    sa.Column('confirmed', sa.Text(), nullable=True),
    sa.Column('future_users', sa.Boolean(), server_default='0', nullable=False),
    sa.Column('excludes', sa.Boolean(), server_default='0', nullable=False),
    sa.Column('new_users_since', sa.String(length=27), nullable=True),
    sa.Column('from_at', sa.String(length=27), nullable=True),
    sa.Column('until_at', sa.String(length=27), nullable=True),
    sa.Column('from_day', sa.String(length=10), nullable=True),
    sa.Column('until_day', sa.String(length=10), nullable=True),
    sa.Column('note', sa.Text(), nullable=True),
    sa.Column('created_at', sa.String(length=27), nullable=False),
    sa.Column('created_by', sa.Text(), nullable=False),
    sa.Column('removed_at', sa.String(length=27), nullable=True),
    sa.ForeignKeyConstraint(['application_id'], ['application.id'], name=op.f('fk_assignment_application_id_application')),
    sa.ForeignKeyConstraint(['group_id'], ['group.id'], name=op.f('fk_assignment_group_id_group')),
    sa.ForeignKeyConstraint(['plan_id'], ['license_plan.id'], name=op.f('fk_assignment_plan_id_license_plan')),
    sa.ForeignKeyConstraint(['role_id'], ['role.id'], name=op.f('fk_assignment_role_id_role')),
    sa.ForeignKeyConstraint(['source_id'], ['source.id'], name=op.f('fk_assignment_source_id_source')),
    sa.ForeignKeyConstraint(['user_id'], ['user.id'], name=op.f('fk_assignment_user_id_user')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_assignment'))
    )
    with op.batch_alter_table('assignment', schema=None) as batch_op:
        batch_op.create_index(batch_op.f('ix_assignment_application_id'), ['application_id'], unique=False)
        batch_op.create_index('ix_assignment_user', ['user_id'], unique=False, sqlite_where=sa.text('removed_at IS NULL AND user_id IS NOT NULL'), postgresql_where=sa.text('removed_at IS NULL AND user_id IS NOT NULL'))
        batch_op.create_index('uq_assignment_group', ['role_id', 'group_id'], unique=True, sqlite_where=sa.text('removed_at IS NULL AND group_id IS NOT NULL'), postgresql_where=sa.text('removed_at IS NULL AND group_id IS NOT NULL'))
        batch_op.create_index('uq_assignment_group_no_role', ['application_id', 'group_id', 'excludes'], unique=True, sqlite_where=sa.text('removed_at IS NULL AND group_id IS NOT NULL AND role_id IS NULL'), postgresql_where=sa.text('removed_at IS NULL AND group_id IS NOT NULL AND role_id IS NULL'))
        batch_op.create_index('uq_assignment_user', ['role_id', 'user_id'], unique=True, sqlite_where=sa.text('removed_at IS NULL AND user_id IS NOT NULL'), postgresql_where=sa.text('removed_at IS NULL AND user_id IS NOT NULL'))
        batch_op.create_index('uq_assignment_user_no_role', ['application_id', 'user_id', 'excludes'], unique=True, sqlite_where=sa.text('removed_at IS NULL AND user_id IS NOT NULL AND role_id IS NULL'), postgresql_where=sa.text('removed_at IS NULL AND user_id IS NOT NULL AND role_id IS NULL'))

    op.create_table('drift',
    sa.Column('id', sa.String(length=36), nullable=False),
    sa.Column('application_id', sa.String(length=36), nullable=False),
    sa.Column('kind', sa.String(length=20), nullable=False),
    sa.Column('about', sa.Text(), nullable=False),
    sa.Column('account_id', sa.String(length=36), nullable=True),
    sa.Column('remote_id', sa.Text(), nullable=True),
    sa.Column('name', sa.Text(), nullable=False),
    sa.Column('there', sa.Text(), nullable=True),
    sa.Column('differences', sa.Text(), nullable=True),
    sa.Column('status', sa.String(length=16), nullable=False),
    sa.Column('first_seen_at', sa.String(length=27), nullable=False),
    sa.Column('last_seen_at', sa.String(length=27), nullable=False),
    sa.Column('run_id', sa.String(length=36), nullable=False),
    sa.ForeignKeyConstraint(['account_id'], ['account.id'], name=op.f('fk_drift_account_id_account')),
    sa.ForeignKeyConstraint(['application_id'], ['application.id'], name=op.f('fk_drift_application_id_application')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_drift')),
    sa.UniqueConstraint('application_id', 'kind', 'about', name=op.f('uq_drift_application_id_kind_about'))
    )
    with op.batch_alter_table('drift', schema=None) as batch_op:
        batch_op.create_index('ix_drift_of_application', ['application_id', 'status', 'id'], unique=False)

    op.create_table('membership',
    sa.Column('id', sa.Integer(), nullable=False),
    sa.Column('group_id', sa.String(length=36), nullable=False),
    sa.Column('record_id', sa.String(length=36), nullable=True),
    sa.Column('inner_group_id', sa.String(length=36), nullable=True),
    sa.Column('user_id', sa.String(length=36), nullable=True),
    sa.Column('from_at', sa.String(length=27), nullable=False),
    sa.Column('until_at', sa.String(length=27), nullable=True),
    sa.ForeignKeyConstraint(['group_id'], ['group.id'], name=op.f('fk_membership_group_id_group')),
    sa.ForeignKeyConstraint(['inner_group_id'], ['group.id'], name=op.f('fk_membership_inner_group_id_group')),
    sa.ForeignKeyConstraint(['record_id'], ['record.id'], name=op.f('fk_membership_record_id_record')),
    sa.ForeignKeyConstraint(['user_id'], ['user.id'], name=op.f('fk_membership_user_id_user')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_membership'))
    )
    with op.batch_alter_table('membership', schema=None) as batch_op:
        batch_op.create_index('ix_membership_history', ['record_id', 'from_at'], unique=False)
        batch_op.create_index('ix_membership_of_group', ['inner_group_id'], unique=False, sqlite_where=sa.text('until_at IS NULL AND inner_group_id IS NOT NULL'), postgresql_where=sa.text('until_at IS NULL AND inner_group_id IS NOT NULL'))
        batch_op.create_index('ix_membership_of_record', ['record_id'], unique=False, sqlite_where=sa.text('until_at IS NULL AND record_id IS NOT NULL'), postgresql_where=sa.text('until_at IS NULL AND record_id IS NOT NULL'))
        batch_op.create_index('ix_membership_of_user', ['user_id'], unique=False, sqlite_where=sa.text('until_at IS NULL AND user_id IS NOT NULL'), postgresql_where=sa.text('until_at IS NULL AND user_id IS NOT NULL'))
        batch_op.create_index('uq_membership_group', ['group_id', 'inner_group_id'], unique=True, sqlite_where=sa.text('until_at IS NULL AND inner_group_id IS NOT NULL'), postgresql_where=sa.text('until_at IS NULL AND inner_group_id IS NOT NULL'))
        batch_op.create_index('uq_membership_record', ['group_id', 'record_id'], unique=True, sqlite_where=sa.text('until_at IS NULL AND record_id IS NOT NULL'), postgresql_where=sa.text('until_at IS NULL AND record_id IS NOT NULL'))
        batch_op.create_index('uq_membership_user', ['group_id', 'user_id'], unique=True, sqlite_where=sa.text('until_at IS NULL AND user_id IS NOT NULL'), postgresql_where=sa.text('until_at IS NULL AND user_id IS NOT NULL'))

    op.create_table('provisioned_member',
    sa.Column('provisioned_group_id', sa.String(length=36), nullable=False),
    sa.Column('account_id', sa.String(length=36), nullable=False),
    sa.Column('desired', sa.Boolean(), nullable=False),
    sa.Column('applied_remote_id', sa.Text(), nullable=True),
    sa.ForeignKeyConstraint(['account_id'], ['account.id'], name=op.f('fk_provisioned_member_account_id_account')),
    sa.ForeignKeyConstraint(['provisioned_group_id'], ['provisioned_group.id'], name=op.f('fk_provisioned_member_provisioned_group_id_provisioned_group')),
    sa.PrimaryKeyConstraint('provisioned_group_id', 'account_id', name=op.f('pk_provisioned_member'))
    )
    with op.batch_alter_table('provisioned_member', schema=None) as batch_op:
        batch_op.create_index('ix_provisioned_member_account', ['account_id'], unique=False)

    op.create_table('record_unique',
    sa.Column('record_id', sa.String(length=36), nullable=False),
    sa.Column('source_id', sa.String(length=36), nullable=False),
    sa.Column('path', sa.Text(), nullable=False),
    sa.Column('value_key', sa.Text(), nullable=False),
    sa.ForeignKeyConstraint(['record_id'], ['record.id'], name=op.f('fk_record_unique_record_id_record')),
    sa.ForeignKeyConstraint(['source_id'], ['source.id'], name=op.f('fk_record_unique_source_id_source')),
    sa.UniqueConstraint('source_id', 'path', 'value_key', name=op.f('uq_record_unique_source_id_path_value_key'))
    )
    with op.batch_alter_table('record_unique', schema=None) as batch_op:
        batch_op.create_index(batch_op.f('ix_record_unique_record_id'), ['record_id'], unique=False)

    op.create_table('retained_role',
    sa.Column('id', sa.String(length=36), nullable=False),
    sa.Column('user_id', sa.String(length=36), nullable=False),
    sa.Column('application_id', sa.String(length=36), nullable=False),
    sa.Column('role_id', sa.String(length=36), nullable=False),
    sa.Column('from_at', sa.String(length=27), nullable=False),
    sa.Column('until_at', sa.String(length=27), nullable=True),
    sa.ForeignKeyConstraint(['application_id'], ['application.id'], name=op.f('fk_retained_role_application_id_application')),
    sa.ForeignKeyConstraint(['role_id'], ['role.id'], name=op.f('fk_retained_role_role_id_role')),
    sa.ForeignKeyConstraint(['user_id'], ['user.id'], name=op.f('fk_retained_role_user_id_user')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_retained_role'))
    )
    with op.batch_alter_table('retained_role', schema=None) as batch_op:
        batch_op.create_index('uq_retained_role_open', ['user_id', 'role_id'], unique=True, sqlite_where=sa.text('until_at IS NULL'), postgresql_where=sa.text('until_at IS NULL'))

    op.create_table('review_row',
    sa.Column('id', sa.String(length=36), nullable=False),
    sa.Column('review_id', sa.String(length=36), nullable=False),
    sa.Column('user_id', sa.String(length=36), nullable=False),
    sa.Column('application_id', sa.String(length=36), nullable=False),
    sa.Column('role_id', sa.String(length=36), nullable=False),
    sa.Column('since', sa.String(length=27), nullable=False),
    sa.Column('reasons', sa.Text(), nullable=False),
    sa.Column('decision', sa.String(length=12), nullable=True),
    sa.Column('decided_at', sa.String(length=27), nullable=True),
    sa.Column('decided_by', sa.Text(), nullable=True),
    sa.Column('note', sa.Text(), nullable=True),
    sa.Column('outcome', sa.Text(), nullable=True),
    sa.ForeignKeyConstraint(['application_id'], ['application.id'], name=op.f('fk_review_row_application_id_application')),
    sa.ForeignKeyConstraint(['review_id'], ['review.id'], name=op.f('fk_review_row_review_id_review')),
    sa.ForeignKeyConstraint(['role_id'], ['role.id'], name=op.f('fk_review_row_role_id_role')),
    sa.ForeignKeyConstraint(['user_id'], ['user.id'], name=op.f('fk_review_row_user_id_user')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_review_row'))
    )
    with op.batch_alter_table('review_row', schema=None) as batch_op:
        batch_op.create_index('ix_review_row_of_application', ['application_id'], unique=False)
        batch_op.create_index('ix_review_row_of_review', ['review_id', 'application_id', 'decision'], unique=False)

    op.create_table('run_entry',
    sa.Column('id', sa.Integer(), nullable=False),
    sa.Column('run_id', sa.String(length=36), nullable=False),
    sa.Column('kind', sa.String(length=16), nullable=False),
    sa.Column('user_id', sa.String(length=36), nullable=True),
    sa.Column('name', sa.Text(), nullable=False),
    sa.Column('changes', sa.Text(), nullable=True),
    sa.Column('message', sa.Text(), nullable=True),
    sa.ForeignKeyConstraint(['run_id'], ['run.id'], name=op.f('fk_run_entry_run_id_run')),
    sa.ForeignKeyConstraint(['user_id'], ['user.id'], name=op.f('fk_run_entry_user_id_user')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_run_entry'))
    )
    with op.batch_alter_table('run_entry', schema=None) as batch_op:
        batch_op.create_index('ix_run_entry', ['run_id', 'kind', 'id'], unique=False)

    op.create_table('seat',
    sa.Column('id', sa.String(length=36), nullable=False),
    sa.Column('user_id', sa.String(length=36), nullable=False),
    sa.Column('application_id', sa.String(length=36), nullable=False),
    sa.Column('plan_id', sa.String(length=36), nullable=False),
    sa.Column('requested_at', sa.String(length=27), nullable=False),
    sa.Column('from_at', sa.String(length=27), nullable=True),
    sa.Column('until_at', sa.String(length=27), nullable=True),
    sa.ForeignKeyConstraint(['application_id'], ['application.id'], name=op.f('fk_seat_application_id_application')),
    sa.ForeignKeyConstraint(['plan_id'], ['license_plan.id'], name=op.f('fk_seat_plan_id_license_plan')),
    sa.ForeignKeyConstraint(['user_id'], ['user.id'], name=op.f('fk_seat_user_id_user')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_seat'))
    )
    with op.batch_alter_table('seat', schema=None) as batch_op:
        batch_op.create_index(batch_op.f('ix_seat_application_id'), ['application_id'], unique=False)
        batch_op.create_index('ix_seat_taken', ['plan_id'], unique=False, sqlite_where=sa.text('until_at IS NULL AND from_at IS NOT NULL'), postgresql_where=sa.text('until_at IS NULL AND from_at IS NOT NULL'))
        batch_op.create_index('ix_seat_waited_for', ['plan_id', 'requested_at'], unique=False, sqlite_where=sa.text('until_at IS NULL AND from_at IS NULL'), postgresql_where=sa.text('until_at IS NULL AND from_at IS NULL'))
        batch_op.create_index('uq_seat_taken', ['user_id', 'application_id'], unique=True, sqlite_where=sa.text('until_at IS NULL AND from_at IS NOT NULL'), postgresql_where=sa.text('until_at IS NULL AND from_at IS NOT NULL'))
        batch_op.create_index('uq_seat_waited_for', ['user_id', 'plan_id'], unique=True, sqlite_where=sa.text('until_at IS NULL AND from_at IS NULL'), postgresql_where=sa.text('until_at IS NULL AND from_at IS NULL'))

    op.create_table('task',
    sa.Column('id', sa.String(length=36), nullable=False),
    sa.Column('account_id', sa.String(length=36), nullable=False),
    sa.Column('application_id', sa.String(length=36), nullable=False),
    sa.Column('user_id', sa.String(length=36), nullable=False),
    sa.Column('status', sa.String(length=16), nullable=False),
    sa.Column('version', sa.Integer(), nullable=False),
    sa.Column('desired_state', sa.Text(), nullable=False),
    sa.Column('attempts', sa.Integer(), nullable=False),
    sa.Column('created_at', sa.String(length=27), nullable=False),
    sa.Column('next_attempt_at', sa.String(length=27), nullable=True),
    sa.Column('closed_at', sa.String(length=27), nullable=True),
    sa.Column('message', sa.Text(), nullable=True),
    sa.Column('hint', sa.Text(), nullable=True),
    sa.Column('kind', sa.String(length=40), nullable=True),
    sa.Column('removes', sa.Boolean(), server_default='0', nullable=False),
    sa.Column('released_at', sa.String(length=27), nullable=True),
    sa.Column('released_by', sa.Text(), nullable=True),
    sa.Column('held_at', sa.String(length=27), nullable=True),
    sa.ForeignKeyConstraint(['account_id'], ['account.id'], name=op.f('fk_task_account_id_account')),
    sa.ForeignKeyConstraint(['application_id'], ['application.id'], name=op.f('fk_task_application_id_application')),
    sa.ForeignKeyConstraint(['user_id'], ['user.id'], name=op.f('fk_task_user_id_user')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_task'))
    )
    with op.batch_alter_table('task', schema=None) as batch_op:
        batch_op.create_index('ix_task_held', ['application_id'], unique=False, sqlite_where=sa.text('held_at IS NOT NULL AND closed_at IS NULL'), postgresql_where=sa.text('held_at IS NOT NULL AND closed_at IS NULL'))
        batch_op.create_index('ix_task_of_account', ['account_id', 'id'], unique=False)
        batch_op.create_index('ix_task_of_application', ['application_id', 'id'], unique=False)
        batch_op.create_index('ix_task_removing', ['released_at', 'application_id'], unique=False, sqlite_where=sa.text('removes = 1'), postgresql_where=sa.text('removes = 1'))
        batch_op.create_index('ix_task_status', ['status', 'id'], unique=False)
        batch_op.create_index(batch_op.f('ix_task_user_id'), ['user_id'], unique=False)
        batch_op.create_index('ix_task_waiting', ['application_id', 'next_attempt_at'], unique=False, sqlite_where=sa.text("status = 'waiting'"), postgresql_where=sa.text("status = 'waiting'"))
        batch_op.create_index('uq_task_open', ['account_id'], unique=True, sqlite_where=sa.text('closed_at IS NULL'), postgresql_where=sa.text('closed_at IS NULL'))

    op.create_table('task_attempt',
    sa.Column('id', sa.Integer(), nullable=False),
    sa.Column('task_id', sa.String(length=36), nullable=False),
    sa.Column('version', sa.Integer(), nullable=False),
    sa.Column('started_at', sa.String(length=27), nullable=False),
    sa.Column('ended_at', sa.String(length=27), nullable=False),
    sa.Column('outcome', sa.String(length=16), nullable=False),
    sa.Column('message', sa.Text(), nullable=True),
    sa.Column('exchanges', sa.Text(), nullable=False),
    sa.ForeignKeyConstraint(['task_id'], ['task.id'], name=op.f('fk_task_attempt_task_id_task')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_task_attempt'))
    )
    with op.batch_alter_table('task_attempt', schema=None) as batch_op:
        batch_op.create_index(batch_op.f('ix_task_attempt_task_id'), ['task_id'], unique=False)


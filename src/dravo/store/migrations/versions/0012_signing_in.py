"""signing in"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = '0012'
down_revision = '0011'


def upgrade() -> None:
    """Bring the schema one step on."""
    op.create_table('operator_recovery',
    sa.Column('operator_id', sa.String(length=36), nullable=False),
    sa.Column('hash', sa.String(length=64), nullable=False),
    sa.Column('used_at', sa.String(length=27), nullable=True),
    sa.ForeignKeyConstraint(['operator_id'], ['operator.id'], name=op.f('fk_operator_recovery_operator_id_operator')),
    sa.PrimaryKeyConstraint('hash', name=op.f('pk_operator_recovery'))
    )
    with op.batch_alter_table('operator_recovery', schema=None) as batch_op:
        batch_op.create_index(batch_op.f('ix_operator_recovery_operator_id'), ['operator_id'], unique=False)

    op.create_table('sign_in_begun',
    sa.Column('state_hash', sa.String(length=64), nullable=False),
    sa.Column('source_id', sa.String(length=36), nullable=False),
    sa.Column('browser_hash', sa.String(length=64), nullable=False),
    sa.Column('request_id', sa.String(length=80), nullable=True),
    sa.Column('secret', sa.Text(), nullable=True),
    sa.Column('trial_id', sa.String(length=36), nullable=True),
    sa.Column('back', sa.Text(), nullable=False),
    sa.Column('until_at', sa.String(length=27), nullable=False),
    sa.ForeignKeyConstraint(['source_id'], ['source.id'], name=op.f('fk_sign_in_begun_source_id_source')),
    sa.PrimaryKeyConstraint('state_hash', name=op.f('pk_sign_in_begun'))
    )
    with op.batch_alter_table('sign_in_begun', schema=None) as batch_op:
        batch_op.create_index('ix_sign_in_begun_until', ['until_at'], unique=False)

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

    op.create_table('sign_in_seen',
    sa.Column('source_id', sa.String(length=36), nullable=False),
    sa.Column('once_hash', sa.String(length=64), nullable=False),
    sa.Column('until_at', sa.String(length=27), nullable=False),
    sa.ForeignKeyConstraint(['source_id'], ['source.id'], name=op.f('fk_sign_in_seen_source_id_source')),
    sa.UniqueConstraint('source_id', 'once_hash', name=op.f('uq_sign_in_seen_source_id_once_hash'))
    )
    with op.batch_alter_table('sign_in_seen', schema=None) as batch_op:
        batch_op.create_index('ix_sign_in_seen_until', ['until_at'], unique=False)

    op.create_table('sign_in_trace',
    sa.Column('id', sa.String(length=36), nullable=False),
    sa.Column('source_id', sa.String(length=36), nullable=False),
    sa.Column('at', sa.String(length=27), nullable=False),
    sa.Column('trial_id', sa.String(length=36), nullable=True),
    sa.Column('outcome', sa.String(length=10), nullable=False),
    sa.Column('reason', sa.String(length=40), nullable=True),
    sa.Column('message', sa.Text(), nullable=False),
    sa.Column('mend', sa.Text(), nullable=False),
    sa.Column('name', sa.Text(), nullable=False),
    sa.Column('user_id', sa.String(length=36), nullable=True),
    sa.Column('steps', sa.Text(), nullable=False),
    sa.Column('arrived', sa.Text(), nullable=False),
    sa.Column('came_to', sa.Text(), nullable=False),
    sa.Column('raw', sa.Text(), nullable=True),
    sa.ForeignKeyConstraint(['source_id'], ['source.id'], name=op.f('fk_sign_in_trace_source_id_source')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_sign_in_trace'))
    )
    with op.batch_alter_table('sign_in_trace', schema=None) as batch_op:
        batch_op.create_index('ix_sign_in_trace_of_source', ['source_id', 'id'], unique=False)
        batch_op.create_index('ix_sign_in_trace_of_trial', ['trial_id'], unique=False, sqlite_where=sa.text('trial_id IS NOT NULL'), postgresql_where=sa.text('trial_id IS NOT NULL'))

    op.create_table('sign_in_trial',
    sa.Column('id', sa.String(length=36), nullable=False),
    sa.Column('source_id', sa.String(length=36), nullable=False),
    sa.Column('hash', sa.String(length=64), nullable=False),
    sa.Column('person', sa.Text(), nullable=False),
    sa.Column('person_key', sa.Text(), nullable=False),
    sa.Column('mode', sa.String(length=10), nullable=False),
    sa.Column('created_by', sa.Text(), nullable=False),
    sa.Column('created_at', sa.String(length=27), nullable=False),
    sa.Column('until_at', sa.String(length=27), nullable=False),
    sa.ForeignKeyConstraint(['source_id'], ['source.id'], name=op.f('fk_sign_in_trial_source_id_source')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_sign_in_trial')),
    sa.UniqueConstraint('hash', name=op.f('uq_sign_in_trial_hash'))
    )
    with op.batch_alter_table('sign_in_trial', schema=None) as batch_op:
        batch_op.create_index(batch_op.f('ix_sign_in_trial_source_id'), ['source_id'], unique=False)

    op.create_table('source_sign_in',
    sa.Column('source_id', sa.String(length=36), nullable=False),
    sa.Column('protocol', sa.String(length=8), nullable=False),
    sa.Column('settings', sa.Text(), nullable=False),
    sa.Column('provider', sa.Text(), nullable=False),
    sa.Column('policy', sa.Text(), nullable=True),
    sa.Column('secret', sa.Text(), nullable=True),
    sa.Column('state', sa.String(length=12), server_default='off', nullable=False),
    sa.Column('everybody_at', sa.String(length=27), nullable=True),
    sa.Column('proved_at', sa.String(length=27), nullable=True),
    sa.Column('looked_at', sa.String(length=27), nullable=True),
    sa.Column('trouble', sa.Text(), nullable=True),
    sa.Column('waiting', sa.Text(), nullable=True),
    sa.Column('changed_at', sa.String(length=27), nullable=False),
    sa.ForeignKeyConstraint(['source_id'], ['source.id'], name=op.f('fk_source_sign_in_source_id_source')),
    sa.PrimaryKeyConstraint('source_id', name=op.f('pk_source_sign_in'))
    )
    op.create_table('visit',
    sa.Column('id', sa.String(length=36), nullable=False),
    sa.Column('hash', sa.String(length=64), nullable=False),
    sa.Column('user_id', sa.String(length=36), nullable=False),
    sa.Column('source_id', sa.String(length=36), nullable=False),
    sa.Column('csrf', sa.String(length=64), nullable=False),
    sa.Column('session', sa.Text(), nullable=True),
    sa.Column('subject', sa.Text(), nullable=False),
    sa.Column('subject_format', sa.Text(), nullable=True),
    sa.Column('created_at', sa.String(length=27), nullable=False),
    sa.Column('last_seen_at', sa.String(length=27), nullable=False),
    sa.Column('until_at', sa.String(length=27), nullable=False),
    sa.ForeignKeyConstraint(['source_id'], ['source.id'], name=op.f('fk_visit_source_id_source')),
    sa.ForeignKeyConstraint(['user_id'], ['user.id'], name=op.f('fk_visit_user_id_user')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_visit')),
    sa.UniqueConstraint('hash', name=op.f('uq_visit_hash'))
    )
    with op.batch_alter_table('visit', schema=None) as batch_op:
        batch_op.create_index('ix_visit_until', ['until_at'], unique=False)
        batch_op.create_index(batch_op.f('ix_visit_user_id'), ['user_id'], unique=False)

    with op.batch_alter_table('application', schema=None) as batch_op:
        batch_op.add_column(sa.Column('address', sa.Text(), nullable=True))
        batch_op.add_column(sa.Column('hidden', sa.Boolean(), server_default='0', nullable=False))

    with op.batch_alter_table('conflict', schema=None) as batch_op:
        batch_op.add_column(sa.Column('channel', sa.String(length=16), server_default='pull', nullable=False))

    with op.batch_alter_table('operator', schema=None) as batch_op:
        batch_op.add_column(sa.Column('factor_secret', sa.Text(), nullable=True))
        batch_op.add_column(sa.Column('factor_pending', sa.Text(), nullable=True))
        batch_op.add_column(sa.Column('factor_at', sa.String(length=27), nullable=True))
        batch_op.add_column(sa.Column('factor_counter', sa.Integer(), nullable=True))

    with op.batch_alter_table('record', schema=None) as batch_op:
        batch_op.add_column(sa.Column('heard_at', sa.String(length=27), nullable=True))
        batch_op.create_index('ix_record_heard', ['source_id', 'heard_at'], unique=False, sqlite_where=sa.text('heard_at IS NOT NULL'), postgresql_where=sa.text('heard_at IS NOT NULL'))


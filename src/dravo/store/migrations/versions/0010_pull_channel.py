"""pull channel"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = '0010'
down_revision = '0009'


def upgrade() -> None:
    """Bring the schema one step on."""
    op.create_table('conflict',
    sa.Column('id', sa.String(length=36), nullable=False),
    sa.Column('source_id', sa.String(length=36), nullable=False),
    sa.Column('subject', sa.String(length=8), nullable=False),
    sa.Column('native_id', sa.Text(), nullable=False),
    sa.Column('kind', sa.String(length=20), nullable=False),
    sa.Column('name', sa.Text(), nullable=False),
    sa.Column('message', sa.Text(), nullable=False),
    sa.Column('entry', sa.Text(), nullable=False),
    sa.Column('candidates', sa.Text(), nullable=False),
    sa.Column('state', sa.String(length=16), nullable=False),
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
        batch_op.create_index('ix_conflict_open', ['source_id', 'id'], unique=False, sqlite_where=sa.text("state = 'open'"), postgresql_where=sa.text("state = 'open'"))
        batch_op.create_index('uq_conflict', ['source_id', 'subject', 'native_id'], unique=True, sqlite_where=sa.text("state != 'over'"), postgresql_where=sa.text("state != 'over'"))

    op.create_table('source_pull',
    sa.Column('source_id', sa.String(length=36), nullable=False),
    sa.Column('kind', sa.String(length=16), nullable=False),
    sa.Column('settings', sa.Text(), nullable=False),
    sa.Column('secret', sa.Text(), nullable=True),
    sa.Column('in_force', sa.Boolean(), nullable=False),
    sa.Column('in_force_at', sa.String(length=27), nullable=True),
    sa.Column('schedule', sa.String(length=100), nullable=False),
    sa.Column('next_at', sa.String(length=27), nullable=True),
    sa.Column('mark', sa.Text(), nullable=True),
    sa.Column('full_at', sa.String(length=27), nullable=True),
    sa.Column('checked', sa.Text(), nullable=True),
    sa.Column('checked_at', sa.String(length=27), nullable=True),
    sa.ForeignKeyConstraint(['source_id'], ['source.id'], name=op.f('fk_source_pull_source_id_source')),
    sa.PrimaryKeyConstraint('source_id', name=op.f('pk_source_pull'))
    )
    with op.batch_alter_table('group', schema=None) as batch_op:
        batch_op.add_column(sa.Column('native_id', sa.Text(), nullable=True))
        batch_op.add_column(sa.Column('locator', sa.Text(), nullable=True))
        batch_op.add_column(sa.Column('digest', sa.String(length=32), nullable=True))
        batch_op.create_index('uq_group_native_id', ['source_id', 'channel', 'native_id'], unique=True, sqlite_where=sa.text('native_id IS NOT NULL'), postgresql_where=sa.text('native_id IS NOT NULL'))

    with op.batch_alter_table('record', schema=None) as batch_op:
        batch_op.add_column(sa.Column('native_id', sa.Text(), nullable=True))
        batch_op.add_column(sa.Column('locator', sa.Text(), nullable=True))
        batch_op.add_column(sa.Column('digest', sa.String(length=32), nullable=True))
        batch_op.add_column(sa.Column('said', sa.Text(), nullable=True))
        batch_op.create_index('ix_record_locator', ['source_id', 'locator'], unique=False, sqlite_where=sa.text('gone_at IS NULL AND locator IS NOT NULL'), postgresql_where=sa.text('gone_at IS NULL AND locator IS NOT NULL'))
        batch_op.create_index('uq_record_native_id', ['source_id', 'channel', 'native_id'], unique=True, sqlite_where=sa.text('native_id IS NOT NULL'), postgresql_where=sa.text('native_id IS NOT NULL'))

    with op.batch_alter_table('run', schema=None) as batch_op:
        batch_op.add_column(sa.Column('source_id', sa.String(length=36), nullable=True))
        batch_op.add_column(sa.Column('whole', sa.Boolean(), nullable=True))
        batch_op.add_column(sa.Column('look_only', sa.Boolean(), nullable=True))
        batch_op.add_column(sa.Column('let_leave', sa.Boolean(), nullable=True))
        batch_op.create_index('ix_run_of_source', ['source_id', 'id'], unique=False, sqlite_where=sa.text('source_id IS NOT NULL'), postgresql_where=sa.text('source_id IS NOT NULL'))
        batch_op.create_foreign_key(batch_op.f('fk_run_source_id_source'), 'source', ['source_id'], ['id'])

    op.create_table('run_line',
    sa.Column('id', sa.Integer(), nullable=False),
    sa.Column('run_id', sa.String(length=36), nullable=False),
    sa.Column('kind', sa.String(length=16), nullable=False),
    sa.Column('user_id', sa.String(length=36), nullable=True),
    sa.Column('name', sa.Text(), nullable=False),
    sa.Column('changes', sa.Text(), nullable=True),
    sa.Column('message', sa.Text(), nullable=True),
    sa.ForeignKeyConstraint(['run_id'], ['run.id'], name=op.f('fk_run_line_run_id_run')),
    sa.ForeignKeyConstraint(['user_id'], ['user.id'], name=op.f('fk_run_line_user_id_user')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_run_line'))
    )
    with op.batch_alter_table('run_line', schema=None) as batch_op:
        batch_op.create_index('ix_run_line', ['run_id', 'kind', 'id'], unique=False)

    with op.batch_alter_table('source', schema=None) as batch_op:
        batch_op.add_column(sa.Column('policy', sa.Text(), nullable=True))
        batch_op.add_column(sa.Column('veto', sa.Boolean(), server_default='0', nullable=False))
        batch_op.add_column(sa.Column('updates', sa.Boolean(), server_default='1', nullable=False))

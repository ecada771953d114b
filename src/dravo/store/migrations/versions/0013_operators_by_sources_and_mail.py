"""operators by sources and mail"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = '0013'
down_revision = '0012'


def upgrade() -> None:
    """Bring the schema one step on."""
    op.create_table('mail_due',
    sa.Column('id', sa.String(length=36), nullable=False),
    sa.Column('content', sa.Text(), nullable=False),
    sa.Column('made_at', sa.String(length=27), nullable=False),
    sa.Column('until_at', sa.String(length=27), nullable=False),
    sa.Column('next_at', sa.String(length=27), nullable=False),
    sa.Column('tries', sa.Integer(), server_default='0', nullable=False),
    sa.Column('trouble', sa.Text(), nullable=True),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_mail_due'))
    )
    with op.batch_alter_table('mail_due', schema=None) as batch_op:
        batch_op.create_index('ix_mail_due_next', ['next_at'], unique=False)

    op.create_table('operator_link',
    sa.Column('id', sa.String(length=36), nullable=False),
    sa.Column('operator_id', sa.String(length=36), nullable=False),
    sa.Column('source_id', sa.String(length=36), nullable=False),
    sa.Column('native_id', sa.Text(), nullable=False),
    sa.Column('subject', sa.Text(), nullable=False),
    sa.Column('made_at', sa.String(length=27), nullable=False),
    sa.Column('last_used_at', sa.String(length=27), nullable=False),
    sa.ForeignKeyConstraint(['operator_id'], ['operator.id'], name=op.f('fk_operator_link_operator_id_operator')),
    sa.ForeignKeyConstraint(['source_id'], ['source.id'], name=op.f('fk_operator_link_source_id_source')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_operator_link')),
    sa.UniqueConstraint('source_id', 'native_id', name=op.f('uq_operator_link_source_id_native_id'))
    )
    with op.batch_alter_table('operator_link', schema=None) as batch_op:
        batch_op.create_index(batch_op.f('ix_operator_link_operator_id'), ['operator_id'], unique=False)

    with op.batch_alter_table('operator', schema=None) as batch_op:
        batch_op.add_column(sa.Column('only_by_source', sa.Boolean(), server_default='0', nullable=False))

    with op.batch_alter_table('operator_session', schema=None) as batch_op:
        batch_op.add_column(sa.Column('source_id', sa.String(length=36), nullable=True))
        batch_op.add_column(sa.Column('provider_session', sa.Text(), nullable=True))
        batch_op.add_column(sa.Column('subject', sa.Text(), nullable=True))
        batch_op.add_column(sa.Column('subject_format', sa.Text(), nullable=True))

    with op.batch_alter_table('sign_in_begun', schema=None) as batch_op:
        batch_op.add_column(sa.Column('operator_id', sa.String(length=36), nullable=True))
        batch_op.add_column(sa.Column('begun_at', sa.String(length=27), nullable=True))
        batch_op.add_column(sa.Column('tries', sa.Integer(), server_default='0', nullable=False))

    with op.batch_alter_table('source_sign_in', schema=None) as batch_op:
        batch_op.add_column(sa.Column('serves', sa.String(length=12), server_default='people', nullable=False))


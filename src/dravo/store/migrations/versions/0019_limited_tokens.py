"""API tokens with parents and limited to permissions"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = '0019'
down_revision = '0018'


def upgrade() -> None:
    """Bring the schema one step on."""
    with op.batch_alter_table('api_token', schema=None) as batch_op:
        batch_op.add_column(sa.Column('parent_id', sa.String(length=36), nullable=True))
        batch_op.add_column(sa.Column('permissions', sa.Text(), nullable=True))
        batch_op.create_index(batch_op.f('ix_api_token_parent_id'), ['parent_id'], unique=False)

"""since when a list of accounts says something of one"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = '0016'
down_revision = '0015'


def upgrade() -> None:
    """Bring the schema one step on."""
    with op.batch_alter_table('account', schema=None) as batch_op:
        batch_op.add_column(sa.Column('lists_from_at', sa.String(length=27), nullable=True))

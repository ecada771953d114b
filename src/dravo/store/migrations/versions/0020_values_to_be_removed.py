"""values in applications that a repair removes"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = '0020'
down_revision = '0019'


def upgrade() -> None:
    """Bring the schema one step on."""
    with op.batch_alter_table('account', schema=None) as batch_op:
        batch_op.add_column(sa.Column('to_empty', sa.Text(), nullable=True))

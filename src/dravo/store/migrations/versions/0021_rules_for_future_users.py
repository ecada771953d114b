"""rules whose future users were confirmed"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = '0021'
down_revision = '0020'


def upgrade() -> None:
    """Bring the schema one step on."""
    with op.batch_alter_table('assignment', schema=None) as batch_op:
        batch_op.add_column(sa.Column('future_users', sa.Boolean(), server_default='0', nullable=False))

"""how often a run ended the worker"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = '0014'
down_revision = '0013'


def upgrade() -> None:
    """Bring the schema one step on."""
    with op.batch_alter_table('run', schema=None) as batch_op:
        batch_op.add_column(sa.Column('broke_off', sa.Integer(), server_default='0', nullable=False))

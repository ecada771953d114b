"""domains of sources, and records of which nobody has decided whose they are"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = '0017'
down_revision = '0016'


def upgrade() -> None:
    """Bring the schema one step on."""
    with op.batch_alter_table('source', schema=None) as batch_op:
        batch_op.add_column(sa.Column('domains', sa.Text(), nullable=True))
    with op.batch_alter_table('record', schema=None) as batch_op:
        batch_op.add_column(sa.Column('undecided', sa.Boolean(), server_default='0', nullable=False))

"""held removals"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = '0015'
down_revision = '0014'


def upgrade() -> None:
    """Bring the schema one step on."""
    with op.batch_alter_table('delivery', schema=None) as batch_op:
        batch_op.add_column(sa.Column('held_at', sa.String(length=27), nullable=True))
        held = sa.text('held_at IS NOT NULL AND closed_at IS NULL')
        batch_op.create_index('ix_delivery_held', ['application_id'], unique=False, sqlite_where=held, postgresql_where=held)
    op.execute("UPDATE delivery SET held_at = created_at WHERE state = 'held' AND kind = 'guard' AND closed_at IS NULL")

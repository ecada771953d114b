"""indexes that answer alone"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = '0011'
down_revision = '0010'


def upgrade() -> None:
    """Bring the schema one step on."""
    with op.batch_alter_table('access', schema=None) as batch_op:
        batch_op.drop_index(batch_op.f('ix_access_of_application'), sqlite_where=sa.text('until_at IS NULL'))
        batch_op.create_index('ix_access_of_application', ['application_id', 'user_id', 'until_at'], unique=False, sqlite_where=sa.text('until_at IS NULL'), postgresql_where=sa.text('until_at IS NULL'))

    with op.batch_alter_table('user', schema=None) as batch_op:
        batch_op.drop_index(batch_op.f('ix_user_display'))
        batch_op.create_index('ix_user_display', ['display_name_key', 'id', 'user_name_key', 'email_key'], unique=False)
        batch_op.drop_index(batch_op.f('ix_user_state'))
        batch_op.create_index('ix_user_state', ['active', 'gone_at', 'display_name_key', 'id'], unique=False)


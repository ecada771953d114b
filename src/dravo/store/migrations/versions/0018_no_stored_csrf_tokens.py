"""CSRF tokens follow from the session's secret and are not stored any more"""

from __future__ import annotations

from alembic import op

revision = '0018'
down_revision = '0017'


def upgrade() -> None:
    """Bring the schema one step on."""
    for table in ('operator_session', 'visit'):
        with op.batch_alter_table(table, schema=None) as batch_op:
            batch_op.drop_column('csrf')

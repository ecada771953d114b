"""How often a run ended the worker.

Revision ID: 0014
Revises: 0013
"""

import sqlalchemy as sa
from alembic import op

revision = "0014"
down_revision = "0013"
branch_labels = None
depends_on = None


def upgrade() -> None:
    with op.batch_alter_table("run") as batch_op:
        batch_op.add_column(sa.Column("broke_off", sa.Integer(), server_default="0", nullable=False))

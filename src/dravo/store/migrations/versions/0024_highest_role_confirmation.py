"""Count the users from whom on a highest role needs a confirmation, not those who get it without one."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0024"
down_revision = "0023"


def upgrade() -> None:
    """Rename the setting; a stored number keeps its effect."""
    rows = op.get_bind().execute(sa.text("SELECT value FROM setting WHERE name = 'highest_role_limit'")).all()
    for (value,) in rows:
        op.get_bind().execute(
            sa.text(
                "UPDATE setting SET name = 'highest_role_confirmation', value = :value "
                "WHERE name = 'highest_role_limit'"
            ),
            {"value": str(min(int(value) + 1, 1_000_000))},
        )

"""The place of a claim among those of its sample, where somebody has put them in order."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Add it; without one a claim stands where it was typed."""
    op.add_column("claim", sa.Column("place", sa.Integer(), nullable=True))


def downgrade() -> None:
    """Take it away."""
    op.drop_column("claim", "place")

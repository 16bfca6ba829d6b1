"""What places (a room, a freezer, a shelf) were like, read now and then between runs."""

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Add them."""
    op.create_table(
        "place_reading",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("place", sa.String(), nullable=False),
        sa.Column("at_utc", sa.String(), nullable=False),
        sa.Column("temperature_C", sa.Float(), nullable=False),
        sa.Column("source", sa.String(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("ix_place_reading_place_at", "place_reading", ["place", "at_utc"])


def downgrade() -> None:
    """Take them away."""
    op.drop_index("ix_place_reading_place_at", "place_reading")
    op.drop_table("place_reading")

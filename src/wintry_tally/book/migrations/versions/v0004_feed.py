"""The feed of changes, and the lease of whoever has a running run."""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Add them."""
    op.create_table(
        "change",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("origin", sa.String(), nullable=False),
        sa.Column("topic", sa.String(), nullable=False),
        sa.Column("sample_id", sa.Integer(), nullable=True),
        sa.PrimaryKeyConstraint("id"),
        sqlite_autoincrement=True,
    )
    op.add_column("run", sa.Column("lease", sa.String(), nullable=True))


def downgrade() -> None:
    """Take them away."""
    op.drop_column("run", "lease")
    op.drop_table("change")

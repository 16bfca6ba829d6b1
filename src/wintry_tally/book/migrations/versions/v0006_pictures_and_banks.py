"""Photographs and printed pages, kept with the sample that they show; which units a bank is made of."""

import sqlalchemy as sa
from alembic import op

revision = "0006"
down_revision = "0005"
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Add them."""
    op.create_table(
        "attachment",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("sample_id", sa.Integer(), nullable=False),
        sa.Column("run_id", sa.Integer(), nullable=True),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("caption", sa.Text(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("media", sa.String(), nullable=False),
        sa.Column("sha256", sa.String(), nullable=False),
        sa.Column("size", sa.Integer(), nullable=False),
        sa.Column("added_utc", sa.String(), nullable=False),
        sa.Column("removed", sa.Boolean(), nullable=False),
        sa.Column("small", sa.LargeBinary(), nullable=False),
        sa.Column("content", sa.LargeBinary(), nullable=False),
        sa.ForeignKeyConstraint(["sample_id"], ["sample.id"], ondelete="CASCADE"),
        sa.ForeignKeyConstraint(["run_id"], ["run.id"], ondelete="SET NULL"),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("ix_attachment_sample_id", "attachment", ["sample_id"])
    op.create_table(
        "bank_unit",
        sa.Column("bank_id", sa.Integer(), nullable=False),
        sa.Column("unit_id", sa.Integer(), nullable=False),
        sa.Column("place", sa.Integer(), nullable=False),
        sa.Column("series", sa.Integer(), nullable=False),
        sa.ForeignKeyConstraint(["bank_id"], ["sample.id"], ondelete="CASCADE"),
        sa.ForeignKeyConstraint(["unit_id"], ["sample.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("bank_id", "unit_id"),
    )


def downgrade() -> None:
    """Take them away."""
    op.drop_table("bank_unit")
    op.drop_index("ix_attachment_sample_id", "attachment")
    op.drop_table("attachment")

"""The first tables."""

import sqlalchemy as sa
from alembic import op

revision = "0001"
down_revision = None
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Make the first tables."""
    op.create_table(
        "meta",
        sa.Column("key", sa.String(), nullable=False),
        sa.Column("value", sa.Text(), nullable=False),
        sa.PrimaryKeyConstraint("key"),
    )
    op.create_table(
        "sample",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("code", sa.String(), nullable=False),
        sa.Column("maker", sa.String(), nullable=False),
        sa.Column("model", sa.String(), nullable=False),
        sa.Column("family", sa.String(), nullable=False),
        sa.Column("rested_V", sa.Float(), nullable=True),
        sa.Column("rested", sa.Boolean(), nullable=False),
        sa.Column("mass_kg", sa.Float(), nullable=True),
        sa.Column("mass_limit_kg", sa.Float(), nullable=True),
        sa.Column("obtained", sa.String(), nullable=False),
        sa.Column("received", sa.String(), nullable=False),
        sa.Column("tight", sa.Boolean(), nullable=True),
        sa.Column("polarity", sa.Boolean(), nullable=True),
        sa.Column("notes", sa.Text(), nullable=False),
        sa.Column("prose", sa.Text(), nullable=False),
        sa.Column("removed", sa.Boolean(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("code"),
    )
    op.create_table(
        "claim",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("sample_id", sa.Integer(), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("value", sa.Float(), nullable=True),
        sa.Column("unit", sa.String(), nullable=False),
        sa.Column("direction", sa.String(), nullable=False),
        sa.Column("tolerance", sa.Float(), nullable=False),
        sa.Column("conditions", sa.Text(), nullable=False),
        sa.Column("source", sa.String(), nullable=False),
        sa.Column("dated", sa.String(), nullable=False),
        sa.Column("text", sa.Text(), nullable=False),
        sa.Column("wanted", sa.Boolean(), nullable=True),
        sa.ForeignKeyConstraint(["sample_id"], ["sample.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index(op.f("ix_claim_sample_id"), "claim", ["sample_id"], unique=False)
    op.create_table(
        "run",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("sample_id", sa.Integer(), nullable=False),
        sa.Column("station", sa.String(), nullable=False),
        sa.Column("title", sa.String(), nullable=False),
        sa.Column("method", sa.String(), nullable=False),
        sa.Column("status", sa.String(), nullable=False),
        sa.Column("started_utc", sa.String(), nullable=False),
        sa.Column("ended_utc", sa.String(), nullable=False),
        sa.Column("recipe", sa.Text(), nullable=False),
        sa.Column("settings", sa.Text(), nullable=False),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("bench", sa.Text(), nullable=False),
        sa.Column("cause", sa.String(), nullable=False),
        sa.Column("detail", sa.Text(), nullable=False),
        sa.Column("owner", sa.String(), nullable=False),
        sa.Column("left_out", sa.Boolean(), nullable=False),
        sa.Column("repair", sa.String(), nullable=False),
        sa.Column("original_name", sa.String(), nullable=False),
        sa.ForeignKeyConstraint(["sample_id"], ["sample.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index(op.f("ix_run_sample_id"), "run", ["sample_id"], unique=False)
    op.create_table(
        "event",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("run_id", sa.Integer(), nullable=False),
        sa.Column("at_s", sa.Float(), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("message", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(["run_id"], ["run.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index(op.f("ix_event_run_id"), "event", ["run_id"], unique=False)
    op.create_table(
        "original",
        sa.Column("run_id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("sha256", sa.String(), nullable=False),
        sa.Column("gzip", sa.LargeBinary(), nullable=False),
        sa.ForeignKeyConstraint(["run_id"], ["run.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("run_id"),
    )
    op.create_table(
        "reading",
        sa.Column("run_id", sa.Integer(), nullable=False),
        sa.Column("seq", sa.Integer(), nullable=False),
        sa.Column("elapsed_s", sa.Float(), nullable=False),
        sa.Column("voltage_V", sa.Float(), nullable=True),
        sa.Column("current_A", sa.Float(), nullable=True),
        sa.Column("temperature_C", sa.Float(), nullable=True),
        sa.Column("counter_Ah", sa.Float(), nullable=True),
        sa.Column("note", sa.Text(), nullable=True),
        sa.ForeignKeyConstraint(["run_id"], ["run.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("run_id", "seq"),
        sqlite_with_rowid=False,
    )
    op.create_table(
        "sealed",
        sa.Column("run_id", sa.Integer(), nullable=False),
        sa.Column("rows", sa.Integer(), nullable=False),
        sa.Column("parquet", sa.LargeBinary(), nullable=False),
        sa.ForeignKeyConstraint(["run_id"], ["run.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("run_id"),
    )


def downgrade() -> None:
    """Remove them."""
    op.drop_table("sealed")
    op.drop_table("reading")
    op.drop_table("original")
    op.drop_table("event")
    op.drop_table("run")
    op.drop_table("claim")
    op.drop_table("sample")
    op.drop_table("meta")

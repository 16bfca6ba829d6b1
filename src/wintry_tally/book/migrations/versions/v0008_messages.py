"""Events, and what was seen at a run's end, as messages: a code with its parts instead of a sentence.

A sentence that no template of the catalogue made (a note, an instrument's own words) is kept as it is, as own words.
"""

from __future__ import annotations

import json

import sqlalchemy as sa
from alembic import op

from wintry_tally.core.message import message_data, message_from
from wintry_tally.core.message.reading_back import read_back

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None

RUN = sa.table("run", sa.column("id"), sa.column("detail"), sa.column("state"))
EVENT = sa.table("event", sa.column("id"), sa.column("kind"), sa.column("message"))
OWN_KINDS = {"mark", "note", "acknowledged"}
"""Events in somebody's own words, or a recipe's."""
BEGINS = ("step-begun",)


def upgrade() -> None:
    """Sentences into messages."""
    line = op.get_bind()
    for number, kind, words in line.execute(sa.select(EVENT.c.id, EVENT.c.kind, EVENT.c.message)).all():
        codes = BEGINS if str(kind).startswith("start-") or kind == "ask" else ()
        told = str(words) if kind in OWN_KINDS else read_back(str(words), codes)
        line.execute(EVENT.update().where(EVENT.c.id == number).values(message=_text(told)))
    for number, detail, state in line.execute(sa.select(RUN.c.id, RUN.c.detail, RUN.c.state)).all():
        line.execute(
            RUN.update()
            .where(RUN.c.id == number)
            .values(detail=_text(read_back(str(detail))) if detail else "", state=_state(str(state)))
        )


def _text(words: str) -> str:
    return json.dumps(message_data(words), ensure_ascii=False)


def _state(text: str) -> str:
    """How far a run had come; one that cannot be read is left for whoever reads it to tell."""
    try:
        state = json.loads(text)
    except ValueError:
        return text
    if not isinstance(state, dict) or not state:
        return text
    if isinstance(state.get("detail"), str) and state["detail"]:
        state["detail"] = message_data(read_back(state["detail"]))
    warned = state.get("warned")
    if isinstance(warned, list):
        state["warned"] = [
            [one[0], message_data(read_back(str(one[1])))] if isinstance(one, list) and len(one) == 2 else one
            for one in warned
        ]
    return json.dumps(state)


def _words(text: str) -> str:
    return str(message_from(json.loads(text))) if text else ""


def downgrade() -> None:
    """Messages into sentences."""
    line = op.get_bind()
    for number, text in line.execute(sa.select(EVENT.c.id, EVENT.c.message)).all():
        line.execute(EVENT.update().where(EVENT.c.id == number).values(message=_words(text)))
    for number, detail, state in line.execute(sa.select(RUN.c.id, RUN.c.detail, RUN.c.state)).all():
        plain = json.loads(state)
        if isinstance(plain, dict) and plain:
            plain["detail"] = str(message_from(plain.get("detail", "")))
            plain["warned"] = [[key, str(message_from(words))] for key, words in plain.get("warned") or ()]
        line.execute(RUN.update().where(RUN.c.id == number).values(detail=_words(detail), state=json.dumps(plain)))

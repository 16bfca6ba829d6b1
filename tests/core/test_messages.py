"""Messages as data: kept as a code with parts, put into words by the catalogue, and read back from old sentences."""

from __future__ import annotations

import ast
import copy
import json
import pickle
import re
import string
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import wintry_tally
from wintry_tally.core.battery import CLAIM_KINDS
from wintry_tally.core.message import (
    NOTHING,
    OWN,
    Message,
    english,
    message_data,
    message_from,
    said,
    sentences,
    several,
    words_of,
)
from wintry_tally.core.message.english import ENGLISH, RUNNING
from wintry_tally.core.message.reading_back import read_back

ROOT = Path(wintry_tally.__file__).parent
NUMBERS = st.floats(-1e4, 1e4).map(lambda value: round(value, 3))
NAMES = st.text(st.characters(categories=("L", "N", "Zs", "P")), min_size=1, max_size=20)


def fields(code: str) -> dict[str, str]:
    return {name: spec or "" for _, name, spec, _ in string.Formatter().parse(ENGLISH[code]) if name}


def is_number(spec: str) -> bool:
    return spec[-1:] in {"f", "g"} or spec[:1] in {"?", "~"}


@st.composite
def messages(draw: st.DrawFn) -> Message:
    code = draw(st.sampled_from(sorted(set(ENGLISH) - {"nothing"})))
    parts = {}
    for name, spec in fields(code).items():
        if is_number(spec):
            parts[name] = draw(NUMBERS)
        elif spec.startswith("%"):
            parts[name] = "2026-11-25T21:00:00+00:00"
        else:
            parts[name] = tuple(draw(st.lists(NAMES, min_size=1, max_size=3))) if spec else draw(NAMES)
    return Message(code, parts)


@given(messages(), messages())
def test_what_is_kept_comes_back_and_carries_messages_within(one: Message, other: Message) -> None:
    whole = said("stopped-seen", cause=one, seen=several([other, said("finished")]))
    again = message_from(json.loads(json.dumps(message_data(whole))))
    assert again == whole and again.code == whole.code and again.parts == whole.parts
    within = again.parts["cause"]
    assert isinstance(within, Message) and within.code == one.code and within.parts == one.parts
    for copied in (copy.deepcopy(whole), pickle.loads(pickle.dumps(whole))):
        assert copied.code == whole.code and copied.parts == whole.parts and copied == whole


@given(messages())
def test_a_sentence_is_read_back_letter_for_letter_or_kept_as_it_is(message: Message) -> None:
    found = read_back(str(message))
    assert found == str(message)
    if found.code == OWN:
        assert found.parts == {"words": str(message)}


@pytest.mark.parametrize("code", sorted(RUNNING))
def test_every_sentence_with_letters_of_its_own_is_known_again(code: str) -> None:
    """A book that kept words keeps messages from now on: by model, the template itself with numbers and plain names."""
    parts = {
        name: 12.5 if is_number(spec) else "2026-11-25T21:00:00+00:00" if spec[:1] == "%" else ("A",) if spec else "A"
        for name, spec in fields(code).items()
    }
    letters = len(re.findall(r"\w", re.sub(r"\{[^}]*\}", "", ENGLISH[code])))
    made = Message(code, parts)
    if letters >= 5 and ":%" not in ENGLISH[code]:
        found = read_back(str(made))
        assert found == made and found.code != OWN
        assert set(found.parts) == set(fields(found.code))
    assert NOTHING == "" and not NOTHING


def test_no_code_stands_in_two_tables() -> None:
    tables = [table for name, table in vars(english).items() if name.isupper() and name != "ENGLISH"]
    assert sum(map(len, tables)) == len(ENGLISH) and len(tables) > 1


def test_a_count_takes_its_word_and_seconds_are_told_as_a_duration() -> None:
    assert said("rows-blank", count=1) == "1 row without a complete reading left out."
    assert said("rows-blank", count=2) == "2 rows without a complete reading left out."
    assert said("begins-late", amps=5.0, seconds=7320.0).startswith(
        "begins while 5 A already flow, its clock at 2 h 02 min"
    )
    assert read_back(str(said("rows-blank", count=2))).code == OWN, "no book ever kept it as words"


def test_words_of_another_language_reach_the_messages_within() -> None:
    other = {**ENGLISH, "stopped-seen": "Halt: {cause} – {seen}", "cause-operator": "von Hand", "own": "„{words}“"}
    told = said("stopped-seen", cause=said("cause-operator"), seen=said(OWN, words="smoke"))
    assert words_of(told.code, told.parts, other) == "Halt: von Hand – „smoke“"


def test_what_no_catalogue_knows_is_told_and_not_lost() -> None:
    told = message_from({"code": "of-a-newer-program", "volts": 12.5})
    assert told.code == OWN and "of-a-newer-program" in told and "12.5" in told
    assert message_from({"code": "fell-to", "volts": "no number", "limit": 1}).code == OWN
    assert message_from("an old sentence").parts == {"words": "an old sentence"}
    assert message_from("") is NOTHING


def calls() -> Iterator[tuple[str, ast.Call]]:
    for path in sorted(ROOT.rglob("*.py")):
        source = path.read_text(encoding="utf-8")
        for node in ast.walk(ast.parse(source)) if "core.message" in source else ():
            if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id in {"said", "Message"}:
                yield f"{path.relative_to(ROOT)}:{node.lineno}", node


def codes_of(node: ast.expr) -> set[str]:
    """The codes that an expression can be: a word, a choice of two, or words with a name put in."""
    if isinstance(node, ast.Constant):
        return {str(node.value)}
    if isinstance(node, ast.IfExp):
        return codes_of(node.body) | codes_of(node.orelse)
    if isinstance(node, ast.JoinedStr):
        told = "".join(re.escape(str(v.value)) if isinstance(v, ast.Constant) else r"[a-z-]+" for v in node.values)
        return {code for code in ENGLISH if re.fullmatch(told, code)} or {told}
    return set()


def test_what_is_said_stands_in_the_catalogue_with_just_those_parts_and_all_of_it_is_said() -> None:
    used = set()
    for place, call in calls():
        for code in codes_of(call.args[0]) if call.args else ():
            assert code in ENGLISH, (place, code)
            used.add(code)
            names = {word.arg for word in call.keywords}
            if None not in names and not isinstance(call.args[0], ast.Name) and len(call.args) == 1:
                assert names == set(fields(code)), (place, code)
    source = "".join(path.read_text(encoding="utf-8") for path in ROOT.rglob("*.py") if path.name != "english.py")
    unused = {code for code in ENGLISH if code not in used and f'"{code}"' not in source}
    assert not unused


def test_whatever_stands_in_a_book_is_read_back_and_does_not_take_for_ever() -> None:
    for words in ("a: " * 600 + "finished", "x (" * 900 + ")" * 900, "; ".join(["finished"] * 200), "y" * 10**6):
        assert read_back(words) == words


@pytest.mark.parametrize(
    ("words", "code", "parts"),
    [
        ("9.97 V ≤ 10 V", "fell-to", {"volts": 9.97, "limit": 10.0}),
        ("-0.50 A at 14.40 V", "taken", {"amps": -0.5, "volts": 14.4}),
        (
            "load and charger says that it is still on: unplug A and B at the battery",
            "says-on",
            {"names": ("load", "charger")},
        ),
        ("cell 2 reads 1.82 V, below 2 V: it must not be charged again", "cell-below", {"cell": "2", "volts": 1.82}),
        ("after 300 s; no current, 0.00 V", "several", {}),
        ("after 300 s; finished; after 5 s", "several", {}),
        ("after 300 s; a word of somebody's", OWN, {}),
        ("a: b", OWN, {}),
        ("warm", OWN, {}),
        ("12.9 °C", "at-celsius", {"celsius": 12.9}),
        ("stopped: a stop limit was crossed", "stopped", {}),
        (" " * 2001, OWN, {}),
    ],
)
def test_what_a_sentence_was_made_of(words: str, code: str, parts: dict[str, object]) -> None:
    found = read_back(words)
    assert found == words and found.code == code
    assert {name: found.parts[name] for name in parts} == parts


def test_what_kind_of_sentence_it_is_helps() -> None:
    found = read_back("Discharge: begun", ("step-begun",))
    assert found.code == "step-begun" and found.parts["step"] == "Discharge"
    assert read_back("Lunch: noon", ("step-begun",)).code == "step-begun", "whatever the parts say"
    assert read_back("Lunch: noon").code == OWN


def test_several_are_one_where_only_one_says_anything() -> None:
    one, other = said("finished"), said("resumed")
    assert several([one]) is one and several(["", one, NOTHING]) is one
    both = several([one, other])
    assert both == "finished; resumed" and both.code == "several" and both.parts["messages"] == (one, other)
    assert several([one, "smoke"]) == "finished; smoke"
    within = read_back("stopped: a stop limit was crossed, 16.20 V is above 15 V").parts["seen"]
    assert isinstance(within, Message) and within.code == "volts-above"


def test_each_thing_said_is_a_sentence_of_its_own() -> None:
    told = several([said("on-the-limit"), said("cold-gave-more"), said("rows-reversed")])
    assert sentences(told) == [
        "It lies on the limit: no usual reading settles it.",
        "The cold one gave more than its warm twin: was the other one in the cold?",
        "The log runs from the newest row to the oldest; it is read in reverse.",
    ]
    assert sentences(said("on-shelf")) == ["It lies on the shelf: the test at its end settles it."]


def test_every_kind_of_claim_says_what_settles_it_or_that_nothing_here_does() -> None:
    for kind in CLAIM_KINDS.values():
        assert kind.beyond or f"settle-{kind.evidence}" in ENGLISH, kind.key


def test_no_words_of_the_catalogue_name_an_option_of_the_shell() -> None:
    """Window and page tell them too, and have no such thing."""
    named = [code for code, words in english.ENGLISH.items() if re.search(r"--[a-z]", words)]
    assert not named

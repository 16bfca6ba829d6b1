"""Formulas as pictures: what is drawn means what is written, and nothing of it is lost.

Reference: Python's own reader of expressions (`ast`), for the same relation in its signs.
"""

from __future__ import annotations

import math
import re
from concurrent.futures import ThreadPoolExecutor
from xml.etree import ElementTree as ET

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.amount import some
from wintry_tally.report.formula import Piece, formula_html, mathml, picture, pieces

NAMES = {"Q": 3.0, "I_1": 0.7, "u": 0.25, "price": 11.0, "C": 5.0, "V_full": 2.2}


def flat(element: ET.Element) -> str:
    """A set formula in Python's signs, written from the MathML standard and not from the reader's rules."""
    parts = [flat(child) for child in element]
    if element.tag == "mfrac":
        return f"(({parts[0]})/({parts[1]}))"
    if element.tag == "msqrt":
        return f"sqrt({''.join(parts)})"
    if element.tag == "msub":
        return f"{parts[0]}_{parts[1]}"
    if element.tag == "msup":
        return f"(({parts[0]})**{parts[1]})"
    if element.tag == "msubsup":
        return f"(({parts[0]}_{parts[1]})**{parts[2]})"
    if element.tag == "mspace":
        return " "
    own = element.text or ""
    return {"×": "*", "−": "-", "·": "*"}.get(own, own) + "".join(parts)


def worth(text: str) -> float:
    """The value of a set formula; two side by side are multiplied."""
    code = flat(ET.fromstring(mathml(text)))
    code = re.sub(r"(?<=[\w)]) +(?=[\w(])", "*", re.sub(r" *([*+\-/]) *", r"\1", code))
    return float(eval(code, {"sqrt": math.sqrt, **NAMES}))


def expressions() -> st.SearchStrategy[str]:
    atoms = st.sampled_from([*NAMES, "2", "0.5", "12"])

    def larger(inner: st.SearchStrategy[str]) -> st.SearchStrategy[str]:
        signs = st.sampled_from([" + ", " − ", " × ", " / "])
        return st.one_of(
            st.tuples(inner, signs, inner).map("".join),
            inner.map(lambda text: f"({text})"),
            inner.map(lambda text: f"√(({text})²)"),
            inner.map(lambda text: f"({text})²"),
        )

    return st.recursive(atoms, larger, max_leaves=8)


@given(expressions())
def test_what_is_drawn_is_worth_what_is_written(text: str) -> None:
    plain = text.replace("×", "*").replace("−", "-").replace("√", "sqrt").replace("²", "**2")
    try:
        expected = float(eval(plain, {"sqrt": math.sqrt, **NAMES}))
    except (ZeroDivisionError, OverflowError):
        return
    if mathml(text):
        assert worth(text) == pytest.approx(expected, rel=1e-9, abs=1e-9)
    else:
        assert not re.search(r"[×√]| / ", text), f"a relation is taken for words: {text}"


@pytest.mark.parametrize(
    ("text", "code"),
    [
        ("p = Φ((y − T) / u)", "p=Φ(((y-T)/(u)))"),
        ("s² = ((n − 1) s_seen² + 4 s_usual²) / (n + 3)", "((s)**2)=(((n-1) ((s_seen)**2)+4 ((s_usual)**2))/(n+3))"),
        ("R = (V1 − V2) / (I2 − I1)", "R=((V_1-V_2)/(I_2-I_1))"),
        ("Q = ∫ I dt", "Q=∫ I dt"),
        ("y = Σ y_i / n", "y=Σ ((y_i)/(n))"),
        ("price / 2 / C", "((price)/(2 * C))"),
        ("U = 2 √(Σ u²)", "U=2 sqrt(Σ ((u)**2))"),
        ("RC25 = RC_T [1 − 0.01 (T − 25)]", "RC25=RC_T [1-0.01 (T-25)]"),
        ("drop = 2 l R' I", "drop=2 l ((R)**′) I"),
        ("V at 125 min ≥ 10.50 V", "V at 125 min≥10.50 V"),
        ("t = Q / I of the device", "t=((Q)/(I)) of the device"),
        ("(a + b) / (c) / (d + e)", "((a+b)/((c) * (d+e)))"),
        ("(a) × (b + c) / (d)", "(((a) * (b+c))/(d))"),
    ],
)
def test_formulas_of_the_trade_as_they_are_set(text: str, code: str) -> None:
    assert flat(ET.fromstring(mathml(text))).replace("  ", " ") == code


def test_a_sentence_stays_one_and_a_relation_in_it_is_found() -> None:
    assert pieces("the last reading under load; latency from the last rise of the current") == (
        Piece("the last reading under load; latency from the last rise of the current"),
    )
    assert [(piece.words, bool(piece.mathml)) for piece in pieces("minutes from load-on, in all; limits a: u = a / √3, f(b, c)")] == [
        ("minutes from load-on, in all; limits a:", False), ("u = a / √3", True), ("f(b, c)", False),
    ]  # fmt: skip
    for words in ("V ± 0.07 V", "a step of 3 % < all", "Q = (I", "x = #", "", "= ", "at C/20", "12 – 14 V = rest"):
        assert not mathml(words), words


@given(st.text(alphabet="abV I=+−×/√Σ()[];,:²₁_’.1 %&<\"'", max_size=30))
def test_whatever_is_written_nothing_of_it_is_lost(text: str) -> None:
    kept = "".join(piece.words for piece in pieces(text))
    assert re.sub(r"[\s;,]", "", kept) == re.sub(r"[\s;,]", "", text)
    for piece in pieces(text):
        if piece.mathml:
            ET.fromstring(piece.mathml)


def test_a_picture_says_its_words_and_keeps_the_colour_of_its_surroundings() -> None:
    html = formula_html('Q = a / b; x < "3 & y"')
    picture_of, words = html.split("\n")
    drawn = ET.fromstring(picture_of)
    assert drawn.get("aria-label") == "Q = a / b" and drawn.get("role") == "img" and drawn.get("width") is None
    assert words == '<span>x &lt; "3 &amp; y"</span>'
    assert "currentColor" in picture_of and "href" not in re.sub(r'xmlns:xlink="[^"]*"', "", picture_of)
    assert 'aria-label="R&apos; = &quot;' not in picture_of


def test_a_larger_relation_is_a_larger_picture() -> None:
    low, high = picture(mathml("y = a + b")), picture(mathml("y = a / b"))
    assert high.height > 1.3 * low.height and high.below > low.below and low.width > high.width
    assert picture(mathml("y = a + b"), 28.0).width == pytest.approx(2 * (low.width - 2) + 2, rel=0.01)


def test_formulas_are_drawn_by_several_threads_at_once_as_by_one() -> None:
    texts = [f"R = (V{n} − V{n + 1}) / (I{n + 1} − I{n}) · √{n}" for n in range(40, 40 + some(12, 40))]
    elements = [mathml(text) for text in texts]
    with ThreadPoolExecutor(8) as pool:
        together = list(pool.map(picture, elements))
    picture.cache_clear()
    assert [one.svg for one in together] == [picture(one).svg for one in elements]

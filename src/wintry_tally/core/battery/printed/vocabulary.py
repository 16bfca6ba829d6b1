"""The words of labels: phrases by kind, from the data file that ships, and lines of a person's own."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from functools import cache
from importlib import resources


@dataclass(frozen=True)
class Vocabulary:
    """Phrases (runs of words, joined without blanks or hyphens) to what they name; `longest` words at the most.

    `words`: patterns of what stands beside a number and says what it is of, by what they say.
    """

    phrases: Mapping[str, str]
    families: Mapping[str, str]
    hints: Mapping[str, str]
    words: Mapping[str, re.Pattern[str]]
    longest: int = 8

    def named(self, words: list[str]) -> str:
        """What these words together name; empty for nothing."""
        return self.phrases.get(squeezed("".join(words)), "")


def squeezed(text: str) -> str:
    """A phrase without what writers leave out at will: blanks, hyphens, points, capitals, a plural's or a maximum's spelling."""
    return (
        re.sub(r"[\s\-.']", "", text.lower())
        .replace("maximum", "max")
        .replace("temperature", "temp")
        .replace("charging", "charge")
        .replace("selfheat", "heat")
    )


@cache
def shipped() -> Vocabulary:
    """The one that ships."""
    text = resources.files("wintry_tally.vocabulary").joinpath("claims.toml").read_text(encoding="utf-8")
    data = tomllib.loads(text)
    families = {squeezed(phrase): key for key, phrases in data.pop("families").items() for phrase in phrases}
    hints = {phrase: hint for hint, phrases in data.pop("hints").items() for phrase in phrases}
    words = {key: _pattern(phrases) for key, phrases in data.pop("words").items()}
    phrases = {
        squeezed(phrase): kind for kind, languages in data.items() for words in languages.values() for phrase in words
    }
    return Vocabulary(phrases, families, hints, words)


def _pattern(phrases: Iterable[str]) -> re.Pattern[str]:
    """Any of some phrases; a star is any ending."""
    told = (re.escape(phrase).replace(r"\*", r"\w*").replace(r"\ ", r"\s+") for phrase in phrases)
    return re.compile(rf"(?<!\w)(?:{'|'.join(told)})(?!\w)", re.IGNORECASE)


def with_own(lines: Iterable[str]) -> Vocabulary:
    """The shipped one and a person's own lines, "their words = kind"; what is no such line is passed over."""
    base = shipped()
    own = {}
    for line in lines:
        phrase, equals, kind = line.partition("=")
        if equals and kind.strip() in set(base.phrases.values()):
            own[squeezed(phrase)] = kind.strip()
    return Vocabulary({**base.phrases, **own}, base.families, base.hints, base.words, base.longest)

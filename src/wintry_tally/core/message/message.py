"""A message: its code and parts, and the words that the catalogue makes of them."""

from __future__ import annotations

import string
from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any

from wintry_tally.core.message.english import ENGLISH
from wintry_tally.core.quantity import format_duration, format_plain

Part = str | float | int | tuple[str, ...]
"""What a message is made of: numbers in the kept units, names, moments (ISO 8601), other messages, or several of them."""
OWN = "own"
"""The code of words that somebody or something outside wrote: a note, an instrument's answer, an old book's sentence."""


class Message(str):
    """The words of a message, with its `code` and `parts`. Where only words are wanted it is those; nothing decides by them.

    `code`: a key of the catalogue; `parts`: by the names in the template. Two are alike where their words are.
    """

    __slots__ = ("code", "parts")
    code: str
    parts: Mapping[str, Part]

    def __new__(cls, code: str, parts: Mapping[str, Part]) -> Message:
        return cls._worded(words_of(code, parts, ENGLISH), code, dict(parts))

    @classmethod
    def _worded(cls, words: str, code: str, parts: Mapping[str, Part]) -> Message:
        """A message whose words are known already."""
        made = super().__new__(cls, words)
        made.code, made.parts = code, parts
        return made

    def __reduce__(self) -> tuple[Any, ...]:
        return (Message._worded, (str(self), self.code, self.parts))

    def __deepcopy__(self, _memo: dict[int, Any]) -> Message:
        return self


def said(code: str, **parts: Part) -> Message:
    """A message of the catalogue."""
    return Message(code, parts)


def several(messages: Sequence[str]) -> Message:
    """Messages one after the other, parted by semicolons; those that say nothing left out."""
    told = tuple(one for one in messages if one)
    return said("several", messages=told) if len(told) != 1 else as_message(told[0])


def as_message(words: str) -> Message:
    """A message as it is; other words as somebody's own."""
    return words if isinstance(words, Message) else said(OWN, words=words) if words else NOTHING


def sentences(message: Message) -> list[str]:
    """Each thing that a message says as a sentence of its own."""
    each = message.parts["messages"] if message.code == "several" else (message,)
    assert isinstance(each, tuple)
    return [f"{one[:1].upper()}{one[1:]}{'' if one.endswith(('.', '?')) else '.'}" for one in each]


def words_of(code: str, parts: Mapping[str, Part], catalogue: Mapping[str, str]) -> str:
    """The words of a message by a catalogue; messages within it by the same.

    Raises:
        KeyError: a code that the catalogue does not have, or a part that its template wants and is not there.
    """
    return _Words(catalogue).vformat(catalogue[code], (), parts)


class _Words(string.Formatter):
    """Python's own formatting, and: messages within by the same catalogue, several joined by their spec, durations, counts."""

    def __init__(self, catalogue: Mapping[str, str]) -> None:
        self._catalogue = catalogue

    def format_field(self, value: Any, format_spec: str) -> str:
        if isinstance(value, tuple):
            return format_spec.join(self.format_field(one, "") for one in value)
        if format_spec == "within":
            return self.format_field(value, "").removesuffix(".")
        if isinstance(value, Message):
            return words_of(value.code, value.parts, self._catalogue)
        if format_spec.startswith("?"):
            one, many = format_spec[1:].split("|")
            return one if value == 1 else many
        if format_spec == "~":
            return format_duration(value)
        if format_spec == "#":
            return format_plain(value)
        if format_spec.startswith("%"):
            return f"{datetime.fromisoformat(value).astimezone():{format_spec}}"
        return format(value, format_spec)


def message_data(words: str) -> dict[str, Any]:
    """Plain data of a message (or of somebody's own words), as it is kept: its code beside its parts."""
    message = as_message(words)
    return {"code": message.code, **{name: _plain(part) for name, part in message.parts.items()}}


def message_from(data: Any) -> Message:
    """Taken up again from `message_data`; what no catalogue knows (a newer program's, a damaged book's) as own words."""
    if not isinstance(data, dict):
        return as_message(str(data))
    parts = {str(name): _part(value) for name, value in data.items() if name != "code"}
    try:
        return Message(str(data.get("code")), parts)
    except (KeyError, ValueError, TypeError, IndexError, AttributeError):
        told = ", ".join(f"{name} {value}" for name, value in parts.items())
        return said(OWN, words=f"{data.get('code', '?')}: {told}" if told else str(data.get("code", "?")))


def _plain(part: Part) -> Any:
    if isinstance(part, Message):
        return message_data(part)
    return [_plain(one) for one in part] if isinstance(part, tuple) else part


def _part(value: Any) -> Any:
    if isinstance(value, dict):
        return message_from(value)
    return tuple(_part(one) for one in value) if isinstance(value, list) else value


NOTHING = Message("nothing", {})
"""What has nothing to say; false, as empty words are."""

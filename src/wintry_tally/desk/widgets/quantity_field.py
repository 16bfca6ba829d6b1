"""A field for what people type: "12,9", "1280 Wh", "21.7 lb", "8h42". Parsed live; refused with the reason beside it."""

from __future__ import annotations

import re
from collections.abc import Callable

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QVBoxLayout, QWidget

from wintry_tally.core.battery.claims import currency_of
from wintry_tally.core.errors import InputError, WintryError
from wintry_tally.core.quantity import format_duration, format_plain, parse_typed
from wintry_tally.core.quantity.preferred import typed_in
from wintry_tally.desk.preferences import current, shown
from wintry_tally.desk.widgets.lines import Line, Lines
from wintry_tally.desk.widgets.parts import into_view, label, set_role


def written(value: float, unit: str) -> str:
    """A typed value written back, without an uncertainty: 4.31 kg, 8 h 42 min; in the units preferred."""
    if unit == "s":
        return format_duration(value)
    return shown(format_plain(value, unit))


def read_typed(text: str, dimension: str) -> float:
    """What is typed, in the kept unit; a bare number has the unit preferred.

    Raises:
        InputError: see `parse_typed`.
    """
    return parse_typed(typed_in(text, dimension, current().units), dimension).value


class TypedField(QWidget):
    """A line with a word beneath: what was read, or why it cannot be. `read` turns text into a value or raises.

    `committed` carries the value (None when emptied) once the line is left or Enter pressed, if it changed.
    """

    committed = Signal(object)
    entered = Signal()

    def __init__(
        self, name: str, read: Callable[[str], object], say: Callable[[object], str], hint: str = "", line: Line | Lines | None = None,
    ) -> None:  # fmt: skip
        super().__init__()
        self._read, self._say = read, say
        self.line = Line() if line is None else line
        self.line.setAccessibleName(shown(name))
        self.line.setPlaceholderText(shown(hint))
        self.word = label("", "small", wrap=True)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(2)
        layout.addWidget(self.line)
        layout.addWidget(self.word)
        self._value: object = None
        self._problem = ""
        self._kept = ""
        (self.line.typed if isinstance(self.line, Lines) else self.line.textChanged).connect(self._parse)
        self.line.editingFinished.connect(self._commit)
        self.line.returnPressed.connect(self.entered)
        self._parse("")

    @property
    def value(self) -> object:
        """What was read, or None."""
        return self._value

    @property
    def problem(self) -> str:
        """Why it cannot be read; empty when it can."""
        return self._problem

    def set_text(self, text: str) -> None:
        """Put a text in, as kept: no commit follows from it."""
        self._kept = text
        if self.line.text() != text:
            self.line.setText(text)

    def _parse(self, text: str) -> None:
        self._problem, self._value, word, role = "", None, "", "small"
        if text.strip():
            try:
                self._value = self._read(text)
                word, role = self._say(self._value), "read"
                if _same(word, text):
                    word = ""
            except WintryError as error:
                self._problem = f"{error.what}; {error.mend}" if error.mend else error.what
                word, role = self._problem, "problem"
        self.word.setText(word)
        set_role(self.word, role)
        self.word.setVisible(bool(word))
        if self._problem:
            into_view(self.word)
        state = "problem" if self._problem else ""
        if self.line.property("state") != state:
            self.line.setProperty("state", state)
            self.line.style().unpolish(self.line)
            self.line.style().polish(self.line)
        self.line.setAccessibleDescription(word)

    def _commit(self) -> None:
        text = self.line.text().strip()
        if text != self._kept and not self._problem:
            self._kept = text
            self.committed.emit(self._value)


def _same(word: str, text: str) -> bool:
    """Whether an echo says just what stands in the line already."""
    return "".join(word.removeprefix("=").split()) == "".join(text.replace("-", "−").split())


_NUMBER = re.compile(r"^[+\-−–]?\s*[\d.,' ]+")


class QuantityField(TypedField):
    """A typed field for one dimension; its value is a float in the dimension's kept unit.

    `width`: it is what something may be off by, and 2 °F are 1.1 °C. `currency`: of money, the only one it takes.
    """

    def __init__(self, name: str, dimension: str, hint: str = "", width: bool = False, currency: str = "") -> None:
        def read(text: str) -> object:
            value = read_typed(text, dimension)
            if currency and currency_of(text) not in {"money", currency}:
                raise InputError(f"it is claimed in {currency}", mend=f"enter it in {currency}")
            if self._most is not None and abs(value) > self._most:
                raise InputError(f"no such battery has more than {self._most:g}", mend="a decimal point lost?")
            return value - read_typed(_NUMBER.sub("0 ", text.strip()), dimension) if width else value

        def say(value: object) -> str:
            assert isinstance(value, float)
            from wintry_tally.core.quantity.units import KEPT

            if width and dimension == "temperature":
                return "= " + written(value, "K").replace("K", "°C")
            return "= " + written(value, currency if dimension == "money" else KEPT[dimension])

        self._most: float | None = None
        super().__init__(name, read, say, hint)
        self.dimension = dimension

    @property
    def number(self) -> float | None:
        """The value read."""
        return self._value if isinstance(self._value, float) else None

    def set_number(self, value: float | None, most: float | None = None) -> None:
        """Show a kept value; `most`: whatever is typed from now on that is more is refused."""
        from wintry_tally.core.quantity.units import KEPT

        self._most = most
        unit = "" if self.dimension == "money" else KEPT[self.dimension]
        self.set_text("" if value is None else written(value, unit).replace("−", "-"))

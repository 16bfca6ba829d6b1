"""A recipe as a list of steps a person can read, and edit where they want."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QCheckBox, QComboBox, QGridLayout, QLabel, QWidget

from wintry_tally.app.edits import Edit
from wintry_tally.core.errors import InputError, WintryError
from wintry_tally.core.protocol import Recipe
from wintry_tally.core.protocol.editing import swapped, with_step, without_step
from wintry_tally.core.protocol.setpoints import Facts
from wintry_tally.core.protocol.step_template import StepTemplate
from wintry_tally.core.protocol.template import Template, ends_from_text, ends_text, fill, in_words
from wintry_tally.desk.widgets.lines import Line
from wintry_tally.desk.widgets.parts import button, clear, label, narrow, row, set_role

PARTS = {"called": "title", "asks": "words", "set to": "setting", "up to": "limit"}
"""What a line is called, and the part of the step it holds; "until" holds the end rules."""
MODES = (("amperes", "current"), ("watts", "power"), ("ohms", "resistance"), ("by hand", "hand"))
KINDS = (("a rest", "rest"), ("a discharge", "discharge"), ("a charge", "charge"), ("something by hand", "prompt"))
Change = Callable[[Edit], object]


class StepTable(QWidget):
    """Steps as sentences; with `edit`, everything about them can be changed, and steps moved, added and removed.

    `changed` after each edit. `change` makes an edit one that can be undone.
    """

    changed = Signal()

    def __init__(self, change: Change | None = None) -> None:
        super().__init__()
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setHorizontalSpacing(8)
        self._grid.setVerticalSpacing(4)
        self._grid.setColumnStretch(1, 1)
        self.template: Template | None = None
        self.recipe: Recipe | None = None
        self.problem = ""
        self._change = change
        self._facts: Facts | None = None
        self._editing = False
        self.lines: dict[tuple[int, str], Line] = {}
        self._sentences: list[QLabel] = []

    def show_recipe(self, template: Template, facts: Facts, editing: bool = False) -> None:
        """Show a template filled in for a sample."""
        self.template, self._facts, self._editing = template, facts, editing
        self._draw()

    def facts_changed(self, facts: Facts) -> None:
        """The sample or what was given for the run changed; what is being typed stays."""
        self._facts = facts
        self._fill()
        self._say()

    def _fill(self) -> None:
        assert self.template is not None and self._facts is not None
        self.problem = ""
        try:
            self.recipe = fill(self.template, self._facts)
        except WintryError as error:
            self.recipe, self.problem = None, str(error)

    def _own(self) -> list[tuple[int, StepTemplate]]:
        """The steps that are for this family, with their place in the template."""
        assert self.template is not None and self._facts is not None
        family = self._facts.family
        return [(n, part) for n, part in enumerate(self.template.steps) if not part.only or family.is_named(part.only)]

    # --- drawing ---

    def _draw(self) -> None:
        clear(self._grid)
        self.lines, self._sentences = {}, []
        self._fill()
        own = self._own()
        for number, (place, part) in enumerate(own, 1):
            top = 2 * number
            self._grid.addWidget(label(str(number), "quiet"), top, 0, Qt.AlignmentFlag.AlignTop)
            sentence = label("", wrap=True)
            self._sentences.append(sentence)
            self._grid.addWidget(sentence, top, 1)
            if self._editing:
                before = own[number - 2][0] if number > 1 else None
                after = own[number][0] if number < len(own) else None
                self._grid.addWidget(self._edits(number, place, part, before, after), top + 1, 1)
        if self._editing:
            self._grid.addWidget(self._adding(), 2 * len(own) + 2, 1)
        self._say()

    def _say(self) -> None:
        """The sentences as the recipe stands."""
        steps = self.recipe.steps if self.recipe is not None else ()
        for number, ((_, part), shown) in enumerate(zip(self._own(), self._sentences, strict=True)):
            words = f"{part.title}: {in_words(steps[number])}" if number < len(steps) else part.title
            if part.kind == "prompt":
                words = f"{part.title}: {part.words}"
            if part.attended:
                words += " · attended"
            shown.setText(words)

    def _edits(self, number: int, place: int, part: StepTemplate, before: int | None, after: int | None) -> QWidget:
        holder = QWidget()
        grid = QGridLayout(holder)
        grid.setContentsMargins(0, 0, 0, 8)
        grid.setHorizontalSpacing(6)
        grid.setColumnStretch(1, 1)
        grid.setColumnStretch(3, 1)
        wide = [("called", part.title)]
        if part.kind == "prompt":
            wide.append(("asks", part.words))
        wide.append(("until", ends_text(part.ends)))
        line = 0
        if part.kind in {"discharge", "charge"}:
            narrow_ones = [("set to", str(part.setting))]
            if part.kind == "charge":
                narrow_ones.append(("up to", str(part.limit)))
            for at, (name, text) in enumerate(narrow_ones):
                grid.addWidget(label(name, "small"), 0, 2 * at)
                grid.addWidget(self._line(number, place, name, text), 0, 2 * at + 1)
            if part.kind == "discharge":
                grid.addWidget(label("in", "small"), 0, 2)
                grid.addWidget(self._mode(number, place, part), 0, 3)
            line = 1
        for name, text in wide:
            grid.addWidget(label(name, "small"), line, 0)
            grid.addWidget(self._line(number, place, name, text), line, 1, 1, 3)
            line += 1
        attended = QCheckBox("attended")
        attended.setAccessibleName(f"Step {number} is attended")
        attended.setChecked(part.attended)
        attended.clicked.connect(lambda on: self._changed_part(place, attended=on))
        up = button("Up", partial(self._swap, place, before), "link", f"Move step {number} up")
        down = button("Down", partial(self._swap, place, after), "link", f"Move step {number} down")
        remove = button("Remove", partial(self._remove, place), "link", f"Remove step {number}")
        up.setEnabled(before is not None)
        down.setEnabled(after is not None)
        remove.setEnabled(before is not None or after is not None)
        grid.addLayout(row(attended, None, up, down, remove), line, 0, 1, 4)
        return holder

    def _line(self, number: int, place: int, name: str, text: str) -> Line:
        line = Line()
        line.setText(text)
        line.setCursorPosition(0)
        line.setAccessibleName(f"Step {number}, {name}")
        line.editingFinished.connect(lambda: self._edited(place, name))
        self.lines[place, name] = line
        return line

    def _mode(self, number: int, place: int, part: StepTemplate) -> QComboBox:
        box = QComboBox()
        narrow(box)
        box.setAccessibleName(f"Step {number}, how the load is set")
        for words, key in MODES:
            box.addItem(words, key)
        box.setCurrentIndex(max(0, box.findData(part.mode or "current")))
        box.activated.connect(lambda _index: self._changed_part(place, mode=str(box.currentData())))
        return box

    def _adding(self) -> QWidget:
        holder = QWidget()
        made = row(
            label("Add", "small"),
            *(button(words, partial(self._add, kind), "link", f"Add {words}") for words, kind in KINDS),
            None,
        )
        holder.setLayout(made)
        return holder

    # --- changing ---

    def _edited(self, place: int, name: str) -> None:
        assert self.template is not None and self._facts is not None
        line = self.lines.get((place, name))
        if line is None or place >= len(self.template.steps):
            return
        part, text = self.template.steps[place], line.text().strip()
        try:
            if name == "until":
                made = replace(part, ends=ends_from_text(text, part.ends))
            else:
                typed: dict[str, Any] = {PARTS[name]: text}
                made = replace(part, **typed)
            trial = _with(self.template, place, made)
            fill(trial, self._facts)
        except InputError as error:
            line.setToolTip(str(error))
            set_role(line, "problem")
            self.problem, self.recipe = str(error), None
            self.changed.emit()
            return
        set_role(line, "")
        line.setToolTip("")
        if str(getattr(part, PARTS.get(name, ""), "")) != text and made != part:
            self.template = trial
        self._fill()
        self._say()
        self.changed.emit()

    def _changed_part(self, place: int, **parts: Any) -> None:
        assert self.template is not None
        made = replace(self.template.steps[place], **parts)
        self._put("change a step", _with(self.template, place, made))

    def _swap(self, place: int, other: int | None) -> None:
        if self.template is not None and other is not None:
            self._put("move a step", swapped(self.template, place, other))

    def _remove(self, place: int) -> None:
        assert self.template is not None
        self._put("remove a step", without_step(self.template, place))

    def _add(self, kind: str) -> None:
        assert self.template is not None
        self._put("add a step", with_step(self.template, len(self.template.steps), kind))

    def _put(self, words: str, made: Template) -> None:
        """Another template of the same recipe; undone, the one before - while that recipe is still shown."""
        before = self.template

        def show(which: Template | None) -> None:
            if which is None or self.template is None or self._facts is None or self.template.name != which.name:
                return
            self.show_recipe(which, self._facts, self._editing)
            self.changed.emit()

        if self._change is None:
            show(made)
        else:
            self._change(Edit(words, lambda: show(made), lambda: show(before), shown=True))


def _with(template: Template, place: int, made: StepTemplate) -> Template:
    steps = list(template.steps)
    steps[place] = made
    return replace(template, steps=tuple(steps))

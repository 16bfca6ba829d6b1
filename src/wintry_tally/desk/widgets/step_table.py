"""A recipe as a list of steps a person can read, and edit where they want."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QGridLayout, QWidget

from wintry_tally.core.errors import InputError, WintryError
from wintry_tally.core.protocol import Recipe
from wintry_tally.core.protocol.setpoints import Facts
from wintry_tally.core.protocol.template import StepTemplate, Template, ends_from_text, ends_text, fill, in_words
from wintry_tally.desk.widgets.lines import Line
from wintry_tally.desk.widgets.parts import clear, label, set_role


class StepTable(QWidget):
    """Steps as sentences; with `edit`, their set-points and end rules as lines to type in. `changed` after each edit."""

    changed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setHorizontalSpacing(8)
        self._grid.setVerticalSpacing(4)
        self._grid.setColumnStretch(1, 1)
        self.template: Template | None = None
        self.recipe: Recipe | None = None
        self.problem = ""
        self._facts: Facts | None = None
        self._editing = False
        self.lines: dict[tuple[int, str], Line] = {}
        self._sentences: dict[int, object] = {}

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
        key = self._facts.family.key
        return [(n, part) for n, part in enumerate(self.template.steps) if not part.only or key in part.only]

    def _draw(self) -> None:
        clear(self._grid)
        self.lines, self._sentences = {}, {}
        self._fill()
        for number, (place, part) in enumerate(self._own(), 1):
            top = 2 * number
            self._grid.addWidget(label(str(number), "quiet"), top, 0, Qt.AlignmentFlag.AlignTop)
            sentence = label("", wrap=True)
            self._sentences[number - 1] = sentence
            self._grid.addWidget(sentence, top, 1)
            if self._editing:
                self._grid.addWidget(self._edits(place, part), top + 1, 1)
        self._say()

    def _say(self) -> None:
        """The sentences as the recipe stands."""
        steps = self.recipe.steps if self.recipe is not None else ()
        for number, (_, part) in enumerate(self._own()):
            words = f"{part.title}: {in_words(steps[number])}" if number < len(steps) else part.title
            if part.kind == "prompt":
                words = f"{part.title}: {part.words}"
            if part.attended:
                words += " · attended"
            shown = self._sentences.get(number)
            if shown is not None:
                shown.setText(words)  # type: ignore[attr-defined]

    def _edits(self, place: int, part: StepTemplate) -> QWidget:
        holder = QWidget()
        grid = QGridLayout(holder)
        grid.setContentsMargins(0, 0, 0, 6)
        grid.setHorizontalSpacing(6)
        fields = [("until", ends_text(part.ends))]
        if part.kind in {"discharge", "charge"}:
            fields.insert(0, ("set to", str(part.setting)))
        if part.kind == "charge":
            fields.insert(1, ("up to", str(part.limit)))
        for column, (name, text) in enumerate(fields):
            line = Line()
            line.setText(text)
            line.setCursorPosition(0)
            line.setAccessibleName(f"Step {place + 1}, {name}")
            line.editingFinished.connect(lambda place=place, name=name: self._edited(place, name))
            self.lines[place, name] = line
            below = name == "until"
            grid.addWidget(label(name, "small"), int(below), 0 if below else 2 * column)
            grid.addWidget(
                line, int(below), 1 if below else 2 * column + 1, 1, 3 if below or part.kind != "charge" else 1
            )
            grid.setColumnStretch(2 * column + 1, 1)
        return holder

    def _edited(self, place: int, name: str) -> None:
        assert self.template is not None
        line = self.lines.get((place, name))
        if line is None:
            return
        part, text = self.template.steps[place], line.text().strip()
        try:
            if name == "until":
                made = replace(part, ends=ends_from_text(text, part.ends))
            elif name == "set to":
                made = replace(part, setting=text)
            else:
                made = replace(part, limit=text)
            steps = list(self.template.steps)
            steps[place] = made
            trial = replace(self.template, steps=tuple(steps))
            assert self._facts is not None
            fill(trial, self._facts)
        except InputError as error:
            line.setToolTip(str(error))
            set_role(line, "problem")
            self.problem, self.recipe = str(error), None
            self.changed.emit()
            return
        set_role(line, "")
        line.setToolTip("")
        if made != part:
            self.template = trial
        self._fill()
        self._say()
        self.changed.emit()

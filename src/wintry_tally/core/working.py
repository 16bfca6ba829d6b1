"""The derivation of a figure as a small tree, drawn alike by the window, the report and the command line."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from typing import Any


@dataclass(frozen=True)
class Working:
    """One step of a derivation.

    Parts:
        label: what is computed, in the trade's words.
        formula: the relation as text, in plain signs.
        inputs: name to value with unit, as text.
        result: the result with its unit, as text.
        source: the standard and clause, the paper, or "common practice".
        steps: the steps this one stands on.
    """

    label: str
    formula: str = ""
    inputs: Mapping[str, str] = field(default_factory=dict)
    result: str = ""
    source: str = ""
    steps: tuple[Working, ...] = ()

    def with_input(self, name: str, value: str) -> Working:
        """The same step with one input more."""
        return replace(self, inputs={**self.inputs, name: value})

    def walk(self, depth: int = 0) -> Iterator[tuple[int, Working]]:
        """Every step with its depth, this one first."""
        yield depth, self
        for step in self.steps:
            yield from step.walk(depth + 1)

    def as_dict(self) -> dict[str, Any]:
        """Plain data for JSON; `steps` is left out where empty."""
        data: dict[str, Any] = {
            "label": self.label,
            "formula": self.formula,
            "inputs": dict(self.inputs),
            "result": self.result,
            "source": self.source,
        }
        if self.steps:
            data["steps"] = [step.as_dict() for step in self.steps]
        return data

    def as_text(self) -> str:
        """Indented plain text, for the clipboard."""
        lines = []
        for depth, step in self.walk():
            pad = "  " * depth
            lines.append(f"{pad}{step.label}: {step.result}")
            if step.formula:
                lines.append(f"{pad}  {step.formula}")
            lines.extend(f"{pad}  {name} = {value}" for name, value in step.inputs.items())
            if step.source:
                lines.append(f"{pad}  ({step.source})")
        return "\n".join(lines)

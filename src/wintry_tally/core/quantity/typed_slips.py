"""Slips of the hand in a typed number: a digit lost, doubled, wrong, or two transposed."""

from __future__ import annotations

from wintry_tally.core.quantity.uncertain import Quantity

__all__ = ["digit_neighbours", "plausible_neighbour"]


def digit_neighbours(value: float, decimals: int | None = None) -> list[float]:
    """Every number one slip away from this one, as it would be written: nearest first, itself left out.

    Slips: one digit dropped, one digit changed, two neighbours transposed, the decimal mark moved one place,
    one digit lost in front. Digits inserted elsewhere are left out, for they make too many.
    """
    text = f"{value:.{decimals}f}" if decimals is not None else f"{value:.6f}".rstrip("0").rstrip(".")
    found: set[float] = set()

    def offer(candidate: str) -> None:
        try:
            found.add(float(candidate))
        except ValueError:
            return

    for index, sign in enumerate(text):
        if not sign.isdigit():
            continue
        offer(text[:index] + text[index + 1 :] or "0")
        for digit in "0123456789":
            if digit != sign:
                offer(text[:index] + digit + text[index + 1 :])
        if index + 1 < len(text) and text[index + 1].isdigit():
            offer(text[:index] + text[index + 1] + sign + text[index + 2 :])
        elif index + 2 < len(text) and text[index + 2].isdigit():
            offer(text[:index] + text[index + 2] + "." + sign + text[index + 3 :])
    for digit in "123456789":
        offer(digit + text)
    found.add(value * 10)
    found.add(value / 10)
    found.discard(value)
    return sorted((candidate for candidate in found if candidate >= 0), key=lambda candidate: abs(candidate - value))


def plausible_neighbour(value: float, expected: Quantity, decimals: int | None = None) -> float | None:
    """The one-slip neighbour within what is expected, nearest its middle; None when there is none."""
    reach = 3.0 * (expected.standard or 0.0)
    fits = [candidate for candidate in digit_neighbours(value, decimals) if abs(candidate - expected.value) <= reach]
    return min(fits, key=lambda candidate: abs(candidate - expected.value)) if fits else None

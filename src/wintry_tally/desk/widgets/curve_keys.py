"""A curve by the keyboard: moved, zoomed, measured and copied without a mouse."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtGui import QGuiApplication, QKeyEvent

if TYPE_CHECKING:
    from wintry_tally.desk.widgets.curve import Curve

STEP, ZOOM, FINE = 0.2, 0.7, 0.01
"""Shares of what is in view: how far an arrow moves, what a zoom leaves, how far an end of a measurement moves."""
SAYS = (
    "Arrows move, plus and minus zoom, Home shows everything; Alt and arrows move the first end of a measurement, Shift "
    "and arrows the second; Ctrl+C copies the picture."
)
_WAYS = {Qt.Key.Key_Left: -1.0, Qt.Key.Key_Right: 1.0}
_IN, _OUT = {Qt.Key.Key_Plus, Qt.Key.Key_Equal}, {Qt.Key.Key_Minus, Qt.Key.Key_Underscore}


def pressed(curve: Curve, event: QKeyEvent) -> bool:
    """What a key does to a curve that has the keyboard; False where it is none of its keys."""
    key, held = Qt.Key(event.key()), event.modifiers() & ~Qt.KeyboardModifier.KeypadModifier
    low, high = curve.seen()
    wide = high - low
    way = _WAYS.get(key)
    if way is not None and held == Qt.KeyboardModifier.NoModifier:
        curve.show_from(low + way * STEP * wide, high + way * STEP * wide)
    elif way is not None and held in {Qt.KeyboardModifier.AltModifier, Qt.KeyboardModifier.ShiftModifier}:
        return curve.move_end(held == Qt.KeyboardModifier.ShiftModifier, way * FINE * wide)
    elif key in _IN or key in _OUT:
        half, middle = 0.5 * wide * (ZOOM if key in _IN else 1.0 / ZOOM), 0.5 * (low + high)
        curve.show_from(middle - half, middle + half)
    elif key == Qt.Key.Key_Home:
        curve.look_at_all()
    elif key == Qt.Key.Key_C and held == Qt.KeyboardModifier.ControlModifier:
        QGuiApplication.clipboard().setPixmap(curve.grab())
    else:
        return False
    return True

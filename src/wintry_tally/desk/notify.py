"""Telling somebody who looks elsewhere: the desktop's own notifications, and a sound."""

from __future__ import annotations

from PySide6.QtWidgets import QApplication, QSystemTrayIcon

SHOWN_MS = 15_000
_icon: list[QSystemTrayIcon] = []


def notify(title: str, text: str) -> bool:
    """Show a desktop notification where the desktop has them; whether one was sent. Rings in any case."""
    QApplication.beep()
    if not QSystemTrayIcon.isSystemTrayAvailable() or not QSystemTrayIcon.supportsMessages():
        return False
    if not _icon:
        _icon.append(QSystemTrayIcon(QApplication.windowIcon()))
    _icon[0].show()
    _icon[0].showMessage(title, text, QSystemTrayIcon.MessageIcon.Information, SHOWN_MS)
    return True

"""Telling somebody who looks elsewhere: the desktop's own notifications, and a sound that ships with the application."""

from __future__ import annotations

import shutil
from pathlib import Path

from PySide6.QtCore import QProcess
from PySide6.QtWidgets import QApplication, QSystemTrayIcon

from wintry_tally.desk.preferences import current, shown

SHOWN_MS = 15_000
SOUND = Path(__file__).parent.parent / "bench" / "guard" / "call.wav"
PLAYERS = ("pw-play", "paplay", "aplay")
"""What plays a sound on a Linux desktop, the usual one first; Qt's own player is not among the modules shipped."""
_icon: list[QSystemTrayIcon] = []


def notify(title: str, text: str, grave: bool = False) -> bool:
    """Show a desktop notification where the desktop has them; whether one was sent. Rings where a sound is wanted, or it is grave."""
    if grave or current().sound:
        ring()
    if not QSystemTrayIcon.isSystemTrayAvailable() or not QSystemTrayIcon.supportsMessages():
        return False
    if not _icon:
        _icon.append(QSystemTrayIcon(QApplication.windowIcon()))
    _icon[0].show()
    _icon[0].showMessage(title, shown(text), QSystemTrayIcon.MessageIcon.Information, SHOWN_MS)
    return True


def ring() -> str:
    """Play the sound by whichever player is there, without waiting for it; the bell of the desktop where none is.

    Returns the player's name, empty for the bell.
    """
    for player in PLAYERS:
        found = shutil.which(player)
        if found is None:
            continue
        process = QProcess()
        process.setProgram(found)
        process.setArguments([str(SOUND)])
        process.setStandardOutputFile(QProcess.nullDevice())
        process.setStandardErrorFile(QProcess.nullDevice())
        if process.startDetached():
            return player
    QApplication.beep()
    return ""

"""The menus, made from the table of commands."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from PySide6.QtGui import QAction, QKeySequence

from wintry_tally.desk.commands import COMMANDS, RECENT, CommandSpec
from wintry_tally.desk.remembered import books

if TYPE_CHECKING:
    from PySide6.QtWidgets import QMainWindow, QMenu

    from wintry_tally.desk.session import Session


class Menus:
    """Every command as an action of the window; each calls the window's method of its name."""

    def __init__(self, window: QMainWindow, session: Session) -> None:
        self._window, self._session = window, session
        self.actions: list[tuple[CommandSpec, QAction]] = []
        menus: dict[str, QMenu] = {}
        for spec in COMMANDS:
            if spec.menu not in menus:
                menus[spec.menu] = window.menuBar().addMenu(spec.menu)
                if spec.menu == "&Sample":
                    self._undo(window.menuBar().addMenu("&Edit"))
            if not spec.text:
                menus[spec.menu].addSeparator()
                continue
            if spec.method == RECENT:
                self._recent(menus[spec.menu].addMenu(spec.text))
                continue
            action = QAction(spec.text, window)
            if spec.shortcut:
                action.setShortcut(QKeySequence(spec.shortcut))
            action.triggered.connect(partial(self._command, spec))
            action.setEnabled(not spec.needs_book)
            self.actions.append((spec, action))
            menus[spec.menu].addAction(action)

    def _command(self, spec: CommandSpec, _checked: bool = False) -> None:
        getattr(self._window, spec.method)(*([spec.argument] if spec.argument else []))

    def _recent(self, menu: QMenu) -> None:
        """The books opened before, filled each time it is opened."""

        def fill() -> None:
            menu.clear()
            known = books()
            for path in known:
                menu.addAction(f"{path.stem}  –  {path.parent}").triggered.connect(
                    partial(lambda one, _checked=False: self._window.open_book(one), path)  # type: ignore[attr-defined]
                )
            if not known:
                menu.addAction("none yet").setEnabled(False)

        menu.aboutToShow.connect(fill)

    def _undo(self, menu: QMenu) -> None:
        undo = self._session.undo_stack.createUndoAction(self._window, "Undo")
        undo.setShortcut(QKeySequence.StandardKey.Undo)
        redo = self._session.undo_stack.createRedoAction(self._window, "Redo")
        redo.setShortcuts([QKeySequence("Ctrl+Shift+Z"), QKeySequence("Ctrl+Y")])
        for action in (undo, redo):
            menu.addAction(action)

    def set_enabled(self, has_book: bool) -> None:
        """Commands that need a book wait for one."""
        for spec, action in self.actions:
            action.setEnabled(has_book or not spec.needs_book)

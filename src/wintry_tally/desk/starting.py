"""A quicker start: no rubbish is collected while modules load, for hardly any of what they make is ever let go."""

from __future__ import annotations

import gc
import threading
from importlib import import_module

_held = False


def hold_collector() -> None:
    """Before anything heavy is imported."""
    global _held
    _held = True
    gc.disable()


def held() -> bool:
    """Whether the program is still starting."""
    return _held


def release_collector() -> None:
    """Once the window stands: what was made so far is not looked through again; `collecting` goes on from here."""
    global _held
    _held = False
    gc.freeze()


AHEAD = (
    "pyqtgraph", "wintry_tally.bench.connect", "wintry_tally.core.battery.printed", "wintry_tally.core.compare.comparing",
    "wintry_tally.app.programme", "wintry_tally.report.page", "wintry_tally.exchange.reader",
    "ziamath",
)  # fmt: skip
"""What the first click on a station or a page would have to load, beside the modules of the views."""


def load_ahead() -> threading.Thread:
    """Load what a first click needs while nobody clicks yet, on a thread of its own."""

    def load() -> None:
        from wintry_tally.desk.views import PAGES, VIEWS

        own = [
            f"wintry_tally.desk.views.{name}"
            for name in (*(v[0] for v in VIEWS.values()), *(p[1] for p in PAGES.values()))
        ]
        for name in (*dict.fromkeys(own), *AHEAD):
            import_module(name)

    thread = threading.Thread(target=load, name="load-ahead", daemon=True)
    thread.start()
    return thread

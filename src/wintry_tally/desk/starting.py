"""A quicker start: no rubbish is collected while modules load, for hardly any of what they make is ever let go."""

from __future__ import annotations

import gc


def hold_collector() -> None:
    """Before anything heavy is imported."""
    gc.disable()


def release_collector() -> None:
    """Once the window stands: what was made so far is not looked through again, and collecting goes on as usual."""
    gc.freeze()
    gc.enable()

"""How much is tried at random: some in the README's command, more where WINTRY_THOROUGH is set."""

from __future__ import annotations

import os

THOROUGH = bool(os.environ.get("WINTRY_THOROUGH"))


def some(usual: int, thorough: int) -> int:
    """So many."""
    return thorough if THOROUGH else usual

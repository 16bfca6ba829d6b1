"""How much is tried at random: some in the README's command, more where WINTRY_THOROUGH is set."""

from __future__ import annotations

import os

import pytest

THOROUGH = bool(os.environ.get("WINTRY_THOROUGH"))
thorough = pytest.mark.skipif(not THOROUGH, reason="with WINTRY_THOROUGH=1")
"""A test that takes long, of what others hold part by part."""


def some(usual: int, thorough: int) -> int:
    """So many."""
    return thorough if THOROUGH else usual

"""Palette, type and spacing as named tokens, in one place; styles applied once."""

from wintry_tally.desk.theme.tokens import DAY, NIGHT, SPACE, Tokens, current, set_current

__all__ = ["DAY", "NIGHT", "SPACE", "Tokens", "current", "set_current"]

"""The demo book: an invented winter telemetry workshop and its candidate batteries."""

from wintry_tally.demo.open import begin_now, scratch_copy

__all__ = ["begin_now", "scratch_copy"]

"""The demo book: an invented winter telemetry workshop and its candidate batteries."""

from wintry_tally.demo.open import scratch_copy

__all__ = ["scratch_copy"]

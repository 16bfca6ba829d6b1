"""The kinds of tests: what a log is evidence of, its name, and the station it belongs to."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class TestKind:
    """One kind: its method as in claims files, its words, its station."""

    method: str
    words: str
    station: str

    __test__ = False  # not a test case, whatever its name


TEST_KINDS = {
    kind.method: kind
    for kind in (
        TestKind("capacity", "capacity test", "capacity"),
        TestKind("reserve", "reserve test", "capacity"),
        TestKind("runtime", "run of a device", "capacity"),
        TestKind("charge", "charge", "charge"),
        TestKind("hold", "held current", "load"),
        TestKind("surge", "surge", "load"),
        TestKind("overload", "overload trip", "load"),
        TestKind("charge-block", "charge in the cold", "cold"),
        TestKind("heater", "charge with a heater", "cold"),
        TestKind("cold-loss", "cold or warm twin", "cold"),
        TestKind("self-discharge", "after the shelf", "shelf"),
    )
}
"""By method; a new kind of test is a line here, and a settler in `verdict`."""

STATIONS = ("arrival", "charge", "rest", "capacity", "load", "cold", "shelf", "revival")
"""Where a test may stand, in working order."""

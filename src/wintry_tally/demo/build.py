"""Building the demo book from stated seeds: `python -m wintry_tally.demo.build FILE`.

Everything in it is invented: a workshop that readies masts watching snow and weather on a pass, and the batteries its
technician tries for them. Makers, models, numbers and people are made up; the runs come from the battery model.
"""

from __future__ import annotations

import math
import sqlite3
import sys
import tempfile
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from pathlib import Path

from wintry_tally.bench.journal import Journal
from wintry_tally.bench.loop import RunLoop
from wintry_tally.bench.simulated import MeterSpec, SimulatedChannel
from wintry_tally.bench.simulation import SimulatedBattery, simulate
from wintry_tally.book import Book, RunSettings, RunStatus
from wintry_tally.book.recipes import recipe_data
from wintry_tally.core.battery import Arrival, Claim, Direction, family_named, parse_claim
from wintry_tally.core.cell import parameters_for
from wintry_tally.core.cell.parameters import Protection, aged
from wintry_tally.core.protocol.capacity import CapacityPlan, LoadLimits, capacity_recipe
from wintry_tally.core.protocol.method import Method
from wintry_tally.core.protocol.setpoints import Facts
from wintry_tally.core.protocol.template import fill
from wintry_tally.demo.labels import drawn_label
from wintry_tally.exchange.picture import picture_of
from wintry_tally.exchange.reader import read_log
from wintry_tally.exchange.recipe_file import shipped_recipe

GOOD_METER = MeterSpec("0.05%+2d", "0.2%+2d")
USUAL_METER = MeterSpec()


@dataclass(frozen=True)
class Battery:
    """One invented battery."""

    code: str
    maker: str
    model: str
    family: str
    claims: tuple[tuple[str, str], ...]
    arrival: Arrival
    prose: str = ""


BATTERIES = (
    Battery(
        "M1", "Firnwerk", "Spur 40", "lfp",
        (("40 Ah", "label"), ("512 Wh", "label"), ("cuts at 10 V", "manual"), ("40 A continuous", "label"),
         ("charge voltage 14.4 V", "manual"), ("4.4 kg", "web page"), ("4000 cycles", "web page"),
         ("self-discharge < 3 %/month", "manual"), ("price 229 EUR", "web page"), ("surge 90 A for 5 s", "manual"),
         ("trips at 110 ± 15 A", "manual"), ("charges in under 6 h", "web page"), ("charge block 0 °C", "manual"),
         ("charge release 5 °C", "manual"), ("cold loss < 15 %", "web page"), ("size: length 197 mm", "label")),
        Arrival(13.14, True, 4.36, 0.01, "bought", "2026-01-12", True, True, "Two studs M6, covers, leaflet. No damage."),
        "For: gives what its label says, cuts where its manual says.\nAgainst: no heater, so no charge below 0 °C.\n"
        "Good for the lower masts, where the box stays above freezing.",
    ),
    Battery(
        "M2", "Firnwerk", "Spur 40", "lfp",
        (("40 Ah", "label"), ("512 Wh", "label"), ("cuts at 10 V", "manual"), ("4.4 kg", "web page"),
         ("self-discharge < 3 %/month", "manual")),
        Arrival(13.09, True, 4.37, 0.01, "bought", "2026-01-12", True, True, "Second unit, for comparison."),
    ),
    Battery(
        "M3", "Halden & Rask", "Glimt 60 H", "lfp",
        (("60 Ah", "label"), ("768 Wh", "label"), ("capacity 62 Ah", "manual"), ("heater 60 W", "manual"),
         ("warms in 40 min", "manual"), ("cuts at 10.5 V", "manual"), ("6.9 kg", "web page"), ("IP67", "label")),
        Arrival(13.21, True, 6.97, 0.01, "supplied by the maker", "2026-01-19", True, True,
                "Self-heating. Label says 60 Ah, the manual 62 Ah."),
    ),
    Battery(
        "M4", "Tarnbeck", "Stille 75", "agm",
        (("75 Ah at C/20", "label"), ("RC 125 min", "label"), ("22.5 kg", "label"), ("price 139 EUR", "web page")),
        Arrival(12.78, True, 22.1, 0.05, "bought", "2026-01-20", True, True, "Carrying handle, terminal covers."),
    ),
    Battery(
        "M5", "Vesterli", "Grubekraft 95", "flooded",
        (("95 Ah at C/20", "label"), ("24 kg", "label"), ("2 years warranty", "packaging")),
        Arrival(12.52, True, 23.6, 0.05, "lent", "2026-02-16", True, True, "From the old mast shed, two winters used."),
    ),
    Battery(
        "M6", "Klarvann", "Lett 30", "nmc",
        (("30 Ah", "label"), ("384 Wh", "label"), ("charge voltage 14.6 V", "web page"), ("2.2 kg", "web page")),
        Arrival(11.42, True, 2.31, 0.01, "bought", "2026-02-15", True, True,
                "Sold as a drop-in for a 12 V lead-acid battery."),
    ),
)  # fmt: skip


DEVICE_CLAIMS = {
    "M1": (
        Claim(
            "runtime", 48 * 3600.0, "s", Direction.AT_LEAST, 0.0, {"device_A": 0.85, "dropout_V": 12.4}, "web page",
            text="runs a mast logger (0.85 A, drops out at 12.4 V) for 48 h",
        ),
    ),
}  # fmt: skip
"""Claims with a device's own draw and drop-out."""


@dataclass(frozen=True)
class Test:
    """One test by a shipped recipe: on which battery, on which day, with which claims for its set-points."""

    code: str
    day: float
    title: str
    recipe: str
    battery: SimulatedBattery
    seed: int
    interval_s: float = 1.0
    given: tuple[tuple[str, float], ...] = ()


_LFP = family_named("lfp")
_SPUR = SimulatedBattery(
    _LFP, 40.0, health=1.03,
    protection={"over_current_A": 118.0, "over_delay_s": 7.0, "low_cut_V": 10.0, "cold_block_C": 0.5, "cold_release_C": 5.0},
)  # fmt: skip
TESTS = (
    Test("M1", 5.0, "Hold", "hold", _SPUR, 71),
    Test("M1", 5.1, "Overload", "overload-trip", _SPUR, 72),
    Test("M1", 6.0, "Charge", "charge-lithium-usual", replace(_SPUR, state_of_charge=0.02), 73, 10.0),
    Test("M1", 7.0, "Mast logger", "capacity-device", _SPUR, 74, 60.0),
    Test("M1", 9.0, "Cold capacity", "cold-capacity", replace(_SPUR, ambient_C=-18.0, start_C=-18.0), 75, 10.0),
    Test("M1", 10.0, "Charge block", "charge-block", replace(_SPUR, state_of_charge=0.2, ambient_C=18.0, start_C=-16.0), 76),
    Test("M2", 6.1, "Shelf test, start", "shelf-start", replace(_SPUR, health=0.9965, state_of_charge=0.02), 79, 10.0),
    Test("M3", 11.0, "Heater", "heater",
         SimulatedBattery(_LFP, 60.0, health=0.94, state_of_charge=0.2, ambient_C=-12.0, start_C=-19.0,
                          heater={"power_W": 66.0, "on_below_C": 2.0, "off_above_C": 6.0}), 77, 2.0),
    Test("M4", 36.1, "Reserve", "reserve",
         SimulatedBattery(family_named("agm"), 75.0, health=1.02, ambient_C=24.0), 78, 5.0),
)  # fmt: skip


def _tested(book: Book, sample_id: int, test: Test, begun: datetime) -> None:
    """A finished test of the shipped recipes, sealed as it would be."""
    sample = book.samples.get(sample_id)
    facts = Facts(sample.family, sample.rated_Ah or 1.0, sample.claims, given=dict(test.given))
    recipe = fill(shipped_recipe(test.recipe), facts)
    found = simulate(recipe, test.battery, test.seed, test.interval_s, GOOD_METER)
    settings = replace(
        _settings(sample.family_key, facts.rated_Ah, 0.0, sample.cutoff_V, test.battery.health, test.seed, GOOD_METER, test.interval_s),
        cutoff_V=None,
        ambient_C=test.battery.ambient_C,
    )  # fmt: skip
    station = shipped_recipe(test.recipe).station
    run_id = book.runs.begin(sample_id, test.title, Method.SIMULATED, begun, settings, recipe_data(recipe), station)
    for event in found.events:
        book.runs.add_event(run_id, event)
    book.runs.seal(run_id, found.trace)
    cause = found.state.cause.value if found.state.cause else ""
    book.runs.finish(run_id, cause, found.state.detail, begun + timedelta(seconds=float(found.trace.time_s[-1])))


def build(path: Path) -> None:
    """Write the demo book; the same bytes of readings each time."""
    with Book.create(path, "Mast workshop") as book:
        book.set_meta("demo", "yes")
        book.set_meta(
            "about",
            "Invented: a winter telemetry workshop and its candidate batteries. Made from the battery model with stated seeds.",
        )
        ids = {}
        for battery in BATTERIES:
            number = book.samples.add(battery.code, battery.maker, battery.model, battery.family, battery.arrival)
            ids[battery.code] = number
            for text, source in battery.claims:
                book.samples.add_claim(number, parse_claim(text, source))
            for claim in DEVICE_CLAIMS.get(battery.code, ()):
                book.samples.add_claim(number, claim)
            if battery.prose:
                book.samples.change(number, prose=battery.prose)
        _pictures(book, ids)
        begun = datetime(2026, 1, 14, 8, 5, tzinfo=UTC)
        # M1: two runs that meet the label; M2: too close to call; M3 misses; M4 runs slower than its load allows
        _simulated(book, ids["M1"], "Capacity 1", begun, 40.0, 8.0, 10.0, 1.035, 11, GOOD_METER)
        _simulated(book, ids["M1"], "Capacity 2", begun + timedelta(days=2), 40.0, 8.0, 10.0, 1.035, 12, GOOD_METER)
        _simulated(book, ids["M2"], "Capacity 1", begun + timedelta(days=4), 40.0, 8.0, 10.0, 0.9965, 21, USUAL_METER)
        _simulated(book, ids["M3"], "Capacity 1", begun + timedelta(days=8), 60.0, 12.0, 10.5, 0.94, 31, GOOD_METER)
        _simulated(
            book, ids["M4"], "Capacity 1", begun + timedelta(days=34), 75.0, 3.75, 10.5, 1.02, 41, USUAL_METER, 20.0
        )
        for test in TESTS:
            _tested(book, ids[test.code], test, begun + timedelta(days=test.day))
        _imported_with_a_slip(book, ids["M6"], begun + timedelta(days=33))
        _running(book, ids["M5"], begun + timedelta(days=37))
        _places(book, begun + timedelta(days=6, hours=8), begun + timedelta(days=37, hours=5))
    connection = sqlite3.connect(path)
    connection.execute("PRAGMA journal_mode=DELETE")
    connection.execute("VACUUM")
    connection.close()


def _pictures(book: Book, ids: dict[str, int]) -> None:
    """Labels as the technician photographed them: of all but the one that came last."""
    for battery in BATTERIES[:5]:
        found = picture_of(f"{battery.code.lower()}-label.jpg", drawn_label(battery))
        caption = f"Label of the {battery.maker} {battery.model} (invented)"
        book.attachments.add(ids[battery.code], found.name, found.media, found.content, found.small, "label", caption)


def _places(book: Book, stored: datetime, last: datetime) -> None:
    """The shelf since something lies on it, and the freezer and the room of late, as a person wrote them down."""
    hours = int((last - stored) / timedelta(hours=1))
    for hour in range(0, hours, 8):
        book.places.add("shelf", stored + timedelta(hours=hour), round(17.5 + 1.5 * math.sin(hour / 31.0), 1))
    for hour in range(24):
        at = last - timedelta(hours=hour, minutes=20)
        book.places.add("freezer", at, round(-18.5 + 0.6 * math.sin(hour / 1.7), 1))
    book.places.add("room", last - timedelta(minutes=15), 21.4)


def _settings(
    family: str, rated: float, amps: float, cutoff: float, health: float, seed: int, spec: MeterSpec, interval: float
) -> RunSettings:
    return RunSettings(
        family=family,
        rated_Ah=rated,
        cutoff_V=cutoff,
        voltage_accuracy=spec.voltage_accuracy,
        current_accuracy=spec.current_accuracy,
        voltage_resolution=spec.voltage_resolution,
        current_resolution=spec.current_resolution,
        instrument="workshop meter" if spec is GOOD_METER else "hand-held meter",
        ambient_C=22.0,
        rest_before_s=3600.0,
        interval_s=interval,
        speed=60.0,
        seed=seed,
        mode="current",
        setting=amps,
        health=health,
    )


def _loop(book: Book, run_id: int, settings: RunSettings) -> RunLoop:
    family = family_named(settings.family)
    rated = settings.rated_Ah or 1.0
    cutoff = settings.cutoff_V or family.cutoff_V
    recipe = capacity_recipe(
        family, rated, CapacityPlan("current", settings.setting, cutoff - 0.2 if family.own_protection else cutoff, 600.0),
        LoadLimits(settings.power_W, settings.load_A),
    )  # fmt: skip
    book.runs.change(run_id, recipe=_json(recipe_data(recipe)))
    parameters = aged(parameters_for(family, rated), settings.health)
    if family.key == "lfp":
        parameters = replace(parameters, protection=Protection(low_cut_V=cutoff))
    spec = GOOD_METER if settings.instrument == "workshop meter" else USUAL_METER
    channel = SimulatedChannel(
        parameters, spec, settings.seed, power_W=settings.power_W, current_A=settings.load_A, ambient_C=22.0
    )
    return RunLoop(recipe, channel, Journal(book.runs, run_id, clock=lambda: 0.0), settings.interval_s)


def _json(data: object) -> str:
    import json

    return json.dumps(data)


def _simulated(
    book: Book, sample_id: int, title: str, begun: datetime, rated: float, amps: float, cutoff: float,
    health: float, seed: int, spec: MeterSpec, interval: float = 5.0,
) -> None:  # fmt: skip
    family = book.samples.get(sample_id).family_key
    settings = _settings(family, rated, amps, cutoff, health, seed, spec, interval)
    run_id = book.runs.begin(sample_id, title, Method.SIMULATED, begun, settings)
    loop = _loop(book, run_id, settings)
    loop.start()
    while not loop.tick().ended:
        pass
    cause = loop.state.cause.value if loop.state.cause else ""
    book.runs.finish(run_id, cause, loop.state.detail, begun + timedelta(seconds=loop.elapsed_s))


def _running(book: Book, sample_id: int, begun: datetime) -> None:
    """A flooded battery, a third through its discharge at 5 A, left as a closed window would leave it."""
    settings = _settings("flooded", 95.0, 5.0, 10.5, 0.8, 51, USUAL_METER, 10.0)
    run_id = book.runs.begin(sample_id, "Capacity 1", Method.SIMULATED, begun, settings)
    loop = _loop(book, run_id, settings)
    loop.start()
    while loop.elapsed_s < 5.5 * 3600:
        loop.tick()
    loop.park()
    book.runs.change(run_id, owner="")


def _imported_with_a_slip(book: Book, sample_id: int, begun: datetime) -> None:
    """A log typed by a logger that switched to mA for a stretch: remarked on import, with an offer."""
    settings = _settings("nmc", 30.0, 6.0, 9.0, 0.99, 61, USUAL_METER, 30.0)
    with tempfile.TemporaryDirectory() as folder:
        inner = Book.create(Path(folder) / "inner.wintry")
        sample = inner.samples.add("X", "", "", "nmc")
        run_id = inner.runs.begin(sample, "x", Method.SIMULATED, begun, settings)
        loop = _loop(inner, run_id, settings)
        loop.start()
        while not loop.tick().ended:
            pass
        loop.park()
        rows = inner.runs.readings(run_id)
        inner.close()
        file = Path(folder) / "mast-logger-0204.csv"
        lines = ["Mast logger export;invented data", "", "Zeit;Spannung / V;Strom / A;Temperatur / °C"]
        for index, (elapsed, volts, amps, celsius, _, _) in enumerate(rows):
            moment = begun + timedelta(seconds=elapsed)
            current = -(amps or 0.0) * (1000.0 if 210 <= index < 250 else 1.0)
            text = f"{moment:%Y-%m-%d %H:%M:%S};{volts:.3f};{current + 0.0:.3f};{celsius:.1f}"
            lines.append(text.replace(".", ","))
        file.write_text("\r\n".join(lines) + "\r\n", encoding="latin-1")
        log = read_log(file)
        trace = log.trace
        kept = replace(
            settings,
            cutoff_V=9.0,
            voltage_accuracy="0.5%+2d",
            current_accuracy="1%+2d",
            voltage_resolution=trace.resolution["voltage_V"],
            current_resolution=trace.resolution["current_A"],
            instrument="mast logger",
            mode="imported",
        )
        number = book.runs.begin(sample_id, "Capacity 1", Method.IMPORTED, begun, kept, status=RunStatus.RUNNING)
        book.runs.keep_original(number, file.name, file.read_bytes())
        book.runs.seal(number, trace)
        book.runs.finish(number, "set-cutoff", "", begun + timedelta(seconds=rows[-1][0]))


if __name__ == "__main__":
    target = Path(sys.argv[1]) if len(sys.argv) > 1 else Path(__file__).with_name("demo.wintry")
    target.unlink(missing_ok=True)
    build(target)
    print(target)

"""Drivers against the stand-ins that ship: a whole cycle over SCPI, every fault, lines, files, two meters."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import pytest

from wintry_tally.bench.connect import BenchChannel, driver_for, tried
from wintry_tally.bench.drivers.dialect import dialect_from, dialect_named, shipped_dialects
from wintry_tally.bench.drivers.scpi import number_in
from wintry_tally.bench.equipment import ChannelSpec, Equipment, Instrument, checked, equipment_data, equipment_from
from wintry_tally.bench.loop import RunLoop
from wintry_tally.bench.simulated import STAND_IN_METER
from wintry_tally.bench.stand_ins.servers import StandIns
from wintry_tally.bench.stand_ins.world import FAULTS, StandInWorld
from wintry_tally.core.battery import family_named
from wintry_tally.core.cell import parameters_for
from wintry_tally.core.engine import Command, Phase, Request
from wintry_tally.core.errors import InputError, InstrumentError
from wintry_tally.core.protocol import EndCause, EndRule, Recipe, Step, StopLimits
from wintry_tally.core.protocol.leads import Leads
from wintry_tally.core.protocol.setpoints import Facts
from wintry_tally.core.protocol.template import fill
from wintry_tally.core.trace.beside import cells_told
from wintry_tally.exchange.recipe_file import shipped_recipe

RATED = 2.0
STOPS = StopLimits(8.0, 15.0, 12.0, 200.0, -20.0, 60.0, charge_high_A=12.0)


class Kept:
    """In the place of the journal."""

    def __init__(self) -> None:
        self.rows: list[tuple] = []
        self.told: list = []

    def reading(self, elapsed_s, seen) -> None:
        self.rows.append((elapsed_s, seen))

    def events(self, events) -> None:
        self.told.extend(events)

    def due(self) -> bool:
        return False

    def write(self, state, bench) -> None: ...


class Bench:
    """Stand-ins with a clock that only the test moves, and the equipment that speaks to them."""

    def __init__(self, folder: Path) -> None:
        parameters = parameters_for(family_named("lfp"), RATED)
        self.world = StandInWorld(parameters, STAND_IN_METER, seed=5, power_W=300.0, current_A=30.0)
        self.stand_ins = StandIns(self.world, folder / "grows.csv")
        at = self.stand_ins.addresses()
        spec = {
            "voltage_accuracy": STAND_IN_METER.voltage_accuracy,
            "current_accuracy": STAND_IN_METER.current_accuracy,
        }
        self.equipment = Equipment(
            (
                Instrument("load", "load", address=at["load"], power_W=300.0, current_A=30.0, **spec),
                Instrument("supply", "charger", address=at["supply"], current_A=50.0, voltage_V=16.0, **spec),
                Instrument("meter", address=at["meter"], **spec),
                Instrument("second", address=at["second"], **spec),
                Instrument("thermometer", "thermometer", address=at["thermometer"]),
                Instrument("line", way="line", dialect="spaced-line", address=at["line"]),
                Instrument("pack", "telemetry", "line", "telling-pack", at["pack"]),
                Instrument("file", way="file", dialect="growing-csv", address=at["file"]),
            ),
            (
                ChannelSpec("one", "load", "supply", "meter", "meter", "thermometer"),
                ChannelSpec("own", "load", "supply", "load"),
                ChannelSpec("two", "load", "", "meter", "meter", "", "second"),
                ChannelSpec("told", "load", "supply", "meter", "line", "", "second", telemetry="pack"),
            ),
        )
        self.now = 0.0

    def loop(self, recipe: Recipe, channel: str = "one", interval: float = 1.0) -> tuple[RunLoop, Kept, BenchChannel]:
        made = BenchChannel(self.equipment, self.equipment.channel(channel), clock=lambda: self.now)
        kept = Kept()
        loop = RunLoop(recipe, made, kept, interval)  # type: ignore[arg-type]
        return loop, kept, made

    def pass_time(self, seconds: float) -> None:
        self.world.advance(seconds)
        self.now += seconds


@pytest.fixture
def bench(tmp_path: Path) -> Iterator[Bench]:
    made = Bench(tmp_path)
    yield made
    made.stand_ins.stop()


def hold(amps: float = 2.0) -> Recipe:
    return Recipe(
        "hold", "Hold", 1, (Step("discharge", "Hold", "current", amps, (EndRule("time", 1e6, EndCause.TIME),)),), STOPS
    )


def test_a_reference_cycle_over_scpi(bench: Bench) -> None:
    facts = Facts(family_named("lfp"), RATED)
    loop, kept, channel = bench.loop(fill(shipped_recipe("reference-cycle"), facts), interval=20.0)
    loop.start()
    for _ in range(8000):
        bench.pass_time(20.0)
        if loop.tick().ended:
            break
    channel.close()
    state = loop.state
    assert state.phase is Phase.ENDED and not bench.world.load_on and not bench.world.charger_on
    assert state.cause in {EndCause.PROTECTION, EndCause.SET_CUTOFF}
    # what was counted over the wire is what the battery holds, within its meter's half percent
    assert state.charge_Ah == pytest.approx(RATED, rel=0.04) and state.put_in_Ah == pytest.approx(
        state.charge_Ah, rel=0.05
    )
    kinds = [event.kind for event in kept.told]
    assert kinds.count("start-charge") == 2 and kinds.count("start-discharge") == 1 and kinds[-1] == "finish"


LIVE_FAULTS = [
    ("load", "ignores-off", None), ("load", "refuses", "refuses"), ("meter", "silence", "no answer in time"),
    ("meter", "garbage", "is no number"), ("meter", "lag", "no answer in time"), ("meter", "stuck", "stuck"),
    ("meter", "wrong-sign", "turned"), ("meter", "disconnect", "meter"), ("meter", "no-number", "no number"),
    ("meter", "out-of-range", "cannot be"), ("load", "too-much", "were set"), ("meter", "empty", "is no number"),
]  # fmt: skip


def test_the_table_of_faults_is_whole() -> None:
    assert {name for _, name, _ in LIVE_FAULTS} == set(FAULTS) and len(FAULTS) == 12


@pytest.mark.parametrize(("instrument", "fault", "says"), LIVE_FAULTS)
def test_every_fault_ends_in_outputs_off_with_its_cause(
    bench: Bench, instrument: str, fault: str, says: str | None
) -> None:
    loop, kept, channel = bench.loop(hold())
    if fault in {"refuses", "too-much"}:
        bench.world.fault(instrument, fault)
    loop.start()
    for _ in range(60 if fault == "stuck" else 20):  # a meter has to be seen to flicker first
        bench.pass_time(1.0)
        loop.tick()
    if fault not in {"refuses", "too-much"}:
        assert bench.world.true_current_A == pytest.approx(2.0, abs=0.05)
        bench.world.fault(instrument, fault)
    if fault == "ignores-off":
        loop.ask(Request("stop"))
    begun = time.monotonic()
    readings = 0
    while not loop.snapshot().ended and readings < 200:
        bench.pass_time(1.0)
        loop.tick()
        readings += 1
    channel.close()
    assert loop.snapshot().ended
    if fault == "ignores-off":
        # the load itself cannot be reached: say, loudly, what to pull
        assert "unplug the load's lead at the battery" in loop.snapshot().trouble
        return
    assert bench.world.true_current_A == 0.0 and not bench.world.load_on
    told = loop.state.detail + " ".join(event.message for event in kept.told)
    assert says is not None and says in told, told
    if fault != "stuck":  # a stuck meter can only be told from a calm one by its patience
        assert readings <= 5 and time.monotonic() - begun < 8.0


def test_a_load_out_of_reach_is_told_to_go_off_until_it_does(bench: Bench) -> None:
    loop, kept, channel = bench.loop(hold())
    loop.start()
    bench.world.fault("load", "ignores-off")
    loop.ask(Request("stop"))
    assert "unplug" in loop.snapshot().trouble and bench.world.load_on
    bench.world.fault("load", "ignores-off", on=False)
    for _ in range(60):
        loop.tick()
    assert not loop.snapshot().trouble and not bench.world.load_on
    assert "reached" in [event.kind for event in kept.told]
    channel.close()


def test_a_load_that_a_person_unplugged_is_left_alone(bench: Bench) -> None:
    loop, kept, channel = bench.loop(hold())
    loop.start()
    bench.world.fault("load", "silence")
    loop.ask(Request("stop"))
    assert "stand-in" not in loop.snapshot().trouble and "does not answer" in loop.snapshot().trouble
    loop.ask(Request("stop"))
    assert not loop.snapshot().trouble and "unplugged" in [event.kind for event in kept.told]
    channel.close()


def test_the_watch_lets_honest_readings_be(bench: Bench) -> None:
    """Rate changes, a pause, a knee and a protection that opens raise no false alarm."""
    recipe = replace(hold(), steps=(Step("discharge", "Hold", "current", 2.0, (EndRule("protection", 6.0, EndCause.PROTECTION), EndRule("time", 1e6, EndCause.TIME))),))  # fmt: skip
    loop, _, channel = bench.loop(recipe, interval=5.0)
    loop.start()
    for number in range(3000):
        bench.pass_time(5.0)
        if number in {50, 150}:
            loop.ask(Request("set", 1.0 if number == 50 else 4.0))
        if number == 100:
            loop.ask(Request("pause"))
        if number == 120:
            loop.ask(Request("resume"))
        if loop.tick().ended:
            break
    channel.close()
    assert loop.state.cause is EndCause.PROTECTION, loop.state.detail


def test_a_load_s_and_a_charger_s_own_current_make_one(bench: Bench) -> None:
    loop, _, channel = bench.loop(hold(3.0), "own")
    loop.start()
    bench.pass_time(1.0)
    assert loop.tick().current_A == pytest.approx(3.0, abs=0.05)
    loop.ask(Request("stop"))
    channel.carry_out(Command("charge", "charge", 1.0, 14.4))
    bench.pass_time(1.0)
    assert channel.read().current_A <= 0.0
    channel.carry_out(Command("off"))
    channel.close()


def test_two_meters_are_held_against_each_other(bench: Bench) -> None:
    loop, kept, channel = bench.loop(hold(3.0), "two")
    loop.start()
    for _ in range(6):
        bench.pass_time(1.0)
        loop.tick()
    assert channel.joined.second["voltage"] == pytest.approx(loop.snapshot().voltage_V, abs=0.1)
    assert channel.joined.disagreement is None, "both inside their specification"
    bench.world.fault("second", "wrong-sign")
    bench.pass_time(1.0)
    loop.tick()
    apart = channel.joined.disagreement
    assert apart is not None and apart.quantity == "current" and apart.second < 0 < apart.first
    assert any(event.kind == "meters-disagree" for event in kept.told)
    bench.world.fault("second", "silence")
    bench.pass_time(1.0)
    assert not loop.tick().ended, "a second meter that is lost does not end a run"
    channel.close()


def test_what_a_pack_tells_is_kept_beside_and_its_loss_ends_nothing(bench: Bench) -> None:
    loop, kept, channel = bench.loop(hold(2.0), "told")
    loop.start()
    for _ in range(4):
        bench.pass_time(30.0)
        time.sleep(0.5)  # the pack and the line meter send by themselves, on the wall clock
        loop.tick()
    beside = loop.snapshot().beside
    cells = cells_told(beside)
    assert len(cells) == 4 and sum(cells.values()) == pytest.approx(loop.snapshot().voltage_V, abs=0.03)
    assert beside["second_V"] == pytest.approx(loop.snapshot().voltage_V, abs=0.03)
    assert beside["counter_Ah"] == pytest.approx(2.0 * 2.0 / 60.0, rel=0.3), "2 A for two minutes, less the first"
    assert 90.0 < beside["charge_state"] <= 100.0 and 15.0 < beside["pack_C"] < 40.0
    assert kept.rows[-1][1].beside == beside
    bench.world.fault("pack", "silence")
    channel.drivers["pack"].close()
    bench.pass_time(1.0)
    assert not loop.tick().ended and not cells_told(loop.snapshot().beside)
    channel.close()


def test_a_cell_too_low_is_not_charged_again(bench: Bench, monkeypatch: pytest.MonkeyPatch) -> None:
    # common practice, no published source: an LFP cell under 2.0 V is not revived
    facts = Facts(family_named("lfp"), RATED)
    recipe = fill(shipped_recipe("wake-up"), facts)
    assert recipe.stops.cell_low_V == 2.0 and fill(shipped_recipe("charge-lead-acid"), Facts(family_named("agm"), RATED)).stops.cell_low_V < 0  # fmt: skip
    recipe = replace(recipe, steps=tuple(step for step in recipe.steps if step.kind == "charge"))
    monkeypatch.setattr(bench.world, "cells_V", lambda: (3.1, 1.82, 3.1, 3.1))
    loop, _kept, channel = bench.loop(recipe, "told")
    loop.start()
    seen = loop.snapshot()
    for _ in range(20):
        bench.pass_time(1.0)
        time.sleep(0.1)
        seen = loop.tick()
        if seen.ended:
            break
    assert seen.ended and seen.state.cause is EndCause.STOP_LIMIT and "cell 2 reads 1.82 V" in seen.state.detail
    assert not bench.world.charger_on
    channel.close()


def test_a_computer_that_slept_leaves_a_gap_in_the_record(bench: Bench) -> None:
    loop, kept, channel = bench.loop(hold(0.5))
    loop.start()
    bench.pass_time(1.0)
    loop.tick()
    bench.pass_time(900.0)
    loop.tick()
    channel.close()
    assert loop.elapsed_s == pytest.approx(901.0) and any(event.kind == "gap" for event in kept.told)


def test_lines_and_files(bench: Bench) -> None:
    for name in ("line", "file"):
        reader = driver_for(bench.equipment.instrument(name))
        until = time.monotonic() + 5.0
        values: dict[str, float] = {}
        while not values and time.monotonic() < until:
            try:
                values = reader.quantities()
            except InstrumentError:
                time.sleep(0.05)
        assert values["voltage"] == pytest.approx(13.4, abs=0.5) and values["temperature"] == pytest.approx(
            23.0, abs=0.5
        )
        reader.close()


def test_lines_that_say_nothing_known(bench: Bench) -> None:
    bench.world.fault("line", "garbage")
    time.sleep(0.3)
    reader = driver_for(bench.equipment.instrument("line"))
    with pytest.raises(InstrumentError, match="pattern does not know"):
        reader.quantities()
    reader.close()
    lost = driver_for(replace(bench.equipment.instrument("line"), address="/dev/none-there"))
    with pytest.raises(InstrumentError, match="check its plug"):
        lost.quantities()


def test_a_file_that_stands_still_or_goes_is_no_reading(tmp_path: Path) -> None:
    from wintry_tally.bench.drivers.lines import WatchedFile

    path = tmp_path / "log.csv"
    path.write_text("t,Voltage,Current\n1,13.2,5.0\n2,13.1")
    reader = WatchedFile("f", str(path), dialect_named("growing-csv"), stale_s=0.05)
    assert reader.quantities() == {"voltage": 13.2, "current": 5.0}, "half a line is not read"
    time.sleep(0.1)
    with pytest.raises(InstrumentError, match="not grown"):
        reader.quantities()
    path.write_text("t,a,b\n1,2,3\n")
    with pytest.raises(InstrumentError, match="no column"):
        reader.quantities()
    path.unlink()
    with pytest.raises(InstrumentError, match="cannot be read"):
        reader.quantities()


def test_read_once_shows_the_raw_exchange(bench: Bench) -> None:
    good = tried(bench.equipment.instrument("meter"))
    assert good.values["voltage"] > 12 and not good.problem
    assert any("→ MEAS:VOLT?" in line for line in good.exchange) and any("←" in line for line in good.exchange)
    bench.world.fault("meter", "silence")
    bad = tried(bench.equipment.instrument("meter"))
    assert "no answer in time" in bad.problem and bad.exchange
    assert "x: " in tried(Instrument("x", address="TCPIP::127.0.0.1::9::SOCKET")).problem
    assert (
        tried(Instrument("x", address="nonsense")).problem
        and tried(Instrument("x", dialect="none", address="y")).problem
    )


@pytest.mark.parametrize(("answer", "value"), [("13.204", 13.204), ("+1.5E+01 V", 15.0), (" -0.01\r", -0.01)])
def test_numbers_as_instruments_write_them(answer: str, value: float) -> None:
    assert number_in(answer, "x") == pytest.approx(value)


@pytest.mark.parametrize("answer", ["", "ERR", "9.91E37", "9.9E+37", "--", "nan"])
def test_answers_that_are_no_numbers(answer: str) -> None:
    # SCPI-1999, 7.2.1.4 (from memory): 9.91E37 stands for "not a number", 9.9E37 for infinity
    with pytest.raises(InstrumentError):
        number_in(answer, "x")


def test_dialects_are_data() -> None:
    assert {dialect.kind for dialect in shipped_dialects().values()} == {"scpi", "line", "file"}
    for data, says in (
        ({"kind": "dance", "title": "x"}, "kind"),
        ({"kind": "line", "title": "x", "pattern": "("}, "no pattern"),
        ({"kind": "line", "title": "x", "pattern": "a"}, "group"),
        ({"kind": "scpi", "title": "x", "colour": 1}, "colour"),
    ):
        with pytest.raises(InputError, match=says):
            dialect_from(data, "mine")
    with pytest.raises(InputError, match="no dialect"):
        dialect_named("none")


def test_a_dialect_of_one_s_own(tmp_path: Path) -> None:
    path = tmp_path / "mine.toml"
    path.write_text('kind = "line"\ntitle = "Mine"\npattern = "(?P<voltage>[0-9.]+)"\n')
    assert dialect_named(str(path)).title == "Mine"
    path.write_text("= nothing")
    with pytest.raises(InputError, match="TOML"):
        dialect_named(str(path))


def test_the_bench_is_kept_as_plain_data(bench: Bench) -> None:
    spec = replace(bench.equipment.channel("one"), leads=Leads(6.0, 1.5))
    equipment = bench.equipment.with_channel(spec)
    assert equipment_from(equipment_data(equipment)) == equipment
    with pytest.raises(InputError):
        equipment_from({"instruments": [{"colour": 1}]})
    with pytest.raises(InputError, match="uses it"):
        equipment.without("load")
    assert not equipment.without("one").without("own").without("two").without("told").without("load").channels
    assert equipment.limits(spec).charger_A == 50.0 and equipment.limits(spec).leads == Leads(6.0, 1.5)
    for wrong, says in (
        (Instrument(""), "needs a name"),
        (Instrument("x"), "where it is"),
        (Instrument("x", "load", "line", address="/dev/x"), "takes commands"),
        (Instrument("x", address="y", voltage_accuracy="quite good"), "accuracy"),
    ):
        with pytest.raises(InputError, match=says):
            checked(wrong)


def test_many_may_ask_at_once(bench: Bench) -> None:
    driver = driver_for(bench.equipment.instrument("meter"))
    failures: list[Exception] = []

    def ask() -> None:
        try:
            for _ in range(30):
                assert 12.0 < driver.quantities()["voltage"] < 14.0
        except Exception as error:
            failures.append(error)

    threads = [threading.Thread(target=ask) for _ in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    driver.close()
    assert not failures


def test_stand_ins_keep_to_their_specification(bench: Bench) -> None:
    meter, second = bench.world.read("meter"), bench.world.read("second")
    assert abs(meter.voltage_V - second.voltage_V) < 2 * (0.001 * 13.4 + 0.004)
    with pytest.raises(InputError, match="no fault"):
        bench.world.fault("meter", "melancholy")

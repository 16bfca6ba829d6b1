"""Every fault a stand-in can have, while current flows: how soon everything is off, why, and what a person is told."""

from __future__ import annotations

import time
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import pytest

from tests.bench.benches import Bench, hold
from wintry_tally.bench.connect import BenchChannel
from wintry_tally.bench.drivers.dialect import dialect_from
from wintry_tally.bench.drivers.scpi import ScpiLoad
from wintry_tally.bench.equipment import ChannelSpec, Equipment, Instrument
from wintry_tally.bench.off_watch import FLOWS, NOT_OFF
from wintry_tally.bench.stand_ins.world import FAULTS
from wintry_tally.core.battery import family_named
from wintry_tally.core.engine import OFF, Command, Phase, Request
from wintry_tally.core.errors import InstrumentError
from wintry_tally.core.protocol import EndCause
from wintry_tally.core.protocol.preflight import preflight_recipe
from wintry_tally.core.protocol.setpoints import Facts
from wintry_tally.core.protocol.template import fill
from wintry_tally.exchange.recipe_file import shipped_recipe

LOST, DISTURBED = EndCause.INSTRUMENT, EndCause.DISTURBED
UNDER_WAY = [
    ("meter", "silence", LOST, "no answer in time"), ("meter", "garbage", LOST, "is no number"),
    ("meter", "lag", LOST, "no answer in time"), ("meter", "stuck", LOST, "stuck"),
    ("meter", "stuck-voltage", LOST, "stuck"), ("meter", "minus-zero", LOST, "the load itself"),
    ("meter", "wrong-sign", LOST, "turned"), ("meter", "disconnect", LOST, "meter"),
    ("meter", "no-number", LOST, "no number"), ("meter", "out-of-range", LOST, "cannot be"),
    ("meter", "error-text", LOST, "is no number"), ("meter", "comma", LOST, "is no number"),
    ("meter", "cut-short", LOST, "no answer in time"), ("meter", "endless", LOST, "without an end of line"),
    ("meter", "hang", LOST, "no answer in time"), ("meter", "empty", LOST, "is no number"),
    ("load", "other-hands", DISTURBED, "were set"), ("load", "switched-off", DISTURBED, "was switched off"),
    ("load", "too-much", LOST, "were set"), ("load", "refuses", LOST, "refuses"),
]  # fmt: skip
AT_ITS_END = [("load", "ignores-off", NOT_OFF), ("load", "lies-off", FLOWS), ("load", "silence", NOT_OFF), ("load", "hang", NOT_OFF), ("load", "endless", NOT_OFF)]  # fmt: skip


@pytest.fixture
def bench(tmp_path: Path) -> Iterator[Bench]:
    made = Bench(tmp_path)
    yield made
    made.stand_ins.stop()


def test_the_table_of_faults_is_whole() -> None:
    shown = {name for _, name, *_ in UNDER_WAY} | {name for _, name, _ in AT_ITS_END}
    assert shown | {"one-connection"} == set(FAULTS), "one-connection is the guard's test"


@pytest.mark.parametrize(("instrument", "fault", "cause", "says"), UNDER_WAY)
def test_a_fault_under_way_ends_with_outputs_off_and_its_cause(
    bench: Bench, instrument: str, fault: str, cause: EndCause, says: str
) -> None:
    loop, kept, channel = bench.loop(hold())
    if fault in {"refuses", "too-much"}:
        bench.world.fault(instrument, fault)
    loop.start()
    if fault not in {"refuses", "too-much"}:
        bench.tick(loop, 40)  # a meter has to be seen to flicker first
        assert bench.world.true_current_A == pytest.approx(2.0, abs=0.05)
        bench.world.fault(instrument, fault)
    begun, at = time.monotonic(), bench.now
    while not loop.snapshot().ended and bench.now - at < 60.0:
        bench.tick(loop)
    assert loop.snapshot().ended and bench.world.true_current_A == 0.0 and not bench.world.load_on
    # three seconds or three readings; a value that merely stands still, fifteen
    # (the stand-in's voltage flickers by little more than a digit: alone it takes twenty readings to be sure)
    longest = {"stuck": 15.0, "stuck-voltage": 24.0, "too-much": 9.0}
    assert bench.now - at <= longest.get(fault, 4.0)
    assert time.monotonic() - begun < 10.0
    told = loop.state.detail + " ".join(event.message for event in kept.told)
    assert says in told and loop.state.cause is cause, told
    bench.world.fault(instrument, fault, on=False)
    assert bench.tick(loop, 20).outputs == "off"
    channel.close()


@pytest.mark.parametrize(("instrument", "fault", "code"), AT_ITS_END)
def test_what_does_not_go_off_is_told_until_it_does(bench: Bench, instrument: str, fault: str, code: str) -> None:
    loop, kept, channel = bench.loop(hold())
    loop.start()
    bench.tick(loop, 6)
    bench.world.fault(instrument, fault)
    begun = time.monotonic()
    loop.ask(Request("stop"))
    seen = bench.tick(loop, 4)
    assert time.monotonic() - begun < 12.0
    assert seen.ended and not seen.settled and seen.outputs == "unknown"
    assert [item.code for item in seen.troubles] == [code] and "unplug" in seen.trouble.lower()
    bench.tick(loop, 3)
    assert loop.snapshot().troubles, "it goes on being said"
    bench.world.fault(instrument, fault, on=False)
    seen = bench.tick(loop, 20)
    assert seen.settled and seen.outputs == "off" and not seen.troubles and bench.world.true_current_A == 0.0
    assert "reached" in kept.kinds
    channel.close()


def test_what_a_person_unplugged_is_left_alone(bench: Bench) -> None:
    loop, kept, channel = bench.loop(hold())
    loop.start()
    bench.tick(loop, 4)
    loop.ask(Request("unplugged"))  # of a run that goes on it says nothing
    assert loop.state.phase is Phase.DISCHARGING and "unplugged" not in kept.kinds
    bench.world.fault("load", "silence")
    loop.ask(Request("stop"))
    assert "does not answer" in loop.snapshot().trouble and not loop.settled
    loop.ask(Request("stop"))  # once more, as somebody does who is impatient: that nothing flows it does not say
    assert "does not answer" in loop.snapshot().trouble and not loop.settled
    loop.ask(Request("unplugged"))
    assert loop.settled and not loop.snapshot().trouble and "unplugged" in kept.kinds and loop.outputs == "unknown"
    channel.close()


def test_a_pause_is_watched_too_and_a_rest_with_current_is_no_rest(bench: Bench) -> None:
    loop, _, channel = bench.loop(hold())
    loop.start()
    bench.tick(loop, 5)
    bench.world.fault("load", "lies-off")
    loop.ask(Request("pause"))
    seen = bench.tick(loop, 4)
    assert [item.code for item in seen.troubles] == [FLOWS] and "A flow though" in seen.trouble
    bench.world.fault("load", "lies-off", on=False)
    assert not bench.tick(loop, 6).troubles
    channel.close()


@pytest.mark.parametrize("channel", ["asked", "registers"])
def test_the_other_families_draw_charge_and_are_seen_off(bench: Bench, channel: str) -> None:
    loop, _, made = bench.loop(hold(), channel)
    loop.start()
    assert (
        bench.tick(loop, 8).current_A == pytest.approx(2.0, abs=0.05) and made.outputs()[f"{channel.rstrip('s')} load"]
    )
    loop.ask(Request("stop"))
    seen = bench.tick(loop, 20)
    assert seen.settled and seen.outputs == "off" and bench.world.true_current_A == 0.0
    supply = made.charger
    assert supply is not None and supply.is_on() is False
    supply.charge(0.5, 14.4)
    assert bench.world.charger_on and supply.is_on() is True
    supply.off()
    assert not bench.world.charger_on
    fault = "refuses"
    bench.world.fault("load", fault)
    refused, kept, other = bench.loop(hold(), channel)
    assert refused.start().ended and refused.state.cause is LOST and "refused" in kept.kinds
    made.close()
    other.close()


@pytest.mark.parametrize("channel", ["one", "asked", "registers"])
def test_the_load_is_off_before_the_charger_goes_on_and_the_other_way_round(bench: Bench, channel: str) -> None:
    made = bench.channel(channel)
    made.carry_out(Command("draw", "current", 1.0))
    assert bench.world.load_on and not bench.world.charger_on
    made.carry_out(Command("charge", "charge", 0.5, 14.4))
    assert bench.world.charger_on and not bench.world.load_on
    made.carry_out(Command("draw", "current", 1.0))
    assert bench.world.load_on and not bench.world.charger_on
    made.close()


def test_off_reaches_every_instrument_whatever_one_of_them_says(bench: Bench) -> None:
    made = bench.channel()
    made.carry_out(Command("draw", "current", 1.0))
    bench.world.charge(0.5, 14.4)  # by other hands
    bench.world.fault("load", "hang")
    with pytest.raises(InstrumentError, match="unplug the load's lead"):
        made.carry_out(OFF)
    assert not bench.world.charger_on
    bench.world.fault("load", "hang", on=False)
    bench.world.fault("load", "refuses")
    with pytest.raises(InstrumentError, match="refuses"):
        made.carry_out(Command("draw", "current", 1.0))
    assert not bench.world.load_on, "what was refused is off afterwards"
    made.close()


def test_an_instrument_s_own_watchdog_is_armed_fed_and_disarmed() -> None:
    said: list[str] = []

    class Link:
        name, address, line_end, baud = "x", "127.0.0.1:1", "\n", 9600

        def tell(self, text: str) -> None:
            said.append(text)

        def ask(self, text: str) -> str:
            said.append(text)
            return "0"

        def close(self) -> None: ...

    words = {
        "current": "I {setting}",
        "off": "OFF",
        "is_off": "O?",
        "watchdog": {"arm": "W 5", "feed": "W", "disarm": "W 0"},
    }
    dialect = dialect_from({"kind": "scpi", "title": "x", "load": words}, "mine")
    load = ScpiLoad("x", Link(), dialect)  # type: ignore[arg-type]
    channel = BenchChannel(
        Equipment((Instrument("x", "load", address="127.0.0.1:1"),), (ChannelSpec("c", "x"),)),
        ChannelSpec("c", "x"),
        drivers={"x": load},
    )
    channel.carry_out(Command("draw", "current", 1.0))
    channel.read()  # it measures nothing; it is fed all the same
    channel.carry_out(OFF)
    channel.close()
    assert said == ["W 5", "I 1.0", "W", "O?", "OFF", "O?", "W 0"]


def test_where_nothing_would_see_it_the_pre_flight_list_says_so(bench: Bench) -> None:
    facts = Facts(family_named("lfp"), 40.0)
    recipe = fill(shipped_recipe("capacity-reference"), facts)
    slow = replace(
        recipe, steps=tuple(replace(step, setting=0.2) if step.kind == "discharge" else step for step in recipe.steps)
    )
    template = shipped_recipe("capacity-reference")
    for channel, made, told in (("own", slow, True), ("own", recipe, False), ("one", slow, False)):
        limits = bench.equipment.limits(bench.equipment.channel(channel))
        names = [check.name for check in preflight_recipe(template, made, facts, limits, None, None)]
        assert ("Off" in names) is told

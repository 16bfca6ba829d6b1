"""From a run of the book to one under way: its channel, its guard, its proof of connection, its loop and its worker."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass
from importlib import resources
from typing import TYPE_CHECKING, Any

from wintry_tally.book import Book, Run, RunSettings
from wintry_tally.book.records import plain_of, read_as
from wintry_tally.core.battery import Family, Sample
from wintry_tally.core.engine import RunState
from wintry_tally.core.protocol import Recipe
from wintry_tally.core.protocol.method import Method
from wintry_tally.core.room import ROOM_C

if TYPE_CHECKING:
    from wintry_tally.bench.connect import BenchChannel
    from wintry_tally.bench.equipment import ChannelSpec, Equipment
    from wintry_tally.bench.guard import Guardian
    from wintry_tally.bench.interfaces import Channel
    from wintry_tally.bench.journal import Journal
    from wintry_tally.bench.loop import RunLoop
    from wintry_tally.bench.proving import ProofPlan, Proving
    from wintry_tally.bench.taken import Taken, Thing
    from wintry_tally.bench.vigil import Vigil
    from wintry_tally.core.engine.proof import Expected, Ohms

UNKNOWN_SHARE, UNKNOWN_OFFSET_SHARE = 0.05, 0.01
CHARGER_A, CHARGER_C = 50.0, 0.5
"""What the charger of the simulated bench gives: so much, or this share of a large battery's capacity an hour."""


def ambient_of(settings: RunSettings) -> float:
    """As stated, or a usual room's."""
    return ROOM_C if settings.ambient_C is None else settings.ambient_C


def full_of(settings: RunSettings) -> float:
    """The state of charge at the start, 0 to 1."""
    return settings.state_of_charge


def battery_things(book: Book, sample: Sample) -> list[Thing]:
    """A battery as something that only one run may have: of a bank its units too, of a unit the banks it is in."""
    from wintry_tally.app.banks import kin_of
    from wintry_tally.bench.taken import Thing

    codes = [sample.code, *(book.samples.get(number).code for number in sorted(kin_of(book, sample.id)))]
    return [Thing(f"battery:{book.path.resolve()}:{code}", f"battery {code}") for code in codes]


def stand_in_charger(pack: Family, rated_Ah: float | None) -> tuple[float, float]:
    """What the charger of the simulated bench gives such a battery at the most, A and V."""
    return max(CHARGER_A, CHARGER_C * (rated_Ah or 0.0)), pack.plausible_V[1]


def channel_for(run: Run, equipment: Equipment) -> Channel:
    """What a run is connected to: a channel of the bench, or the stand-in bench in fast time.

    Raises:
        InputError: there is no such channel, or an instrument's dialect does not fit.
    """
    settings = run.settings
    if run.method is Method.BENCH:
        from wintry_tally.bench.connect import BenchChannel

        return BenchChannel(equipment, equipment.channel(settings.channel))
    from wintry_tally.bench.simulated import STAND_IN_METER, SimulatedChannel
    from wintry_tally.core.cell import parameters_for
    from wintry_tally.core.cell.parameters import aged

    channel = SimulatedChannel(
        aged(parameters_for(settings.pack, settings.rated_Ah or 1.0), settings.health),
        STAND_IN_METER,
        settings.seed,
        power_W=settings.power_W,
        current_A=settings.load_A,
        charger=stand_in_charger(settings.pack, settings.rated_Ah),
        ambient_C=ambient_of(settings),
        state_of_charge=full_of(settings),
    )
    if settings.start_C is not None:
        channel.world.model.temperature_C = settings.start_C
    if run.bench:
        channel.restore(run.bench)
    return channel


MUCH_WIDER = 2.0


def kept_resistances(book: Book, sample_id: int) -> dict[str, Ohms]:
    """Within which limits earlier proofs of connection found this battery's resistance, by "draw" and "charge"."""
    from wintry_tally.core.engine.proof import Ohms

    kept = book.meta(f"resistance:{sample_id}")
    with read_as("the resistance kept of this battery"):
        data = plain_of(kept) if kept else {}
        return {doing: Ohms(*item) for doing, item in data.items() if isinstance(item, list)}


def keep_resistances(book: Book, sample_id: int, proving: Proving) -> None:
    """Keep what a proof without fault found, for the next one; one far less sharp than the kept does not take its place."""
    if proving.proof.bars or not proving.proof.ohms:
        return
    kept = kept_resistances(book, sample_id)
    for doing, ohms in proving.proof.ohms.items():
        old = kept.get(doing)
        if old is None or ohms.most - ohms.least <= MUCH_WIDER * (old.most - old.least):
            kept[doing] = ohms
    data = {doing: [ohms.least, ohms.most, ohms.celsius] for doing, ohms in kept.items()}
    book.set_meta(f"resistance:{sample_id}", json.dumps(data))


def expected_of(
    run: Run, equipment: Equipment, spec: ChannelSpec, before: Mapping[str, Ohms], recipe: Recipe
) -> Expected:
    """What the proof of connection is held against."""
    from wintry_tally.bench.connect import zero_limit_A
    from wintry_tally.core.cell import parameters_for
    from wintry_tally.core.engine.proof import Expected

    family = run.settings.pack
    usual = parameters_for(family, run.settings.rated_Ah or 1.0)
    volts, amps = equipment.meter_of(spec)
    driven = equipment.instrument(spec.load or spec.charger) if spec.load or spec.charger else volts
    zero = zero_limit_A(amps)
    live = [step.kind for step in recipe.steps if step.kind in {"discharge", "charge"}]
    return Expected(
        family,
        usual.resistance_ohm + usual.slow_ohm,
        (family.plausible_V[0], family.plausible_V[1]),
        spec.leads.ohm if spec.leads is not None else None,
        volts.voltage_resolution,
        amps.current_resolution,
        _share(amps.current_accuracy) + _share(driven.current_accuracy),
        0.3 if zero is None else zero,
        driven.voltage_resolution,
        _share(driven.voltage_accuracy, 0.01),
        _share(volts.voltage_accuracy, 0.01),
        run.settings.ambient_C if run.settings.ambient_stated else None,
        counted_apart=bool(spec.current) and spec.current not in {spec.load, spec.charger},
        voltage_apart=volts.name != driven.name,
        full=full_of(run.settings) if live else None,
        before=before,
    )


def expected_by_hand(run: Run) -> Expected:
    """The same for readings typed by hand: two digits behind the point, one meter for everything."""
    from wintry_tally.core.cell import parameters_for
    from wintry_tally.core.engine.proof import Expected

    family = run.settings.pack
    usual = parameters_for(family, run.settings.rated_Ah or 1.0)
    return Expected(
        family,
        usual.resistance_ohm + usual.slow_ohm,
        family.plausible_V,
        digit_V=run.settings.voltage_resolution or 0.01,
        digit_A=run.settings.current_resolution or 0.01,
        counted_apart=False,
        voltage_apart=False,
    )


def _share(accuracy: str, unknown: float = UNKNOWN_SHARE) -> float:
    from wintry_tally.core.quantity import parse_accuracy

    return parse_accuracy(accuracy).percent / 100.0 if accuracy else unknown


def proof_plan_of(run: Run, recipe: Recipe, equipment: Equipment, spec: ChannelSpec, book: Book) -> ProofPlan:
    """The pulse before this run, with a person's written reason to go on in spite of it, if any."""
    from dataclasses import replace

    from wintry_tally.bench.proving import plan_proof

    expected = expected_of(run, equipment, spec, kept_resistances(book, run.sample_id), recipe)
    plan = plan_proof(recipe, equipment.limits(spec), run.settings.rated_Ah or 1.0, expected)
    return replace(plan, override=run.settings.override)


def vigil_of(run: Run, channel: Channel) -> Vigil:
    """The watch for what no fixed limit tells."""
    from wintry_tally.bench.vigil import Body, Vigil
    from wintry_tally.core.cell import parameters_for
    from wintry_tally.core.engine.kind_band import KindBand

    rated, zero_A = run.settings.rated_Ah, channel.zero_A() or 0.1
    if not rated:
        return Vigil(None, zero_A)
    family = run.settings.pack
    usual = parameters_for(family, rated)
    body = Body(usual.mass_kg * usual.heat_J_kgK, usual.capacity_Ah)
    return Vigil(body, zero_A, KindBand(family, rated, usual))


def guard_for(run: Run, book: Book, channel: BenchChannel, taken: Taken) -> Guardian:
    """The guard of a run: none where nothing is driven.

    Raises:
        InstrumentError: one of its instruments is out of the guard's reach: it may not drive.
    """
    from wintry_tally.bench.guard import NoGuard, ProcessGuard

    plans = channel.off_plans()
    if not plans:
        return NoGuard()
    sound = str(resources.files("wintry_tally.bench.guard") / "call.wav")
    return ProcessGuard(plans, run.id, str(book.path.resolve()), run.title, taken.descriptors, sound)


@dataclass
class Launched:
    """A loop ready to be ticked, with what belongs to it."""

    loop: RunLoop
    journal: Journal
    proving: Proving | None


def launch(
    run: Run, recipe: Recipe, book: Book, equipment: Equipment, channel: Channel, taken: Taken,
    state: RunState | None, elapsed_s: float,
) -> Launched:  # fmt: skip
    """The loop of a run on its channel, guarded and with its proof of connection where it is a real bench's."""
    from wintry_tally.bench.journal import Journal
    from wintry_tally.bench.loop import RunLoop

    real = run.method is Method.BENCH
    journal = Journal(book.runs, run.id, apart=real)
    settings = run.settings
    known: dict[str, Any] = {}
    proving = None
    if real:
        from wintry_tally.bench.connect import BenchChannel
        from wintry_tally.bench.proving import Proving

        assert isinstance(channel, BenchChannel)
        if state is None or (not state.step_since_s and state.phase == "ready"):
            proving = Proving(proof_plan_of(run, recipe, equipment, channel.spec, book), channel)
        known = {
            "guard": guard_for(run, book, channel, taken),
            "proving": proving,
            "vigil": vigil_of(run, channel),
            "digit_V": equipment.meter_of(channel.spec)[0].voltage_resolution,
            "own_cutoff": equipment.limits(channel.spec).own_cutoff,
        }
    loop = RunLoop(
        recipe, channel, journal, settings.interval_s, state, elapsed_s,
        settings.keep_every_s, **known,
    )  # fmt: skip
    return Launched(loop, journal, proving)


def method_of(channel: str, *, by_hand: bool) -> Method:
    """How a run is gone through: by hand, on a channel, or on the stand-in bench."""
    return Method.GUIDED if by_hand else Method.BENCH if channel else Method.SIMULATED

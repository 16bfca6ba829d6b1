"""What needs hands now, what comes next, what runs, what is late, what is due: worked out as data, for window and shell."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from types import MappingProxyType
from typing import TYPE_CHECKING

from wintry_tally.app.campaign import UNDER_WAY, Drawn, last_left
from wintry_tally.book import RunStatus
from wintry_tally.book.attachments import KINDS
from wintry_tally.core.battery.sample import CyclesHad
from wintry_tally.core.plan.hands import all_hands
from wintry_tally.core.plan.programme import RECHARGE_MOST_H
from wintry_tally.core.protocol.in_programme import Charged
from wintry_tally.core.protocol.method import Method
from wintry_tally.core.quantity import format_duration
from wintry_tally.core.quantity.moments import MONTHS, clock_words
from wintry_tally.exchange.recipe_file import shipped

if TYPE_CHECKING:
    from wintry_tally.book import Run
    from wintry_tally.core.battery import Sample
    from wintry_tally.core.plan.campaign import Task

SOON = timedelta(minutes=15)
NEXT = timedelta(hours=48)
WEEK = timedelta(days=7)
BENCH = "bench"
"""Where the key of a line leads that is no sample's: a page of the book."""
GROUPS = ("now", "running", "late", "next", "due")


FULL_MOST, TOP_UP_AFTER = timedelta(days=14), timedelta(days=45)
"""So long a lithium battery may wait full, and a lead-acid one untouched; common practice, the maker's manual wins."""


@dataclass(frozen=True)
class Item:
    """One line of the day.

    Parts:
        group: a key of GROUPS; code, sample_id: whose; words: what is to be done, or is going on.
        at: when; clock: the same in words; beside: what is to be known of it.
        station, recipe: where its one key leads, and what is set up there; key: the key's words, empty for none.
        run_id: of what runs.
    """

    group: str
    code: str
    sample_id: int
    words: str
    at: datetime | None = None
    clock: str = ""
    beside: str = ""
    station: str = ""
    recipe: str = ""
    key: str = ""
    run_id: int = 0


@dataclass(frozen=True)
class Seen:
    """What is seen of a live run: whether it wants somebody and why, what it does, when it ends."""

    run_id: int
    wants: str
    doing: str
    ends: datetime | None


def today(
    samples: Sequence[Sample], runs: Mapping[int, Sequence[Run]], live: Iterable[Seen], drawn: Drawn | None, held: dict[int, str],
    now: datetime, silent: Mapping[str, str] = MappingProxyType({}), unseen: Mapping[int, str] = MappingProxyType({}),
) -> list[Item]:  # fmt: skip
    """The lines of the day, in the order of GROUPS and of time.

    Args:
        held: samples in quarantine, each with its reason; silent: instruments that did not answer, each with what it said.
        unseen: samples without a kind of picture that others of the book have (`app.pictures.missing`).
    """
    seen = {one.run_id: one for one in live}
    found = [
        Item("now", name, 0, "It did not answer today", beside=why, station=BENCH, key="Bench")
        for name, why in silent.items()
    ]
    for sample in samples:
        own = runs.get(sample.id, ())
        if sample.id in held:
            found.append(Item("now", sample.code, sample.id, "Held in quarantine", beside=held[sample.id], station="arrival", key="Look"))  # fmt: skip
        found += _going_on(sample, own, seen, now)
        found += _state(sample, own, drawn, now)
        if sample.id in unseen:
            words = f"Photograph its {KINDS[unseen[sample.id]]}"
            found.append(
                Item("due", sample.code, sample.id, words, None, "", "as of the others", "arrival", "", "Open")
            )
    if drawn is not None:
        found += _planned(drawn, now)
        found += _again(samples, runs, drawn, now)
    order = {group: place for place, group in enumerate(GROUPS)}
    return sorted(found, key=lambda item: (order[item.group], item.at or now, item.code))


def _going_on(sample: Sample, runs: Sequence[Run], seen: dict[int, Seen], now: datetime) -> list[Item]:
    found = []
    for run in runs:
        if run.status is not RunStatus.RUNNING:
            continue
        live, station = seen.get(run.id), run.station
        if live is None:
            by_hand = run.method is Method.HAND
            words = f"{run.title}: {'hand readings under way' if by_hand else 'interrupted'}"
            beside = "type the readings as they come" if by_hand else "take it up again, or end it"
            found.append(Item("now", sample.code, sample.id, words, beside=beside, station=station, key="Open"))
        elif live.wants:
            found.append(Item("now", sample.code, sample.id, f"{run.title}: {live.wants}", beside=live.doing, station=station, key="Open"))  # fmt: skip
        else:
            clock = f"ends about {clock_words(live.ends, now)}" if live.ends is not None else ""
            found.append(Item("running", sample.code, sample.id, run.title, live.ends, clock, live.doing, station, key="Look", run_id=run.id))  # fmt: skip
    return found


def _state(sample: Sample, runs: Sequence[Run], drawn: Drawn | None, now: datetime) -> list[Item]:
    if not sample.claims and not runs:
        words = "Type in its claims as printed"
        return [
            Item(
                "now",
                sample.code,
                sample.id,
                words,
                beside="nothing can be judged before",
                station="arrival",
                key="Open",
            )
        ]
    found = []
    if sample.arrival.rested_V is None and not runs:
        words = "Read its voltage as received, before anything is done to it"
        found.append(Item("now", sample.code, sample.id, words, station="arrival", key="Open"))
    left, last = last_left(runs)
    if last is None or last.ended is None or any(run.status is RunStatus.RUNNING for run in runs):
        return found
    most = RECHARGE_MOST_H["lithium" if sample.family.lithium else "lead"]
    gone = now - last.ended
    if left is Charged.EMPTY and gone > timedelta(hours=most):
        task = drawn.next_task(sample.id) if drawn is not None else None
        plan = ""
        if task is not None and drawn is not None and _charges(task):
            at = drawn.moment(drawn.plan.starts[task.id])
            if at <= now + SOON:
                return found  # it stands among what is to be done now
            plan = f"; planned {clock_words(at, now)}"
        words = f"Left empty for {format_duration(gone.total_seconds())}: charge it"
        beside = f"{'lithium' if sample.family.lithium else 'lead-acid'} within {most:g} h of its discharge{plan}"
        recipe = _usual_charge(sample)
        found.append(Item("late", sample.code, sample.id, words, None, "", beside, "charge", recipe, "Charge"))
    if left is Charged.FULL and drawn is not None and drawn.next_task(sample.id) is None:
        found += _stored(sample, gone, drawn)
    return found


def _stored(sample: Sample, gone: timedelta, drawn: Drawn) -> list[Item]:
    """How a battery that waits is best kept: lithium about half full, lead-acid full. The maker's manual wins."""
    standing = drawn.standings.get(sample.id)
    if standing is not None and standing.shelved is not None:
        return []  # its shelf test is to find it as it was left
    clock = format_duration(gone.total_seconds())
    if sample.family.lithium and gone > FULL_MOST:
        words, beside = f"Stands full for {clock}: bring it to about half", "lithium keeps best at 40 to 60 %, cool"
        return [Item("due", sample.code, sample.id, words, None, "", beside, "capacity", "", "Open")]
    if not sample.family.lithium and gone > TOP_UP_AFTER:
        words, beside = f"Stands for {clock}: top it up", "lead-acid is kept full, topped up every 1 to 3 months"
        return [Item("due", sample.code, sample.id, words, None, "", beside, "charge", _usual_charge(sample), "Charge")]
    return []


def _usual_charge(sample: Sample) -> str:
    able = [
        t for t in shipped().values() if t.station == "charge" and t.programme is not None and t.fits(sample.family)
    ]
    return min(able, key=lambda t: t.programme.order if t.programme else 0).name if able else ""


def _planned(drawn: Drawn, now: datetime) -> list[Item]:
    found = []
    for one in all_hands(drawn.plan):
        at = drawn.moment(one.slot)
        number = drawn.sample_of(one.task)
        if number is None or one.task.id.startswith(UNDER_WAY) or one.slot < 0:
            continue
        group = "now" if at <= now + SOON else "next" if at <= now + NEXT else "due"
        if group == "due" and not (at <= now + WEEK or "shelf" in one.task.recipe):
            continue
        begins = one.slot == drawn.plan.starts[one.task.id]
        template = shipped().get(one.task.recipe)
        moved = drawn.moved.get(one.task.id)
        beside = f"moved from {clock_words(moved.astimezone(at.tzinfo), now)}" if moved is not None and begins else ""
        if one.task.settles and begins:
            speaks = f"speaks to {', '.join(kind.replace('-', ' ') for kind in one.task.settles)}"
            beside = "; ".join(part for part in (speaks, beside) if part)
        found.append(
            Item(
                group, one.task.sample, number, one.what, at, clock_words(at, now), beside,
                template.station if template is not None else "cold" if "freezer" in one.task.uses else "shelf",
                one.task.recipe, "Set up" if begins and group != "due" and one.task.recipe else "",
            )
        )  # fmt: skip
    found += [item for task in drawn.plan.campaign.tasks if (item := _stands_empty(drawn, task, now)) is not None]
    for lost in drawn.plan.unplaced:
        lost_task = drawn.task(lost.id)
        number = drawn.sample_of(lost_task) if lost_task is not None else None
        if lost_task is not None and number is not None and not lost.after:
            found.append(
                Item(
                    "late", lost_task.sample, number, f"{lost_task.words} has no place in the plan", beside=lost.reason
                )
            )
    return found


def _again(samples: Sequence[Sample], runs: Mapping[int, Sequence[Run]], drawn: Drawn, now: datetime) -> list[Item]:
    """Re-tests whose day is to come; once it is near they stand in the plan like any other test."""
    found = []
    for sample in samples:
        standing = drawn.standings.get(sample.id)
        had = standing.had if standing is not None else CyclesHad()
        for recipe, due in drawn.wishes.retests(sample.code, runs.get(sample.id, []), had).items():
            template = shipped().get(recipe)
            if template is None or any(
                t.sample == sample.code and t.recipe == recipe for t in drawn.plan.campaign.tasks
            ):
                continue
            on = due.on
            at = datetime(on.year, on.month, on.day, 9, tzinfo=now.tzinfo) if on is not None else None
            clock = f"{on.day} {MONTHS[on.month - 1]} {on.year}" if on is not None else due.words(had)
            found.append(
                Item(
                    "due",
                    sample.code,
                    sample.id,
                    f"Re-test: {template.title}",
                    at,
                    clock,
                    "on the same meter",
                    template.station,
                    recipe,
                )
            )
    return found


def _charges(task: Task) -> bool:
    template = shipped().get(task.recipe)
    return template is not None and template.station == "charge"


def _stands_empty(drawn: Drawn, task: Task, now: datetime) -> Item | None:
    """A battery that the plan cannot charge again within hours of the discharge under way."""
    number = drawn.sample_of(task)
    standing = drawn.standings.get(number) if number is not None else None
    if number is None or standing is None or standing.running is None or task.id not in drawn.plan.starts:
        return None
    if task.due is None or drawn.plan.late_h(task) <= 0:
        return None
    begins = drawn.moment(drawn.plan.starts[task.id])
    most = RECHARGE_MOST_H["lithium" if standing.facts.family.lithium else "lead"]
    gone = (begins - standing.running.latest).total_seconds()
    return Item(
        "late", task.sample, number, f"It would stand empty for {format_duration(gone)} after {standing.running.words}",
        begins, clock_words(begins, now), f"within {most:g} h is the custom; nothing sooner suits who is there and what is free",
    )  # fmt: skip

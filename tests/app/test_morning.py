"""What is called ahead, each once; and who of the bench is told not to answer."""

from __future__ import annotations

import time
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from threading import Timer

import pytest

from tests.bench.live import LiveBench
from wintry_tally.app.campaign import Drawn, draw_up, standing_of
from wintry_tally.app.morning import AHEAD, Ahead, RollCall, asked
from wintry_tally.app.today import today
from wintry_tally.app.wishes import Wishes
from wintry_tally.bench.connect import thing_of
from wintry_tally.bench.equipment import Equipment, Instrument
from wintry_tally.bench.taken import Thing, take
from wintry_tally.core.battery import Sample, parse_claim
from wintry_tally.core.errors import InputError

NOW = datetime(2027, 1, 11, 8, 0, tzinfo=UTC)


def _drawn(now: datetime) -> Drawn:
    sample = Sample(1, "B1", "", "", "lfp", (parse_claim("40 Ah"),))
    standing = standing_of(sample, [], None, None, Wishes(), Equipment(), now)
    assert standing is not None
    return draw_up({1: standing}, Equipment(), "7:00-19:00", Wishes(), {}, now, 0.0, False)


def test_each_is_called_once_and_shortly_before() -> None:
    drawn, ahead = _drawn(NOW), Ahead()
    first = drawn.next_task(1)
    assert first is not None
    begins = drawn.moment(drawn.plan.starts[first.id])
    assert Ahead().due(None, NOW) == []
    assert ahead.due(drawn, begins - AHEAD - timedelta(seconds=1)) == []
    told = ahead.due(drawn, begins - AHEAD)
    assert len(told) == 1 and told[0].startswith("B1: Start: Charge")
    assert ahead.due(drawn, begins) == [] and ahead.due(_drawn(NOW), begins) == [], "drawn anew it is the same call"
    assert len(Ahead().due(drawn, begins + timedelta(minutes=10))) == 1
    assert Ahead().due(drawn, begins + timedelta(minutes=11)) == []


def _at_once(job, done, _failed) -> None:
    done(job())


def test_the_roll_is_called_once_a_day_and_after_a_change(monkeypatch: pytest.MonkeyPatch) -> None:
    answers = {"load": "", "probe": "it does not answer"}
    calls: list[str] = []

    def ask(instrument: Instrument) -> str:
        calls.append(instrument.name)
        return answers[instrument.name]

    monkeypatch.setattr("wintry_tally.app.morning.asked", ask)
    heard: list[int] = []
    bench = Equipment((Instrument("load", "load"), Instrument("probe", "thermometer")))
    roll = RollCall(lambda: bench, _at_once, lambda: heard.append(1))
    roll.follow(NOW, 19.9)
    assert calls == []
    roll.follow(NOW, 20.0)
    assert roll.silent == {"probe": "it does not answer"} and heard == [1]
    roll.follow(NOW + timedelta(hours=9), 9e4)
    assert len(calls) == 2
    answers["probe"] = ""
    roll.follow(NOW + timedelta(days=1), 9e5)
    assert roll.silent == {} and heard == [1, 1] and len(calls) == 4
    roll.again()
    roll.follow(NOW + timedelta(days=1), 9e5)
    assert len(calls) == 6 and heard == [1, 1], "nothing new is not told"
    lines = today([], {}, [], None, {}, NOW, {"probe": "no answer on its line"})
    assert [(one.group, one.code, one.station, one.sample_id) for one in lines] == [("now", "probe", "bench", 0)]


def test_a_run_waits_for_a_look_and_not_for_another_run(own_places: Path) -> None:
    thing = Thing("socket:1", "instrument load")
    look = take([thing], "the roll call", brief=True)
    Timer(0.5, look.release).start()
    begun = time.monotonic()
    run = take([thing], "a run")
    assert 0.4 < time.monotonic() - begun < 5.0
    with pytest.raises(InputError, match="taken by a run"):
        take([thing], "another run")
    with pytest.raises(InputError, match="taken by a run"):
        take([thing], "the roll call", patience_s=0.0, brief=True)
    assert time.monotonic() - begun < 5.5, "refused at once"
    run.release()


def test_who_a_run_has_is_not_asked_and_who_is_gone_is_told(tmp_path: Path, own_places: Path) -> None:
    bench = LiveBench(tmp_path)
    try:
        probe = Instrument("probe", "thermometer", address=bench.stand_ins.addresses()["thermometer"])
        assert asked(probe) == ""
        gone = replace(probe, name="gone", address="tcp:127.0.0.1:9")
        assert asked(gone) != ""
        held = take([thing_of(gone)], "a run")
        try:
            assert asked(gone) == ""
        finally:
            held.release()
    finally:
        bench.stop()

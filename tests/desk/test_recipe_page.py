"""Planning by a recipe: its steps, their editing, what bars a start, prompts."""

from __future__ import annotations

from datetime import datetime, timedelta
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QComboBox, QFileDialog, QPushButton

from tests.amount import some
from tests.desk.doing import bars_of, claim, planned, press, press_twice, start, texts, there
from wintry_tally.core.battery import FAMILIES
from wintry_tally.core.engine import Phase
from wintry_tally.desk.views.recipe_page import BY_HAND
from wintry_tally.desk.window import Window
from wintry_tally.exchange.recipe_file import shipped

FOR_LFP = sorted(t.name for t in shipped().values() if t.fits(FAMILIES["lfp"]) and t.station != "arrival")


def test_every_recipe_shows_its_steps_and_its_checks(one: Window) -> None:
    claim(one, "surge 80 A for 5 s", "40 A continuous", "70 min reserve")
    for name in FOR_LFP[:: some(3, 1)]:
        page = planned(one, name)
        shown = [line.text() for line in page.steps._sentences]
        assert shown and all(shown), name
        assert page.start_card.checks.messages or page.steps.recipe is not None, name
        if page.steps.recipe is not None and page.steps.recipe.live:
            assert page.start_card.caution_text.text().count("•") >= 3, name
        assert not page.start_card.start_button.isEnabled(), "nothing starts before the cautions are acknowledged"


def test_the_simulated_bench_has_a_charger_for_the_pack(one: Window) -> None:
    page = planned(one, "charge-lithium-full")
    assert "charger's" not in bars_of(page) and "14.6 V" in page.steps._sentences[0].text()
    one.session.set_sample(one.sample_id, "change nominal V", nominal_V=51.2)
    page = planned(one, "charge-lithium-full")
    assert "charger's" not in bars_of(page) and "58.4 V" in page.steps._sentences[0].text()
    assert {page._settings(where).pack.cells for where in ("", BY_HAND)} == {16}, (
        "what is simulated, and judged, is that pack"
    )


def test_heavy_currents_are_withheld_while_nothing_is_claimed(one: Window) -> None:
    page = planned(one, "hold")
    assert "heavy currents are withheld" in bars_of(page)
    page.start_card.acknowledged.click()
    assert not page.start_card.start_button.isEnabled()
    claim(one, "40 A continuous")
    page.review()
    assert "withheld" not in bars_of(page) and page.start_card.start_button.isEnabled()
    page.power.line.setText("100 W")
    page.review()
    assert "above the load's" in bars_of(page) and not page.start_card.start_button.isEnabled()
    page.power.line.setText("lots")
    page.review()
    assert "cannot be read" in bars_of(page)


def test_a_claim_that_a_recipe_needs_is_asked_for(one: Window) -> None:
    page = planned(one, "overload-trip")
    assert "Needs a claim first" in bars_of(page) or "nothing is known for" in bars_of(page)


def test_steps_can_be_edited_and_saved(one: Window, tmp_path: Path, monkeypatch) -> None:
    claim(one, "40 A continuous")
    page = planned(one, "hold")
    page.edit.click()
    line = page.steps.lines[1, "set to"]
    line.setText("30 A")
    line.editingFinished.emit()
    assert page.steps.recipe is not None and page.steps.recipe.steps[1].setting == 30.0
    line.setText("30 parsec")
    line.editingFinished.emit()
    assert page.steps.recipe is None and "parsec" in bars_of(page)
    line.setText("0.5 C")
    line.editingFinished.emit()
    until = page.steps.lines[1, "until"]
    until.setText("protection open; voltage 7 V; time 5 min")
    until.editingFinished.emit()
    assert "below the floor" in bars_of(page)
    until.setText("moonrise 3")
    until.editingFinished.emit()
    assert "ends nothing" in bars_of(page)
    until.setText("protection open; voltage floor")
    until.editingFinished.emit()
    assert "might never end" in bars_of(page)
    until.setText("protection open; time 2 min")
    until.editingFinished.emit()
    target = tmp_path / "mine.toml"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(target), ""))
    page._save()
    one.view("load").overview.open_recipe_file(target)
    assert page.steps.recipe is not None and page.steps.recipe.steps[1].setting == 20.0
    assert [rule.kind for rule in page.steps.recipe.steps[1].ends] == ["protection", "time"]
    target.write_text("nothing = ")
    one.view("load").overview.open_recipe_file(target)
    assert "TOML" in one.problem


def test_steps_are_added_moved_removed_and_taken_back(one: Window) -> None:
    page = planned(one, "capacity-reference")
    page.edit.click()

    def titles() -> list[str]:
        assert page.steps.template is not None
        return [step.title for step in page.steps.template.steps]

    before = titles()
    press(page.steps, "Add something by hand")
    assert titles() == [*before, "By hand"]
    press(page.steps, "Move step 4 up")
    assert titles() == [*before[:2], "By hand", before[2]]
    asks = page.steps.lines[2, "asks"]
    asks.setText("Photograph the clamps.")
    asks.editingFinished.emit()
    assert "Photograph the clamps." in " ".join(texts(page.steps))
    press(page.steps, "Remove step 1")
    assert titles() == [before[1], "By hand", before[2]]
    one.session.undo_stack.undo()
    assert titles() == [*before[:2], "By hand", before[2]], "Ctrl+Z brings it back"
    box = next(item for item in there(page.steps, QComboBox) if "how the load is set" in item.accessibleName())
    box.setCurrentIndex(box.findData("power"))
    box.activated.emit(box.currentIndex())
    assert page.steps.recipe is not None and page.steps.recipe.steps[1].mode == "power"
    for _ in range(3):
        press(page.steps, "Remove step 1")
    assert len(titles()) == 1
    press(page.steps, "Remove step 1")
    assert len(titles()) == 1, "a recipe has at least one step"


def test_a_run_by_a_recipe_asks_for_hands_and_settles_its_claim(qtbot, one: Window) -> None:
    claim(one, "40 A continuous")
    page = planned(one, "hold")
    page.edit.click()
    for place, text in ((0, "time 5 s"), (1, "protection open; time 5 min"), (2, "time 20 s")):
        line = page.steps.lines[place, "until"]
        line.setText(text)
        line.editingFinished.emit()
    start(qtbot, one, page, speed=1)
    run_page = one.view("load").page("run")
    qtbot.waitUntil(lambda: "Step 2 of 3" in run_page.step.text(), timeout=20000)
    run_page.mark.setText("fan on")
    qtbot.keyClick(run_page.mark, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: not one.session.running.live, timeout=60000)
    run = one.session.runs(one.sample_id)[-1]
    assert (
        run.station == "load" and run.recipe["method"] == "hold" and run.cause in {"time-limit", "battery-protection"}
    )
    assert "mark" in [event.kind for event in one.session.book.runs.events(run.id)]
    qtbot.waitUntil(lambda: one.session.dossier(one.sample_id) is not None, timeout=20000)
    verdict = next(v for v in one.session.dossier(one.sample_id).verdicts if v.claim.kind == "continuous-discharge")
    assert verdict.outcome.value == "met", verdict.advice


def test_prompts_wait_and_can_be_skipped(qtbot, one: Window) -> None:
    called: list[tuple[str, str]] = []
    one.session.rang.connect(lambda title, text: called.append((title, text)))
    page = planned(one, "wake-up")
    start(qtbot, one, page)
    run_page = one.view("revival").page("run")
    qtbot.waitUntil(run_page.prompt.isVisible, timeout=10000)
    live = one.session.running.of_sample(one.sample_id)
    assert live.latest.state.phase is Phase.PROMPTING and "cells" in run_page.asked.text()
    assert "waits for you" in run_page.state.text() and not run_page.pause.isEnabled()
    qtbot.waitUntil(lambda: any("hands" in title for title, _ in called), timeout=15000)
    # another station says where it goes on
    one.show_station("charge")
    assert any("is under way at Revival" in text for text in texts(one.view("charge")))
    one.show_station("revival")
    qtbot.mouseClick(run_page.done, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: live.latest.state.index >= 1, timeout=10000)
    assert run_page.across_button.isVisible()
    run_page.show_across()
    assert run_page._across.isVisible() and run_page._across.values["V"].text() != ""
    qtbot.keyClick(run_page._across, Qt.Key.Key_Escape)
    assert not run_page._across.isVisible()
    before = live.latest.state.index
    if live.latest.state.phase is not Phase.ENDED and before + 1 < len(live.recipe.steps):
        qtbot.mouseClick(run_page.skip, Qt.MouseButton.LeftButton)
    press_twice(qtbot, run_page.stop)
    qtbot.waitUntil(lambda: not one.session.running.live, timeout=20000)


def test_an_end_when_nobody_is_there_is_mended_as_offered(qtbot, one: Window) -> None:
    now = datetime.now()
    times = [f"{now + timedelta(hours=hours):%H:%M}" for hours in (-1, 3, 8, 12)]
    one.session.set_attended("{}-{}; {}-{}".format(*times))
    page = planned(one, "capacity-reference")
    page.bench.setCurrentIndex(page.bench.findData(BY_HAND))
    page.bench.activated.emit(page.bench.currentIndex())
    assert "when nobody is there" in bars_of(page)
    offers = {item.text() for item in there(page.start_card, QPushButton)}
    assert any(text.startswith("Begin at") for text in offers) and any(text.startswith("Draw ") for text in offers)
    before = page.steps.recipe
    assert before is not None
    press(page.start_card, next(text for text in offers if text.startswith("Draw ")))
    slower = page.steps.recipe
    assert slower is not None and slower.steps[1].setting < before.steps[1].setting
    assert "when nobody is there" not in bars_of(page), "the slower test ends in attended hours"
    page = planned(one, "capacity-reference")
    press(page.start_card, "Turn it down for the night")
    assert page.steps.template is not None and page.steps.template.name == "capacity-slow-night"
    one.session.undo_stack.undo()
    assert one.session.attended_text == "7:00-22:00"


def test_attended_hours_are_typed_on_the_bench_page(qtbot, one: Window) -> None:
    one.show_page("bench")
    line = one.page("bench").hours.line
    line.setText("Mon-Fri 8 to 17")
    line.editingFinished.emit()
    assert one.session.attended_text == "Mon-Fri 8 to 17"
    line.setText("half past")
    line.editingFinished.emit()
    assert "no hours" in one.page("bench").hours.problem and one.session.attended_text == "Mon-Fri 8 to 17"


def test_a_pack_that_gets_warm_is_warned_of_before_it_is_stopped(qtbot, one: Window) -> None:
    called: list[str] = []
    one.session.rang.connect(lambda title, text: called.append(f"{title}: {text}"))
    page = planned(one, "charge-lithium-usual")
    page.core.line.setText("54 °C")
    page.full.line.setText("30 %")
    page.review()
    start(qtbot, one, page, 0)
    run_page = one.view("charge").page("run")
    qtbot.waitUntil(lambda: any("is warm; at 60 °C it is stopped" in text for text in called), timeout=10000)
    qtbot.waitUntil(lambda: any("is warm" in text for text in run_page.warned.messages), timeout=15000)
    run_page.show_across()
    qtbot.waitUntil(lambda: "is warm" in run_page._across.head.text(), timeout=15000)
    run_page._across.close()
    assert sum("is warm" in text for text in called) == 1, "once in a step"
    kinds = [event.kind for event in one.session.book.runs.events(next(iter(one.session.running.live)))]
    assert kinds.count("warning") == 1

"""Render every main view of the demo book to PNG files, offscreen, at any size and in either theme.

python scripts/render_views.py [--size 1280x800] [--theme day|night] [--out docs/screenshots] [--only NAME ...]
"""

from __future__ import annotations

import argparse
import os
import sys
import tempfile
import time
from collections.abc import Callable
from datetime import datetime, timedelta
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QApplication

from wintry_tally.app import writing
from wintry_tally.book import Book
from wintry_tally.demo import scratch_copy
from wintry_tally.desk.app import make_application
from wintry_tally.desk.session import Session
from wintry_tally.desk.widgets.formula import Formula
from wintry_tally.desk.widgets.turns import turns
from wintry_tally.desk.window import Window


def wait(until: Callable[[], bool], seconds: float = 60.0) -> None:
    """Let the application live until something is so."""
    deadline = time.monotonic() + seconds
    while not until():
        QApplication.processEvents()
        time.sleep(0.01)
        if time.monotonic() > deadline:
            raise SystemExit("a view did not come up in time")


STILL_S = 0.2
"""Nothing may have been drawn for so long."""


def settle(seconds: float = 0.4) -> None:
    """Let it live for a moment, and on until nothing more is being drawn or filled."""
    rests = time.monotonic() + seconds
    while time.monotonic() < rests:
        QApplication.processEvents()
        time.sleep(0.01)
        if not turns().idle or any(not one.drawn for one in QApplication.allWidgets() if isinstance(one, Formula)):
            rests = max(rests, time.monotonic() + STILL_S)


def main() -> None:
    """Render the views asked for."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--size", default="1280x800")
    parser.add_argument("--theme", default="day", choices=["day", "night"])
    parser.add_argument("--out", type=Path, default=Path("docs/screenshots"))
    parser.add_argument("--only", nargs="*", default=[])
    asked = parser.parse_args()
    width, height = (int(part) for part in asked.size.split("x"))
    asked.out.mkdir(parents=True, exist_ok=True)
    folder = Path(tempfile.mkdtemp())
    QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, str(folder))
    make_application(asked.theme)
    writing.PATIENCE_S = 30.0  # however busy this machine is, each act stands on its picture
    session = Session()
    window = Window(session)
    window.resize(width, height)
    window.show()
    demo = scratch_copy(folder)
    with Book.open(demo) as book:
        exported = book.runs.original(next(run.id for run in book.runs.all() if run.original_name))
    assert exported is not None
    log = folder / exported[0]
    log.write_bytes(exported[1])

    def sample(code: str) -> int:
        return next(item.id for item in session.samples() if item.code == code)

    def show(code: str, station: str) -> None:
        window.station = station
        window.show_sample(sample(code))
        wait(lambda: all(session.dossier(item.id) is not None for item in session.samples()))
        settle()

    def arrival() -> None:
        show("M3", "arrival")

    def programme() -> None:
        show("M1", "programme")
        wait(lambda: session.drawn() is not None)
        settle()

    def capacity() -> None:
        show("M1", "capacity")
        report = next(item for item in session.dossier(sample("M1")).runs if item.facts.title.startswith("Capacity"))
        window.show_working(report.working("charge"))

    def station() -> None:
        window.hide_working()
        show("M1", "load")
        settle(0.5)

    def run() -> None:
        window.hide_working()
        show("M5", "capacity")
        settle(1.5)

    def hand() -> None:
        show("M2", "capacity")
        view = window.view("capacity")
        view.begin_hand()
        page = view.page("hand")
        page.accuracy_V.line.setText("0.5% + 2 digits")
        page.accuracy_A.line.setText("1% + 2 digits")
        page._begin_run()
        for volts, amps, counter in (("13.32", "8.00", "0.00"), ("13.14", "8.00", "0.02")):
            hour = datetime.now() - timedelta(hours=2)
            page.entry.time.setText("+10 s" if counter != "0.00" else f"{hour:%H:%M}")
            page.entry.volts.line.setText(volts)
            page.entry.amps.line.setText(amps)
            page.entry.counter.line.setText(counter)
            page.entry.enter(anyway=True)
        page.entry.time.setText("+30 min")
        page.entry.volts.line.setText("1.311")
        page.entry.amps.line.setText("8")
        page.entry.enter()

    def importing() -> None:
        show("M6", "capacity")
        window.import_log(log)
        page = window.view("capacity").page("import")
        page.accuracy_V.line.setText("0.5%+2d")
        page.accuracy_A.line.setText("1%+2d")
        wait(lambda: page.keep_button.isEnabled())
        page._look()
        settle(0.3)
        wait(lambda: page.keep_button.isEnabled())
        settle(0.5)

    def setup() -> None:
        from wintry_tally.exchange.recipe_file import shipped_recipe

        window.hide_working()
        show("M1", "load")
        window.view("load").plan_recipe(shipped_recipe("hold"))

    def guided() -> None:
        from wintry_tally.desk.views.recipe_page import BY_HAND
        from wintry_tally.exchange.recipe_file import shipped_recipe

        window.hide_working()
        show("M2", "capacity")
        window.view("capacity").plan_recipe(shipped_recipe("capacity-reference"))
        page = window.view("capacity").page("recipe")
        page.bench.setCurrentIndex(page.bench.findData(BY_HAND))
        page.bench.activated.emit(page.bench.currentIndex())
        page.accuracy_V.line.setText("0.5% + 2 digits")
        page.accuracy_A.line.setText("1% + 2 digits")
        page.review()
        page.start_card.acknowledged.click()
        page.start()
        run = session.running.of_sample(sample("M2")).run
        path = session.book.path
        session.close_book()
        with Book.open(path) as book:  # begun some hours ago, so that there is something to show
            book.runs.change(run.id, started_utc=(run.started - timedelta(hours=4)).isoformat())
        window.open_book(path)
        wait(lambda: session.has_book and session.running.of_sample(sample("M2")) is not None)
        show("M2", "capacity")
        view = window.view("capacity").page("run")
        wait(lambda: "switch the load on" in view.guided.asks.text())
        entry = view.guided.entry
        readings = [("13.35", "0"), *((volts, "8.0") for volts in ("13.21", "13.15", "13.11", "13.07", "13.02"))]
        for place, (volts, amps) in enumerate(readings):
            at = datetime.now() - timedelta(hours=2.9 - 0.5 * max(0, place - 1), seconds=120 if place == 0 else 0)
            entry.time.setText(f"{at:%H:%M:%S}")
            entry.volts.line.setText(volts)
            entry.amps.line.setText(amps)
            entry.counter.line.setText(f"{4.0 * max(0, place - 1):.2f}")
            entry.enter(anyway=True)
            settle(0.4)
        entry.volts.line.setText("1.298")
        entry.amps.line.setText("8")
        entry.enter()

    def across() -> None:
        show("M5", "capacity")
        page = window.view("capacity").page("run")
        page.show_across()
        settle(0.8)
        page._across.resize(width, height)
        settle(0.3)
        page._across.grab().save(str(asked.out / "across.png"))
        page._across.close()

    def bench() -> None:
        session.start_stand_ins()
        window.show_page("bench")
        window.page("bench").new_channel()
        window.page("bench").channel_form.show_channel(session.equipment.channels[0], session.equipment)
        meter = next(item for item in session.equipment.instruments if item.name == "stand-in meter")
        window.page("bench").read_all()
        settle(2.5)
        window.page("bench").read_once(meter)
        settle(1.5)

    def safe() -> None:
        session.start_stand_ins()
        session._stand_ins.world.fault("supply", "silence")
        window.make_safe()
        wait(lambda: "NOT" in window.worst.page.head.text())
        settle(0.5)
        session._stand_ins.world.fault("supply", "silence", on=False)

    def preferences() -> None:
        window.pages.setCurrentIndex(1)
        window.show_preferences()
        page = window.page("preferences")
        for box in page.units.values():
            box.setCurrentIndex(1)
            box.activated.emit(1)

    def curves() -> None:
        show("M1", "curves")

    def ledger() -> None:
        show("M2", "ledger")
        view = window.view("ledger")
        window.show_working(next(iter(view.figures.values())).working())

    def compare() -> None:
        session.set_needs("a need", ["mast: logger 0.85 A down to 11.4 V; radio 12 W 5 %; 40 h at -10 °C"])
        window.hide_working()
        window.show_page("compare")
        wait(lambda: bool(window.page("compare")._known))
        settle(0.5)

    def report() -> None:
        show("M1", "report")

    def planned() -> None:
        wait(lambda: session.drawn() is not None and session.drawn().thorough)
        settle(0.5)

    def today() -> None:
        window.show_page("today")
        planned()

    def days() -> None:
        window.show_page("plan")
        planned()
        page = window.page("plan")
        page.chart.pick(next(bar.id for bar in page.chart.bars() if bar.id.startswith("M2-shelf-end")))
        page.chart.setFocus()

    steps = {
        "today": today,
        "days": days,
        "arrival": arrival,
        "programme": programme,
        "capacity": capacity,
        "station": station,
        "run": run,
        "import": importing,
        "curves": curves,
        "setup": setup,
        "ledger": ledger,
        "compare": compare,
        "report": report,
        "across": across,
        "hand": hand,
        "bench": bench,
        "safe": safe,
        "guided": guided,
        "preferences": preferences,
    }
    for name, step in steps.items():
        if name == "today":
            window.open_book(demo)
            wait(lambda: session.has_book)
        if asked.only and name not in asked.only:
            continue
        step()
        settle()
        suffix = "" if asked.theme == "day" else "-night"
        if name != "across":
            window.grab().save(str(asked.out / f"{name}{suffix}.png"))
    window.close()
    sys.stdout.flush()


if __name__ == "__main__":
    main()

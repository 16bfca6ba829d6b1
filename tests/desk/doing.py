"""What journeys through the stations have in common: a claim, a planned recipe, what is said and pressed."""

from __future__ import annotations

from typing import TypeVar

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QLabel, QPushButton, QWidget

from wintry_tally.app.live_run import LiveRun
from wintry_tally.bench.stand_ins.world import StandInWorld
from wintry_tally.core.battery import parse_claim
from wintry_tally.core.engine import Phase
from wintry_tally.desk.views.recipe_page import RecipePage
from wintry_tally.desk.widgets.letting_go import let_all_go
from wintry_tally.desk.widgets.turns import turns
from wintry_tally.desk.window import Window
from wintry_tally.exchange.recipe_file import shipped_recipe

Part = TypeVar("Part", bound=QWidget)


def settled(qtbot, quiet_ms: int = 60) -> None:
    """Wait until what draws or fills a part of the window bit by bit is through, and nothing has begun after it."""
    still = 0
    for _ in range(1000):
        qtbot.wait(10)
        still = still + 10 if turns().idle else 0
        if still >= quiet_ms:
            return
    raise AssertionError("the window does not come to rest")


def draw(qtbot, live: LiveRun, world: StandInWorld) -> None:
    """Wait until a run on the stand-ins draws; one that ends before it does says why."""

    def draws() -> bool:
        state = live.latest.state
        if live.latest.ended:
            raise RuntimeError(f"it ended before it drew: {state.cause} {live.latest.trouble} {live.latest.fault}")
        return state.phase is Phase.DISCHARGING and world.true_current_A > 4.0

    qtbot.waitUntil(draws, timeout=60000)  # however busy the machine


def claim(window: Window, *texts: str) -> None:
    for text in texts:
        window.session.add_claim(window.sample_id, parse_claim(text))


def planned(window: Window, name: str) -> RecipePage:
    template = shipped_recipe(name)
    window.show_station(template.station)
    view = window.view(template.station)
    view.plan_recipe(template)
    return view.page("recipe")


def bars_of(page: RecipePage) -> str:
    return " ".join(page.start_card.checks.messages)


# --- stations and their recipes ---


def there(widget: QWidget, kind: type[Part]) -> list[Part]:
    """The parts of a kind, without those that were let go of."""
    let_all_go()
    return widget.findChildren(kind)


def texts(widget) -> list[str]:
    return [shown.text() for shown in there(widget, QLabel)]


def start(qtbot, window: Window, page: RecipePage, speed: int = -1) -> None:
    page.speed.setCurrentIndex(speed % page.speed.count())
    page.start_card.acknowledged.click()
    assert page.start_card.start_button.isEnabled(), page.start_card.checks.messages
    qtbot.mouseClick(page.start_card.start_button, Qt.MouseButton.LeftButton)
    assert window.session.running.of_sample(window.sample_id) is not None


def press(parent: QWidget, name: str) -> None:
    """Press the button of this accessible name."""
    next(item for item in there(parent, QPushButton) if item.accessibleName() == name).click()


def press_twice(qtbot, key: QPushButton) -> None:
    """Press a key that asks back, and again when that is no double click any more."""
    qtbot.mouseClick(key, Qt.MouseButton.LeftButton)
    qtbot.wait(QApplication.doubleClickInterval() + 50)
    qtbot.mouseClick(key, Qt.MouseButton.LeftButton)

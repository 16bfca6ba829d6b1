"""The guard's own script in this process: one exchange, and switching one instrument off.

What it does as a process of its own is tested in test_guard. Common practice, no published source.
"""

from __future__ import annotations

import contextlib
import os
import pty
import socket
import termios
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

from wintry_tally.bench.guard import process
from wintry_tally.bench.guard.process import Line, switch_off
from wintry_tally.bench.offplan import Exchange, OffPlan

Answer = Callable[[bytes], "bytes | tuple[bytes, ...] | None"]
"""What an instrument answers to what came: bytes, bytes in parts a moment apart, or nothing; it hangs up on b"bye"."""


@pytest.fixture(autouse=True)
def quick(monkeypatch: pytest.MonkeyPatch) -> None:
    """A third of what it waits for an instrument."""
    assert (process.LIMIT_S, process.SETTLE_S) == (0.7, 0.2)
    monkeypatch.setattr(process, "LIMIT_S", 0.25)
    monkeypatch.setattr(process, "SETTLE_S", 0.05)


@pytest.fixture
def serves() -> Iterator[Callable[[Answer], int]]:
    """Puts an instrument on a port of its own."""
    listeners = list[socket.socket]()

    def made(answer: Answer) -> int:
        listener = socket.create_server(("127.0.0.1", 0))
        listeners.append(listener)

        def go() -> None:
            while True:
                try:
                    line, _ = listener.accept()
                except OSError:
                    return
                with line, contextlib.suppress(ConnectionError):
                    while came := line.recv(4096):
                        told = answer(came)
                        if told == b"bye":
                            break
                        for part in (told,) if isinstance(told, bytes) else told or ():
                            line.sendall(part)
                            time.sleep(0.03)

        threading.Thread(target=go, daemon=True).start()
        return int(listener.getsockname()[1])

    yield made
    for listener in listeners:
        listener.close()


def at(port: int, **more: Any) -> dict[str, Any]:
    return OffPlan("load", "the load's lead", "127.0.0.1", port, **more).data()


OFF, ASK = Exchange(b"OFF\n"), Exchange(b"IS?\n", b"\n")


# --- one exchange ---


@pytest.mark.parametrize(
    ("answer", "exchange", "comes", "least_s", "most_s"),
    [
        (b"1\n", Exchange(b"?", b"\n"), b"1", 0.0, 5.0), ((b"1", b"2\n3"), Exchange(b"?", b"\n"), b"12", 0.0, 5.0),
        (b"abcdef", Exchange(b"?", size=4), b"abcd", 0.0, 5.0), ((b"ab", b"cd"), Exchange(b"?", size=4), b"abcd", 0.0, 5.0),
        (b"1\n", Exchange(b"?"), b"", 0.0, 5.0), (b"12", Exchange(b"?", b"\n"), None, 0.2, 5.0),
        (b"ab", Exchange(b"?", size=4), None, 0.2, 5.0), (None, Exchange(b"?", b"\n"), None, 0.2, 5.0),
        (b"bye", Exchange(b"?", b"\n"), None, 0.0, 5.0), (b"1" * 5000, Exchange(b"?", b"\n"), None, 0.0, 5.0),
    ],
)  # fmt: skip
def test_an_answer_counts_that_comes_whole_and_in_time(
    answer: Any, exchange: Exchange, comes: bytes | None, least_s: float, most_s: float, serves: Callable
) -> None:
    """Within its limit, and no more than 4096 bytes; of one without an end nothing is waited for."""
    line = Line(at(serves(lambda _: answer)))
    begun = time.monotonic()
    assert line.exchange(exchange.data()) == comes
    assert least_s <= time.monotonic() - begun <= most_s
    line.close()
    with pytest.raises(OSError, match=r"."):
        os.fstat(line.number)


def test_a_line_that_takes_nothing_is_lost_and_not_waited_for() -> None:
    with socket.create_server(("127.0.0.1", 0)) as listener:
        line = Line(at(listener.getsockname()[1]))
        begun = time.monotonic()
        with pytest.raises(OSError, match="takes nothing"):
            line.exchange(Exchange(b"x" * 50_000_000, b"\n").data())
        assert 0.2 < time.monotonic() - begun < 10.0
        line.close()


def test_a_serial_line_is_raw_at_its_speed_and_what_stood_in_it_is_gone() -> None:
    """POSIX termios: no echo, no lines, no signals, eight bits."""
    inner, outer = pty.openpty()
    os.write(inner, b"old\n")
    line = Line(OffPlan("load", "it", path=os.ttyname(outer), baud=19200).data())
    iflag, oflag, cflag, lflag, ispeed, ospeed, _ = termios.tcgetattr(line.number)
    assert (iflag, oflag, lflag) == (0, 0, 0) and (ispeed, ospeed) == (termios.B19200, termios.B19200)
    assert cflag & termios.CSIZE == termios.CS8 and cflag & termios.CREAD and cflag & termios.CLOCAL
    threading.Thread(target=lambda: (os.read(inner, 100), os.write(inner, b"0\r\n")), daemon=True).start()
    assert line.exchange(Exchange(b"IS?\n", b"\r\n").data()) == b"0"
    line.close()
    with pytest.raises(OSError, match="Bad file"):
        os.fstat(line.number)
    odd = Line(OffPlan("load", "it", path=os.ttyname(outer), baud=12345).data())
    assert termios.tcgetattr(odd.number)[4] == termios.B9600
    odd.close()
    os.close(inner)
    os.close(outer)


def test_what_is_no_terminal_is_spoken_to_as_it_is(tmp_path: Path) -> None:
    path = tmp_path / "pipe"
    os.mkfifo(path)
    line = Line(OffPlan("load", "it", path=str(path)).data())
    assert line.exchange(OFF.data()) == b""
    line.close()


# --- switching off ---


@pytest.mark.parametrize(
    ("told", "plan", "seen"),
    [
        (b"0\n", {}, (True, "off")), (b"OFF\n", {}, (True, "off")), (b"1\n", {}, (False, "says that it is still on")),
        (None, {}, (False, "does not answer")), (b"bye", {}, (False, "does not answer")),
        (b"\x01\x00", {"asks": Exchange(b"IS?\n", size=2), "off_answer": b"\x01\x00"}, (True, "off")),
        (b"\x01\x01", {"asks": Exchange(b"IS?\n", size=2), "off_answer": b"\x01\x00"}, (False, "says that it is still on")),
        (b"0\n", {"asks": None}, (False, "was told, and nothing here can see whether it is off")),
    ],
)  # fmt: skip
def test_off_is_said_and_looked_for(told: bytes | None, plan: dict, seen: tuple[bool, str], serves: Callable) -> None:
    heard: list[bytes] = []

    def answer(came: bytes) -> bytes | None:
        heard.append(came)
        return told if b"IS?" in came else None

    made = at(serves(answer), **{"says": (OFF,), "asks": ASK, **plan})
    assert switch_off(made) == seen
    until = time.monotonic() + 20.0
    while not heard and time.monotonic() < until:
        time.sleep(0.01)
    assert b"".join(heard).startswith(b"OFF\n")
    if seen[0]:
        heard.clear()
        assert switch_off(made, say=False) == seen and b"OFF" not in b"".join(heard)


def test_one_that_must_acknowledge_and_does_not_is_not_asked_further(serves: Callable) -> None:
    heard: list[bytes] = []
    port = serves(lambda came: heard.append(came))  # type: ignore[func-returns-value]
    assert switch_off(at(port, says=(Exchange(b"HALT\n", b"\n"),), asks=ASK)) == (False, "does not answer")
    assert heard == [b"HALT\n"]


def test_one_that_cannot_be_reached_says_so() -> None:
    with socket.create_server(("127.0.0.1", 0)) as listener:
        port = listener.getsockname()[1]
    off, words = switch_off(at(port, says=(OFF,)))
    assert not off and words.startswith("cannot be reached (") and "refused" in words


@pytest.mark.parametrize(
    ("reads", "seen", "asked"),
    [
        ([b"0.04\n", b"-0.05\n", b"0.0\n"], (True, "off by its meter"), 3),
        ([b"0.04\n", b"0.051\n", b"0.0\n"], (False, "was told, and its meter reads 0.051 A"), 2),
        ([b"-0.06\n"], (False, "was told, and its meter reads -0.06 A"), 1),
        ([b"0.01\n", None], (False, "was told, and its meter reads nan A"), 2),
        ([b"OL\n"], (False, "was told; its meter gives no number"), 1),
    ],
)  # fmt: skip
def test_where_it_cannot_be_asked_three_readings_at_zero_of_its_meter_count(
    reads: list, seen: tuple[bool, str], asked: int, serves: Callable
) -> None:
    given: list[bytes] = []

    def read(came: bytes) -> bytes | None:
        given.append(came)
        told: bytes | None = reads[min(len(given), len(reads)) - 1]
        return told

    meter = OffPlan("meter", "", "127.0.0.1", serves(read))
    load = serves(lambda _: None)
    plan = at(load, says=(OFF,), meter=meter, current=Exchange(b"I?\n", b"\n"), zero_A=0.05)
    begun = time.monotonic()
    assert switch_off(plan) == seen and len(given) == asked
    assert time.monotonic() - begun >= 0.05 * asked, "it is given time to settle"


def test_a_meter_that_cannot_be_reached_sees_nothing(serves: Callable) -> None:
    with socket.create_server(("127.0.0.1", 0)) as listener:
        gone = OffPlan("meter", "", "127.0.0.1", listener.getsockname()[1])
    off, words = switch_off(at(serves(lambda _: None), says=(OFF,), meter=gone, current=ASK))
    assert not off and words.startswith("was told; its meter cannot be reached (")

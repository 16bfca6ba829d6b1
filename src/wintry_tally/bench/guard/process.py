"""The guard's own process. Standard library only, started by path, dull on purpose.

It reads lines of JSON or single words from its standard input: first the plan, then `b` (I live), `x` (over, and seen
off), `t` (switch off now), `a` (I have seen what you did). When the pipe closes, or nothing came for `late_s`, or it is
told to, it says off to every instrument of the plan over lines of its own, looks, writes down what it did, and shouts
until everything is seen off or somebody ends it. What it has switched off stays off until the program has said that it
knows: a program that stood still and wakes up cannot switch on behind its back.
"""

from __future__ import annotations

import contextlib
import json
import os
import select
import shutil
import signal
import socket
import subprocess
import threading
import time
from typing import Any

Plan = dict[str, Any]
LIMIT_S = 0.7
AGAIN_S = 1.0
SHOUT_S = 2.0
LOOK_S = 1.0
LOOKS, WATCH_S = 10, 0.1
SETTLE_S = 0.2
MOST = 4096
ASKED, SILENT = "asked", "silent"
WHY = {
    "gone": "the program is gone",
    ASKED: "the program could not",
    "ended": "the guard was told to end",
    SILENT: "the program has stood still for {late_s:g} s",
}
"""Why it acts, in words."""


class Line:
    """A TCP or serial line, opened for a few exchanges."""

    def __init__(self, plan: Plan) -> None:
        self.socket: socket.socket | None = None
        self.port: int | None = None
        self.number = -1
        if plan["host"]:
            self.socket = socket.create_connection((plan["host"], plan["port"]), timeout=LIMIT_S)
            self.number = self.socket.fileno()
        else:
            self.port = os.open(plan["path"], os.O_RDWR | os.O_NOCTTY | os.O_NONBLOCK)
            self.number = self.port
            _raw(self.port, plan["baud"])

    def exchange(self, part: Plan) -> bytes | None:
        """Send, and give back the answer (bytes), or None where none came whole and in time."""
        self._send(bytes.fromhex(part["send"]))
        end, size, found = bytes.fromhex(part["end"]), part["size"], b""
        if not end and not size:
            return b""
        until = time.monotonic() + LIMIT_S
        while time.monotonic() < until and len(found) < MOST:
            ready, _, _ = select.select([self.number], [], [], max(0.0, until - time.monotonic()))
            if not ready:
                break
            more = os.read(self.number, MOST) if self.socket is None else self.socket.recv(MOST)
            if not more:
                break
            found += more
            if (end and end in found) or (size and len(found) >= size):
                return found.split(end)[0] if end else found[:size]
        return None

    def _send(self, content: bytes) -> None:
        until = time.monotonic() + LIMIT_S
        while content:
            _, ready, _ = select.select([], [self.number], [], max(0.0, until - time.monotonic()))
            if not ready:
                raise OSError("it takes nothing")
            sent = os.write(self.number, content) if self.socket is None else self.socket.send(content)
            content = content[sent:]

    def close(self) -> None:
        """Let go."""
        if self.socket is not None:
            self.socket.close()
        elif self.port is not None:
            os.close(self.port)


def _raw(port: int, baud: int) -> None:
    import termios

    try:
        attributes = termios.tcgetattr(port)
    except termios.error:
        return
    speed = getattr(termios, f"B{baud}", termios.B9600)
    attributes[0] = attributes[1] = attributes[3] = 0
    attributes[2] = termios.CS8 | termios.CREAD | termios.CLOCAL
    attributes[4] = attributes[5] = speed
    termios.tcsetattr(port, termios.TCSANOW, attributes)
    termios.tcflush(port, termios.TCIFLUSH)


def says_off(answer: bytes | None, off_answer: str) -> bool:
    """Whether an answer means off: the very bytes, the word OFF, or a number that is zero."""
    if answer is None:
        return False
    if off_answer:
        return answer == bytes.fromhex(off_answer)
    word = answer.decode("ascii", errors="replace").strip().upper()
    if word == "OFF":
        return True
    try:
        return float(word) == 0.0
    except ValueError:
        return False


def switch_off(plan: Plan, *, say: bool = True) -> tuple[bool, str]:
    """Say off to one instrument and look; (whether it is seen off, words)."""
    try:
        line = Line(plan)
    except OSError as error:
        return False, f"cannot be reached ({error})"
    try:
        for part in plan["says"] if say else ():
            if line.exchange(part) is None:
                return False, "does not answer"
        if plan["asks"] is None:
            return _seen_by_meter(plan)
        answer = line.exchange(plan["asks"])
        if answer is None:
            return False, "does not answer"
        return (True, "off") if says_off(answer, plan["off_answer"]) else (False, "says that it is still on")
    except OSError as error:
        return False, f"was lost ({error})"
    finally:
        line.close()


def _seen_by_meter(plan: Plan) -> tuple[bool, str]:
    """Three readings at zero of another meter, where there is one that can be asked."""
    if plan["meter"] is None:
        return False, "was told, and nothing here can see whether it is off"
    try:
        line = Line(plan["meter"])
    except OSError as error:
        return False, f"was told; its meter cannot be reached ({error})"
    try:
        for _ in range(3):
            time.sleep(SETTLE_S)
            answer = line.exchange(plan["current"])
            amps = float(answer.decode("ascii", errors="replace")) if answer is not None else float("nan")
            if not abs(amps) <= plan["zero_A"]:
                return False, f"was told, and its meter reads {amps:g} A"
    except (OSError, ValueError):
        return False, "was told; its meter gives no number"
    finally:
        line.close()
    return True, "off by its meter"


class Guard:
    """One run's guard."""

    def __init__(self, plan: Plan) -> None:
        self.plan = plan
        self.results = {item["name"]: (False, "not told yet") for item in plan["instruments"]}
        self.begun = time.time()
        self.shouted = 0.0
        self.why = self.reason = ""
        self.ended = False

    def answer(self, **words: Any) -> None:
        """To the program, if it still listens."""
        try:
            os.write(1, (json.dumps(words) + "\n").encode())
        except OSError:
            return

    def watch(self) -> str:
        """Until there is something to do: a key of WHY, or empty where it is over.

        Where the whole machine stood still, and this with it, the program is given LOOKS looks to speak first: else a
        program that lives would be ended for what the machine did.
        """
        pending, last, looks = b"", time.monotonic(), 0
        while True:
            ready, _, _ = select.select([0], [], [], WATCH_S)
            looks += 1
            if ready:
                more = os.read(0, MOST)
                if not more:
                    return "gone"
                *whole, pending = (pending + more).split(b"\n")
                last, looks = time.monotonic(), 0
                if b"x" in whole:
                    return ""
                if b"t" in whole:
                    return ASKED
            if self.ended:
                return "ended"
            if looks >= LOOKS and time.monotonic() - last > self.plan["late_s"]:
                return SILENT

    def act(self, reason: str) -> bool:
        """Off, over lines of its own, until it is seen; True when it is over, False when the program lives on."""
        self.reason, self.why = reason, WHY[reason].format(**self.plan)
        if reason == SILENT and any(item["alone"] for item in self.plan["instruments"]):
            end_program(self.plan["program"], self.plan["program_started"])
        while True:
            begun = time.monotonic()
            self._all(say=True)
            left = [name for name, (off, _) in self.results.items() if not off]
            self.write(done=not left)
            if not left:
                self.answer(acted="off", why=self.why, reason=reason)
                return self._hold()
            if reason == SILENT:
                # whoever does not answer may be serving the one that stands still
                end_program(self.plan["program"], self.plan["program_started"])
            left_on = {name: self.results[name][1] for name in left}
            self.answer(acted="unknown", why=self.why, reason=reason, left=left_on)
            self.shout(left)
            if self.ended:
                return True
            heard = self._heard(max(0.0, AGAIN_S - (time.monotonic() - begun)))
            if heard == "x":
                return True

    def _all(self, *, say: bool) -> None:
        def one(item: Plan) -> None:
            self.results[item["name"]] = switch_off(item, say=say)

        threads = [threading.Thread(target=one, args=(item,), daemon=True) for item in self.plan["instruments"]]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join(4 * LIMIT_S)

    def _hold(self) -> bool:
        """Everything is off; look at it again until the program has gone, or says that it knows."""
        while True:
            heard = self._heard(LOOK_S)
            if heard in {"gone", "x"} or self.ended:
                return True
            if heard == "a":
                return False
            if not any(item["alone"] for item in self.plan["instruments"]):
                self._all(say=False)
                if any(not off and words == "says that it is still on" for off, words in self.results.values()):
                    self._all(say=True)

    def _heard(self, seconds: float) -> str:
        """What the program says within a time: "a", "x", "gone", or nothing."""
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            if self.plan.get("closed"):
                time.sleep(max(0.0, min(0.2, until - time.monotonic())))
                continue
            ready, _, _ = select.select([0], [], [], max(0.0, until - time.monotonic()))
            if not ready:
                return ""
            more = os.read(0, MOST)
            if not more:
                self.plan["closed"] = True
                return "gone"
            words = more.split(b"\n")
            for word in (b"x", b"a"):
                if word in words:
                    return word.decode()
        return "gone" if self.plan.get("closed") else ""

    def write(self, *, done: bool) -> None:
        """What it did, where the next start finds it."""
        record = {
            "run": self.plan["run"], "book": self.plan["book"], "title": self.plan["title"], "why": self.why, "guard": os.getpid(),
            "at": self.begun if not self.why else time.time(), "done": done,
            "results": {name: {"off": off, "words": words} for name, (off, words) in self.results.items()},
        }  # fmt: skip
        path = self.plan["record"]
        try:
            with open(path + ".new", "w", encoding="utf-8") as file:
                json.dump(record, file)
                file.flush()
                os.fsync(file.fileno())
            os.replace(path + ".new", path)
        except OSError:
            return  # nowhere to write: switching off goes before

    def shout(self, left: list[str]) -> None:
        """Terminal, notification and sound."""
        if time.monotonic() - self.shouted < SHOUT_S:
            return
        self.shouted = time.monotonic()
        plugs = {item["name"]: item["plug"] for item in self.plan["instruments"]}
        words = "; ".join(f"{name} {self.results[name][1]}: unplug {plugs[name]} at the battery" for name in left)
        text = f"{self.plan['title']}: {self.why}, and {words}."
        with contextlib.suppress(OSError):
            os.write(2, f"\a{text}\n".encode())
        for command in (
            ["notify-send", "-u", "critical", "Unplug now", text],
            *([player, self.plan["sound"]] for player in ("pw-play", "paplay", "aplay") if self.plan["sound"]),
        ):
            if shutil.which(command[0]):
                subprocess.Popen(
                    command, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
                    start_new_session=True,
                )  # fmt: skip
                if command[0] != "notify-send":
                    break


def end_program(number: int, started: str) -> None:
    """End a program that stands still, if it is still the same one, so that its lines are free."""
    try:
        with open(f"/proc/{number}/stat", encoding="ascii", errors="replace") as file:
            if file.read().rpartition(")")[2].split()[19] != started:
                return
        os.kill(number, signal.SIGKILL)
    except (OSError, IndexError):
        return
    time.sleep(0.1)


def main() -> None:
    """Read the plan, answer that it is ready, watch."""
    head = b""
    while b"\n" not in head:
        more = os.read(0, 65536)
        if not more:
            return
        head += more
    plan = json.loads(head.split(b"\n")[0])
    guard = Guard(plan)
    for number in (signal.SIGINT, signal.SIGHUP, signal.SIGPIPE):
        signal.signal(number, signal.SIG_IGN)
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)
    signal.signal(signal.SIGTERM, lambda *_: setattr(guard, "ended", True))
    guard.answer(ready=True)
    while True:
        reason = guard.watch()
        if not reason or guard.act(reason):
            return


if __name__ == "__main__":
    main()

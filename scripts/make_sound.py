"""Make the sound that calls a person: two short, soft tones. `python scripts/make_sound.py`"""

from __future__ import annotations

import wave
from pathlib import Path

import numpy as np

RATE = 22_050
TONES = ((660.0, 0.0, 0.35), (880.0, 0.22, 0.45))
"""Frequency in Hz, beginning and length in s."""
TARGET = Path(__file__).parent.parent / "src" / "wintry_tally" / "bench" / "guard" / "call.wav"


def main() -> None:
    """Write it: 16 bits, one channel."""
    time_s = np.arange(int(RATE * 0.75)) / RATE
    sound = np.zeros_like(time_s)
    for hertz, begins, lasts in TONES:
        own = (time_s >= begins) & (time_s < begins + lasts)
        inside = time_s[own] - begins
        sound[own] += (
            0.32 * np.sin(2 * np.pi * hertz * inside) * np.minimum(1.0, inside / 0.01) * np.exp(-inside / 0.12)
        )
    with wave.open(str(TARGET), "wb") as file:
        file.setnchannels(1)
        file.setsampwidth(2)
        file.setframerate(RATE)
        file.writeframes((sound * 32_000).astype("<i2").tobytes())


if __name__ == "__main__":
    main()

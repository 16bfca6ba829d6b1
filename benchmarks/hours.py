"""Random use of eight channels with random faults. `python -m benchmarks.hours [SECONDS] [SEED]`"""

from __future__ import annotations

import os
import sys
import tempfile
from pathlib import Path

from tests.bench.eight import Eight


def main() -> None:
    """Use them, print what was done and what was left on unsaid."""
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 600.0
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else 7
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        os.environ["XDG_STATE_HOME"] = str(folder / "state")
        os.environ["WINTRY_TALLY_TAKEN"] = str(folder / "taken")
        eight = Eight(folder, seed)
        eight.use(seconds)
        left = eight.close()
        print(eight.done)
        print(f"left on unsaid: {eight.unsaid or 'nothing'}; flowing at the end: {left or 'nothing'}")


if __name__ == "__main__":
    main()

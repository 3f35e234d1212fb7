"""Writes docs/steadiness.md: made events of flicker that are found and missed, and calm frames that are told of.

PYTHONPATH=core:core/tests python tools/flicker.py [FIRST LAST]     seeds of the scenes, 200 to 224 by default
"""

import sys
from pathlib import Path

import numpy as np
from flicker_scenes import KINDS, scene, told_of

TEXT = """# Steadiness

What `nexal steady` and *Steadiness* say of scenes with known flicker (`core/tests/flicker_scenes.py`: a body with hair
before a screen, moved by up to ten pixels a frame, drifting in brightness, with noise; 320 x 180, 16 frames, two events
each). *Events* are frames where the matte goes by more than 0.01, in the mean near its edges, to or from what it is
without the event; *calm* ones those below 0.002. A lamp's events are mostly smaller than an event. Made by
`tools/flicker.py`, with seeds that no figure of the code was chosen by.

| what flickers | scenes | events | found | calm frames | called flickering | could not be told |
|---|---|---|---|---|---|---|
"""


def main(first: int, last: int) -> None:
    lines = []
    for kind in KINDS:
        counts = np.zeros(5, int)
        for seed in range(first, last + 1):
            made = scene(kind, seed)
            for row, size in zip(told_of(made.pictures, made.mattes)["frames"][1:], made.made[1:], strict=True):
                flickers, event, calm = row["verdict"] == "flickers", size > 0.01, size < 0.002
                counts += [event, event and flickers, calm, calm and flickers, row["verdict"] == "cannot_tell"]
        lines.append(f"| {kind} | {last - first + 1} | " + " | ".join(map(str, counts)) + " |\n")
        print(lines[-1], end="", flush=True)
    Path("docs/steadiness.md").write_text(TEXT + "".join(lines), encoding="utf-8")


if __name__ == "__main__":
    main(*(int(number) for number in sys.argv[1:3] or (200, 224)))

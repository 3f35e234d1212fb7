"""The pictures of the page of help that tells how a whole matte comes about, from the demo's moth.

python tools/help_pictures.py  (writes web/public/help)
"""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT), str(ROOT / "core")]

from demo.night.moth import make_moth  # noqa: E402
from nexal.kernels import solving  # noqa: E402
from nexal.kernels.denoising import SEARCH, STRENGTH, averaged, noise_of  # noqa: E402
from nexal.kernels.pointmath import encode  # noqa: E402
from nexal.kernels.screens import bare_screen, estimated  # noqa: E402

FOLDER = ROOT / "web/public/help"
GROUND, LINE, LIGHT = (0x12, 0x12, 0x12), (0x3A, 0x3A, 0x3A), (0xE8, 0xE8, 0xE4)
WIDTH, HEIGHT = 720, 405
Codes = NDArray[np.uint8]


def _codes(light: NDArray[Any]) -> Codes:
    """Blue first, as the library writes it."""
    made: Codes = (np.clip(encode(light.astype(np.float32)), 0, 1) * 255 + 0.5).astype(np.uint8)[..., ::-1]
    return made


def rays(shot: NDArray[np.float32], known: solving._Known) -> Codes:
    """Pixels by how they depart from the screen, across by green and blue, upward by red, each in its own colour."""
    picture = np.full((HEIGHT, WIDTH, 3), GROUND, np.uint8)
    left, bottom, scale = 60, HEIGHT - 40, 560.0
    cv2.line(picture, (left, bottom), (WIDTH - 20, bottom), LINE, 1, cv2.LINE_AA)
    cv2.line(picture, (left, bottom), (left, 20), LINE, 1, cv2.LINE_AA)
    random = np.random.default_rng(1)
    far = (known.away**2).sum(axis=0) > 0.002
    for mask, count, size in ((far & ~known.solid, 9000, 1), (known.solid, 900, 2)):
        ys, xs = np.nonzero(mask)
        for at in random.choice(len(ys), min(count, len(ys)), replace=False):
            y, x = ys[at], xs[at]
            # Along its ray: how far it is away in all, by how far it is so in red.
            across = float(np.hypot(known.away[1, y, x], known.away[2, y, x]))
            place = (int(left + scale * across), int(bottom - scale * known.away[0, y, x] / 1.6))
            colour = tuple(int(part) for part in _codes(shot[:, y, x]))
            cv2.circle(picture, place, size, colour, -1, cv2.LINE_AA)
            if size > 1 and at % 5 == 0:
                cv2.circle(picture, place, 4, LIGHT, 1, cv2.LINE_AA)
    cv2.circle(picture, (left, bottom), 7, (0x58, 0xB8, 0x4C), -1, cv2.LINE_AA)
    return picture


def palette(shot: NDArray[np.float32], known: solving._Known) -> Codes:
    """The shot, where it is solid (white) or a strand (grey), and its colours there; below them the palette."""
    colours = solving._colours(known, veils=True)
    assert colours is not None
    core = known.solid | known.strand
    labels = solving._labels(known.plate + known.away / solving._strands(known), core, colours.centres)
    found = np.zeros((*core.shape, 3), np.float32)
    for index, middle in colours.mean.items():
        found[labels == index] = middle
    sure = np.where(known.solid, 1.0, np.where(known.strand, 0.18, 0.0))[..., None] * np.ones(3)
    across = WIDTH // 3
    down = round(across * shot.shape[1] / shot.shape[2])
    parts = [
        cv2.resize(_codes(each), (across - 4, down), interpolation=cv2.INTER_AREA)
        for each in (np.moveaxis(shot, 0, -1), sure, found)
    ]
    picture = np.full((down + 76, WIDTH, 3), GROUND, np.uint8)
    for place, part in enumerate(parts):
        picture[:down, place * across : place * across + part.shape[1]] = part
    kept = sorted(colours.mean, key=lambda index: -int((labels == index).sum()))
    side = (WIDTH - 4) / len(kept)
    for place, index in enumerate(kept):
        start, end = (round(side * at) for at in (place, place + 1))
        picture[down + 16 : down + 60, start : end - 3] = _codes(colours.mean[index])
    return picture


def main() -> None:
    shot = np.ascontiguousarray(np.moveaxis(make_moth().plate, -1, 0))
    plate, _ = estimated(shot, bare_screen(shot, "green"))
    variance = noise_of(shot).variance(shot)
    away, factor = averaged(shot - plate, variance, SEARCH, STRENGTH, lambda done: None)
    known = solving._known(away, plate, variance * factor, "green", lambda: None)
    FOLDER.mkdir(parents=True, exist_ok=True)
    for name, picture in (("rays", rays(shot, known)), ("palette", palette(shot, known))):
        cv2.imwrite(str(FOLDER / f"{name}.png"), picture, [cv2.IMWRITE_PNG_COMPRESSION, 9])


if __name__ == "__main__":
    main()

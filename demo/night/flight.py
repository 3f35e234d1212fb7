"""The paper moth in flight: 48 frames over green, past a post. What moves is known exactly, for tests of following."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from demo.night.drawing import Canvas, Plane, blur, noise

WIDTH, HEIGHT = 960, 540
FRAMES = 48
BODY = (960.0, 520.0)
"""Where the moth's body lies in its own drawing."""
SIZE = 0.36
POST = (486, 522)
"""The post's edges; it stands before the moth's way."""


def place_at(frame: int) -> NDArray[np.float64]:
    """The matrix (3 x 3) that takes positions of the moth's drawing to those of a frame, of all but its flapping."""
    t = (frame - 1) / (FRAMES - 1)
    x, y = 205 + 560 * t, 306 - 90 * np.sin(np.pi * t) + 16 * np.sin(2 * np.pi * 3 * t)
    turn = np.radians(-14 + 30 * t + 5 * np.sin(2 * np.pi * 2 * t))
    size = SIZE * (0.82 + 0.3 * t)
    c, s = size * np.cos(turn), size * np.sin(turn)
    return np.array([[c, -s, x - c * BODY[0] + s * BODY[1]], [s, c, y - s * BODY[0] - c * BODY[1]], [0, 0, 1]])


def flap_at(frame: int) -> float:
    """How wide the wings are open, as a part of what they are in the drawing."""
    return float(0.72 + 0.28 * np.cos(2 * np.pi * (frame - 1) / 12))


@dataclass(frozen=True)
class Flight:
    """What the frames are drawn from: the moth's straight colour and alpha, the backing, the post over all."""

    colour: Plane
    alpha: Plane
    backing: Plane
    post: Plane
    post_alpha: Plane

    def frame(self, number: int) -> tuple[Plane, Plane]:
        """Plate (linear, H x W x 3) and the moth's true alpha before the post hides it."""
        matrix = place_at(number)
        open_ = flap_at(number)
        # Wings fold about the body's axis; beside the body nothing moves.
        y, x = np.mgrid[0:HEIGHT, 0:WIDTH].astype(np.float32) + np.float32(0.5)
        back = np.linalg.inv(matrix)
        own_x = (back[0, 0] * x + back[0, 1] * y + back[0, 2]).astype(np.float32) - np.float32(BODY[0])
        own_y = (back[1, 0] * x + back[1, 1] * y + back[1, 2]).astype(np.float32)
        reach = np.abs(own_x)
        body = np.float32(46)
        folded = np.where(reach > body, body + (reach - body) / np.float32(open_), reach)
        at_x = np.sign(own_x) * folded + np.float32(BODY[0] - 0.5)
        at_y = own_y - np.float32(0.5)
        light, alpha = (
            cv2.remap(plane, at_x, at_y, cv2.INTER_AREA if plane.ndim == 2 else cv2.INTER_LINEAR)
            for plane in (self.colour * self.alpha[..., None], self.alpha)
        )
        shade = np.float32(0.75 + 0.25 * open_)
        plate = light * shade + self.backing * (1 - alpha[..., None])
        plate = self.post * self.post_alpha[..., None] + plate * (1 - self.post_alpha[..., None])
        grain = np.random.default_rng(5000 + number).standard_normal(plate.shape, np.float32)
        grain *= np.array((0.0022, 0.0018, 0.0036), np.float32)
        return (plate * (1 + grain * 2) + grain * 0.4).clip(0).astype(np.float32), alpha


def make_flight() -> Flight:
    from demo.night.moth import make_moth

    moth = make_moth()
    # The wire that it hangs on elsewhere is left out; pictures are made small once, so that nothing aliases.
    alpha = moth.alpha.copy()
    alpha[:330, 940:985] = 0
    colour, alpha = blur(moth.colour * alpha[..., None], 1.1), blur(alpha, 1.1)
    colour = np.divide(colour, alpha[..., None], out=np.zeros_like(colour), where=alpha[..., None] > 1e-4)
    y, x = np.mgrid[0:HEIGHT, 0:WIDTH].astype(np.float32)
    light = 1.0 - 0.45 * np.hypot((x - 400) / WIDTH, (y - 220) / HEIGHT)
    folds = 0.92 + 0.12 * noise(WIDTH, HEIGHT, 150, 51, 3)
    backing = (light * folds)[..., None] * np.array((0.075, 0.43, 0.115), np.float32)
    canvas = Canvas(WIDTH, HEIGHT)
    canvas.fill(np.array([(POST[0], -9), (POST[1], -9), (POST[1] + 4, HEIGHT + 9), (POST[0] - 4, HEIGHT + 9)], float))
    round_ = np.clip(1 - ((x - sum(POST) / 2) / 20) ** 2, 0.05, 1)
    grain = 0.8 + 0.4 * noise(WIDTH, HEIGHT, 22, 52, 4)
    post = (0.02 + 0.17 * round_ * grain)[..., None] * np.array((1.0, 0.86, 0.62), np.float32)
    return Flight(colour, alpha, backing.astype(np.float32), post.astype(np.float32), canvas.coverage())


def write_flight(folder: Path, write: Callable[[Path, Plane], None]) -> None:
    """All frames (`flight.0001.exr`...), and their motion as matrices from frame 1 (`flight_true.json`)."""
    truth = folder / "flight_true.json"
    if truth.is_file():
        return
    flight = make_flight()
    begin = np.linalg.inv(place_at(1))
    for number in range(1, FRAMES + 1):
        plate, _ = flight.frame(number)
        write(folder / f"flight.{number:04d}.exr", plate)
    matrices = {number: (place_at(number) @ begin).ravel().tolist() for number in range(1, FRAMES + 1)}
    truth.write_text(json.dumps(matrices), encoding="utf-8")

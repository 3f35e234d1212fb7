"""A lace curtain in a lantern's light, before an unevenly lit blue backing, with its true matte and true colour."""

from __future__ import annotations

import numpy as np

from demo.night.drawing import Canvas, Plane, blur, noise, over
from demo.night.moth import Moth

WIDTH, HEIGHT = 1920, 1080
LEFT, RIGHT, RAIL = 430.0, 1500.0, 70.0
MESH, ROSE = 15.0, 150.0
"""Sides of a mesh and of what a rosette repeats in, in pixels of the cloth."""
LANTERN = (1560.0, 610.0)


def _smooth(value: Plane, low: float, high: float) -> Plane:
    t = np.clip((value - low) / (high - low), 0, 1)
    made: Plane = (t * t * (3 - 2 * t)).astype(np.float32)
    return made


def _cloth(x: Plane, y: Plane) -> tuple[Plane, Plane]:
    """Coverage of the curtain, and how far its folds turn to the light (-1 to 1)."""
    wave = x / 74 + 0.5 * np.sin(y / 310) + 1.6 * noise(WIDTH, HEIGHT, 330, 71, 2)
    fold = np.sin(wave).astype(np.float32)
    # The folds take the cloth together: its threads lie closer where it turns away.
    u = x + 17 * np.cos(wave)
    v = y + 5 * noise(WIDTH, HEIGHT, 200, 72, 2)
    mesh = np.maximum(np.abs(np.sin(np.pi * (u + v) / MESH)), np.abs(np.sin(np.pi * (u - v) / MESH)))
    threads = _smooth(mesh, 0.86, 0.97)
    at_x = np.mod(u + np.floor(v / ROSE) % 2 * ROSE / 2, ROSE) - ROSE / 2
    at_y = np.mod(v, ROSE) - ROSE / 2
    far, turn = np.hypot(at_x, at_y), np.arctan2(at_y, at_x)
    petal = far - (31 + 13 * np.cos(6 * turn))
    rose = _smooth(-petal, -1.5, 1.5) * (0.62 + 0.38 * _smooth(np.abs(np.sin(3 * turn)), 0.1, 0.3))
    ring = _smooth(-np.abs(far - 54), -4.5, -2.5)
    thick = np.clip(0.16 + 0.08 * np.abs(fold) + 0.5 * threads + 0.78 * rose + 0.7 * ring, 0, 0.97)
    hem = 965 + 18 * np.abs(np.sin(np.pi * u / 66))
    seam = _smooth(-np.abs(v - hem + 14), -7, -4)
    inside = _smooth(x, LEFT, LEFT + 3) * _smooth(-x, -RIGHT, 3 - RIGHT) * _smooth(y, RAIL, RAIL + 2)
    inside = inside * _smooth(-v, -hem.max(), -hem.min()) * _smooth(hem - v, -1.5, 1.5)
    return (np.clip(thick + 0.8 * seam, 0, 0.97) * inside).astype(np.float32), fold


def _lantern() -> tuple[Plane, Plane]:
    """Coverage of the lantern's frame, and of its light."""
    frame, light = Canvas(WIDTH, HEIGHT), Canvas(WIDTH, HEIGHT)
    x, y = LANTERN
    light.fill(np.array([(x - 62, y - 110), (x + 62, y - 110), (x + 74, y + 110), (x - 74, y + 110)], float))
    for part in (
        [(x - 86, y + 110), (x + 86, y + 110), (x + 80, y + 138), (x - 80, y + 138)],
        [(x - 76, y - 110), (x + 76, y - 110), (x + 26, y - 160), (x - 26, y - 160)],
    ):
        frame.fill(np.array(part, float))
    for top, bottom in ((-62, -74), (0, 0), (62, 74)):
        frame.line(np.array([(x + top, y - 110), (x + bottom, y + 110)], float), 7)
    frame.line(np.array([(x, y - 158), (x, -6)], float), 4)
    return frame.coverage(), light.coverage()


def make_lace() -> Moth:
    """The plate is the true colour over the backing by the true alpha, in linear light, plus grain."""
    y, x = (plane.astype(np.float32) for plane in np.mgrid[0:HEIGHT, 0:WIDTH])
    cloth, fold = _cloth(x, y)
    rail = Canvas(WIDTH, HEIGHT)
    rail.line(np.array([(LEFT - 70, RAIL), (RIGHT + 70, RAIL)], float), 24)
    frame, glass = _lantern()
    near = 1 / (1 + (np.hypot(x - LANTERN[0], y - LANTERN[1]) / 420) ** 2)
    warm = (0.16 + 1.05 * near * (0.85 + 0.25 * fold))[..., None] * np.array((1.0, 0.72, 0.42), np.float32)
    linen = (warm * np.array((0.78, 0.74, 0.66), np.float32)).astype(np.float32)
    colour, alpha = linen, np.zeros((HEIGHT, WIDTH), np.float32)
    colour, alpha = over(colour, alpha, linen, cloth)
    colour, alpha = over(colour, alpha, warm * np.array((0.3, 0.2, 0.13), np.float32), rail.coverage())
    colour, alpha = over(colour, alpha, (1.9, 1.25, 0.55), glass)
    colour, alpha = over(colour, alpha, (0.05, 0.042, 0.036), frame)
    light = 1.02 - 0.42 * np.hypot((x - 1050) / WIDTH, (y - 420) / HEIGHT)
    backing = (light * (0.94 + 0.09 * noise(WIDTH, HEIGHT, 300, 73, 3)))[..., None] * np.array(
        (0.05, 0.12, 0.42), np.float32
    )
    thin = np.clip(1.1 - blur(alpha, 7), 0, 1)[..., None]
    colour = (colour + thin * backing * np.float32(0.05)).astype(np.float32)
    plate = colour * alpha[..., None] + backing * (1 - alpha[..., None])
    random = np.random.default_rng(43)
    grain = random.standard_normal(plate.shape, np.float32) * np.array((0.0024, 0.002, 0.003), np.float32)
    return Moth(
        (plate * (1 + grain * 2) + grain * 0.4).clip(0).astype(np.float32),
        backing.astype(np.float32),
        colour,
        alpha.astype(np.float32),
    )

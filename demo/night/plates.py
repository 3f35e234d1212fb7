"""Plates that are hard to cut out: fronds before a wall of their tone, a wing before a lamp, a print in ink."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from demo.night.drawing import Canvas, Plane, bezier, blur, noise
from demo.night.fern import frond

WIDTH, HEIGHT = 1280, 856


@dataclass(frozen=True)
class Plate:
    """A picture, H x W x channels, and the true alpha of its subject, H x W."""

    pixels: Plane
    alpha: Plane


def _grain(shape: tuple[int, ...], seed: int, levels: tuple[float, ...]) -> Plane:
    grain = np.random.default_rng(seed).standard_normal(shape, np.float32) * np.asarray(levels, np.float32)
    return grain.astype(np.float32)


def make_frond() -> Plate:
    """Fronds before a plastered wall in the same broken light: no channel parts them, only their ratio does."""
    canvas, rib = Canvas(WIDTH, HEIGHT), Canvas(WIDTH, HEIGHT)
    for start, tip, spread in (
        ((330, 900), (560, 90), 165),
        ((760, 910), (640, 190), 150),
        ((1040, 900), (1120, 130), 140),
    ):
        lean = (tip[0] - start[0]) * 0.4
        frond(bezier([start, (start[0] - lean, 640), (start[0] + lean, 400), tip], 30), spread, canvas, rib)
    alpha = canvas.coverage()
    light = 0.05 + 0.34 * noise(WIDTH, HEIGHT, 230, 61, 5) ** 1.6
    wall = light * (0.92 + 0.16 * noise(WIDTH, HEIGHT, 14, 62, 3))
    leaf = light * (0.95 + 0.12 * rib.coverage())
    pixels = wall[..., None] * np.array((1.02, 0.94, 0.62), np.float32) * (1 - alpha[..., None])
    pixels += leaf[..., None] * np.array((0.86, 1.02, 0.55), np.float32) * alpha[..., None]
    grain = _grain(pixels.shape, 63, (0.0016, 0.0012, 0.004))
    return Plate((pixels * (1 + grain * 2) + grain).clip(0).astype(np.float32), alpha)


def make_wing() -> Plate:
    """A moth's wing, dark, fringed and veined, before the frosted glass of a lit lamp."""
    y, x = np.mgrid[0:HEIGHT, 0:WIDTH].astype(np.float32)
    reach = np.hypot((x - 690) / 560, (y - 400) / 430)
    glass = 0.55 + 3.2 * np.exp(-(reach**2) * 1.6)
    lamp = (glass * (0.96 + 0.08 * noise(WIDTH, HEIGHT, 50, 71, 4)))[..., None] * np.array(
        (1.0, 0.78, 0.46), np.float32
    )
    outline = bezier(
        [(250, 690), (360, 560), (560, 250), (860, 150), (960, 120), (1040, 170), (1010, 260)]
        + [(960, 420), (840, 610), (560, 700), (460, 730), (340, 740), (250, 690)],
        60,
    )
    canvas = Canvas(WIDTH, HEIGHT)
    canvas.fill(outline)
    random = np.random.default_rng(72)
    along = np.gradient(outline, axis=0)
    along /= np.maximum(np.linalg.norm(along, axis=1, keepdims=True), 1e-6)
    for index in range(70, 176):
        across = np.array([along[index, 1], -along[index, 0]])
        for _ in range(3):
            root = outline[index] + along[index] * random.uniform(-3, 3)
            canvas.line(
                np.array([root, root + across * random.uniform(8, 22) + along[index] * random.normal(0, 4)]), 0.8
            )
    alpha = canvas.coverage()
    veins = Canvas(WIDTH, HEIGHT)
    for end in ((930, 170), (980, 300), (900, 470), (720, 620)):
        veins.line(bezier([(280, 680), (420, 560), ((280 + end[0]) / 2, end[1] + 40), end], 40), 2.4)
    through = (0.035 + 0.05 * noise(WIDTH, HEIGHT, 90, 73, 4)) * (1 - 0.7 * veins.coverage())
    wing = lamp * through[..., None] * np.array((1.0, 0.7, 0.5), np.float32) + 0.006
    pixels = lamp * (1 - alpha[..., None]) + wing * alpha[..., None]
    grain = _grain(pixels.shape, 74, (0.004, 0.004, 0.006))
    return Plate((pixels * (1 + grain) + grain * 0.3).clip(0).astype(np.float32), alpha)


def make_print() -> Plate:
    """A printed lantern: cyan, magenta, yellow and black from 0 to 1, black used in the shadows only."""
    y, x = np.mgrid[0:HEIGHT, 0:WIDTH].astype(np.float32)
    body, glass = Canvas(WIDTH, HEIGHT), Canvas(WIDTH, HEIGHT)
    body.fill(np.array([(520, 300), (760, 300), (800, 640), (480, 640)], float))
    body.fill(np.array([(560, 300), (640, 170), (720, 300)], float))
    body.fill(np.array([(450, 640), (830, 640), (850, 690), (430, 690)], float))
    ring = bezier([(610, 180), (560, 60), (720, 60), (670, 180)], 60)
    body.line(ring, 9)
    glass.fill(np.array([(545, 335), (735, 335), (765, 610), (515, 610)], float))
    alpha = body.coverage()
    shade = 0.75 + 0.25 * np.cos((x - 640) / 190) + 0.08 * noise(WIDTH, HEIGHT, 30, 81, 3)
    brass = shade[..., None] * np.array((0.72, 0.5, 0.2), np.float32)
    flame = np.exp(-(np.hypot((x - 640) / 70, (y - 500) / 120) ** 2))[..., None]
    lit = flame * np.array((1.0, 0.82, 0.35), np.float32) + (1 - flame) * np.array((0.5, 0.36, 0.2), np.float32)
    pane = glass.coverage()[..., None]
    subject = brass * (1 - pane) + lit * pane
    dusk = 0.35 + 0.3 * y[..., None] / HEIGHT + 0.15 * noise(WIDTH, HEIGHT, 160, 82, 4)[..., None]
    ground = dusk * np.array((0.42, 0.62, 0.85), np.float32)
    seen = np.clip(subject * alpha[..., None] + ground * (1 - alpha[..., None]), 0, 1)
    black = np.clip(1 - seen.max(axis=-1) - 0.25, 0, 1) / 0.75
    light = np.maximum(1 - black, 1e-3)[..., None]
    inks = np.concatenate([np.clip(1 - seen / light, 0, 1), black[..., None]], axis=-1)
    # The separations are choppy: each is screened a little differently.
    for index, sigma in enumerate((0.6, 0.6, 0.8, 0.5)):
        inks[..., index] = blur(np.ascontiguousarray(inks[..., index]), sigma)
    grain = _grain(inks.shape, 83, (0.018, 0.014, 0.02, 0.008))
    return Plate(np.clip(inks + grain, 0, 1).astype(np.float32), blur(alpha, 0.6))

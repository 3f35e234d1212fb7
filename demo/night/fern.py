"""Fern fronds: a plate that looks photographed, with little contrast of colour, and masks for the glasshouse."""

from __future__ import annotations

import numpy as np

from demo.night.drawing import Canvas, Plane, Points, bezier, blur, noise, over

WIDTH, HEIGHT = 1600, 1067


def frond(stem: Points, spread: float, canvas: Canvas, rib: Canvas | None = None) -> None:
    """Draw leaflets along both sides of a stem, longest at a third of its length, each with its own leaflets."""
    along = np.gradient(stem, axis=0)
    along /= np.linalg.norm(along, axis=1, keepdims=True)
    canvas.line(stem, max(1.0, spread / 60))
    count = len(stem)
    for index in range(3, count - 1):
        t = index / count
        length = spread * (np.sin(np.pi * min(1.0, t * 0.86 + 0.14)) ** 0.9) * (1 - 0.55 * t)
        for turn in (-1, 1):
            across = np.array([-along[index, 1], along[index, 0]]) * turn
            direction = across * 0.92 + along[index] * (0.25 + 0.35 * t)
            tip = stem[index] + direction * length
            side = np.array([-direction[1], direction[0]])
            middle = stem[index] + direction * length * 0.45
            width = max(1.2, length * 0.11)
            outline = np.vstack(
                [
                    bezier(
                        [tuple(stem[index]), tuple(middle - side * width), tuple(middle - side * width), tuple(tip)], 9
                    ),
                    bezier(
                        [tuple(tip), tuple(middle + side * width), tuple(middle + side * width), tuple(stem[index])], 9
                    ),
                ]
            )
            canvas.fill(outline)
            if length > 26:
                for s in np.linspace(0.15, 0.9, int(length / 7)):
                    root = stem[index] + direction * length * s
                    for lean in (-1, 1):
                        leaf = root + (side * lean + direction * 0.5) * length * 0.17 * (1.05 - s)
                        canvas.line(np.array([root, leaf]), 2.6 * (1.1 - s) + 0.6)
            if rib is not None:
                rib.line(np.array([stem[index], tip]), 0.8)


def make_fern() -> Plane:
    """Scene-linear plate, H x W x 3: sharp fronds before blurred ones; blue is the noisiest channel."""
    y, x = np.mgrid[0:HEIGHT, 0:WIDTH].astype(np.float32)
    base = 0.035 + 0.05 * noise(WIDTH, HEIGHT, 190, 1, 4)
    colour = base[..., None] * np.array((0.75, 1.0, 0.62), np.float32)
    glow = np.exp(-(np.hypot((x - 1240) / 430, (y - 270) / 330) ** 2))[..., None]
    colour = colour + glow * np.array((0.2, 0.13, 0.05), np.float32)
    alpha = np.ones((HEIGHT, WIDTH), np.float32)
    random = np.random.default_rng(12)
    layers = ((14.0, 5, 0.55, 150), (5.0, 4, 0.75, 170), (0.0, 3, 1.0, 190))
    for sigma, count, level, spread in layers:
        canvas, rib = Canvas(WIDTH, HEIGHT), Canvas(WIDTH, HEIGHT)
        for number in range(count):
            start = ((number + random.uniform(0.1, 0.9)) * WIDTH / count, HEIGHT + 60)
            lean = random.uniform(-420, 420)
            tip = (start[0] + lean, random.uniform(60, 330))
            stem = bezier([start, (start[0] - lean * 0.2, 760), (start[0] + lean * 0.3, 480), tip], 46)
            frond(stem, spread, canvas, rib)
        mask, ribs = canvas.coverage(), rib.coverage()
        light = (0.55 + 0.45 * glow[..., 0] + 0.25 * noise(WIDTH, HEIGHT, 60, int(sigma) + 3, 3)) * level
        leaf = light[..., None] * np.array((0.115, 0.175, 0.066), np.float32)
        leaf = leaf * (1 + 0.35 * ribs[..., None])
        if sigma:
            mask = blur(mask, sigma)
            leaf = np.stack([blur(np.ascontiguousarray(leaf[..., c]), sigma) for c in range(3)], axis=-1)
        colour, alpha = over(colour, alpha, leaf, mask)
    grain = np.random.default_rng(13).standard_normal(colour.shape, np.float32)
    grain *= np.array((0.0028, 0.0022, 0.0062), np.float32)
    return (colour * (1 + grain * 3) + grain).clip(0).astype(np.float32)


def clump(size: int, seed: int) -> Plane:
    """Coverage of a potted fern seen from the side, root at the middle of the lower edge."""
    canvas = Canvas(size, size)
    random = np.random.default_rng(seed)
    root = (size / 2, size * 0.98)
    for angle in np.linspace(-1.25, 1.25, 11):
        reach = size * random.uniform(0.42, 0.6)
        a = angle + random.normal(0, 0.08)
        tip = (root[0] + np.sin(a) * reach * 0.95, root[1] - np.cos(a) * reach * 1.2 + abs(a) * reach * 0.45)
        knee = (root[0] + np.sin(a) * reach * 0.35, root[1] - reach * 1.0 * max(0.5, np.cos(a)))
        frond(bezier([root, (root[0], root[1] - reach * 0.4), knee, tip], 34), size * 0.085, canvas)
    return canvas.coverage()

"""A paper moth on a wire before an unevenly lit green backing; with its clean backing, true matte and true colour."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from demo.night.drawing import Canvas, Plane, Points, bezier, blur, noise, over

WIDTH, HEIGHT = 1920, 1080
MIDDLE = (960.0, 560.0)


@dataclass(frozen=True)
class Moth:
    """Scene-linear pictures, H x W x 3, and the true alpha, H x W."""

    plate: Plane
    backing: Plane
    colour: Plane
    alpha: Plane


def _mirrored(outline: Points) -> Points:
    result = outline.copy()
    result[:, 0] = 2 * MIDDLE[0] - result[:, 0]
    return result


def _at(points: list[tuple[float, float]]) -> list[tuple[float, float]]:
    """Control points relative to the thorax, the right side of the moth."""
    return [(MIDDLE[0] + x, MIDDLE[1] + y) for x, y in points]


UPPER = _at(
    [
        (14, -60),
        (120, -150),
        (330, -420),
        (600, -440),
        (650, -430),
        (640, -330),
        (560, -260),
        (520, -190),
        (420, -110),
        (300, -70),
        (190, -30),
        (80, 0),
        (14, 0),
    ]
)
LOWER = _at(
    [
        (10, -10),
        (120, -20),
        (330, -60),
        (400, 40),
        (470, 160),
        (420, 300),
        (300, 330),
        (270, 340),
        (250, 320),
        (235, 345),
        (200, 400),
        (100, 300),
        (12, 60),
    ]
)
VEINS_UPPER = ((600, -425), (580, -330), (540, -250), (470, -170), (360, -95))
VEINS_LOWER = ((390, 60), (420, 170), (370, 280), (290, 320), (180, 320))


def _wings() -> tuple[Plane, Plane, Plane]:
    """Coverage of the wings, of their veins, and of the dark rim."""
    wing, vein, rim = (Canvas(WIDTH, HEIGHT) for _ in range(3))
    for outline in (bezier(UPPER), bezier(LOWER)):
        for side in (outline, _mirrored(outline)):
            wing.fill(side)
            rim.line(np.vstack([side, side[:1]]), 3.0)
    for start, ends in (((20, -40), VEINS_UPPER), ((20, 20), VEINS_LOWER)):
        for x, y in ends:
            bend = bezier(_at([start, (x * 0.4, y * 0.25 + start[1]), (x * 0.75, y * 0.7), (x * 0.96, y * 0.96)]))
            vein.line(bend, 2.2)
            vein.line(_mirrored(bend), 2.2)
    return wing.coverage(), vein.coverage(), rim.coverage()


def _feelers() -> Plane:
    """Feathery antennae: a bent shaft with fine barbs on both sides."""
    canvas = Canvas(WIDTH, HEIGHT)
    shaft = bezier(_at([(8, -88), (40, -190), (110, -260), (235, -330)]), 90)
    for side in (shaft, _mirrored(shaft)):
        canvas.line(side, 2.4)
        along = np.gradient(side, axis=0)
        along /= np.linalg.norm(along, axis=1, keepdims=True)
        for index in range(10, len(side) - 2):
            t = index / len(side)
            length = 44 * np.sin(np.pi * min(1.0, t * 1.08)) ** 0.8
            for turn in (-1, 1):
                across = np.array([-along[index, 1], along[index, 0]]) * turn
                tip = side[index] + across * length + along[index] * length * 0.75
                bend = side[index] + across * length * 0.6 + along[index] * length * 0.2
                canvas.line(np.array([side[index], bend, tip]), 0.7)
    return canvas.coverage()


def _legs() -> Plane:
    canvas = Canvas(WIDTH, HEIGHT)
    for reach, drop in ((150, -120), (190, -35), (170, 60)):
        leg = bezier(
            _at([(10, drop / 4), (reach * 0.4, drop * 0.2 - 20), (reach * 0.8, drop), (reach, drop * 1.5 + 15)])
        )
        for side in (leg, _mirrored(leg)):
            canvas.line(side, 2.6)
    return canvas.coverage()


def _fur(colour: Plane, alpha: Plane) -> tuple[Plane, Plane]:
    """The body: layers of short hairs, from dark underneath to pale on top."""
    random = np.random.default_rng(7)
    shades = ((0.13, 0.07, 0.035), (0.32, 0.19, 0.09), (0.55, 0.38, 0.2), (0.82, 0.66, 0.43))
    for layer, shade in enumerate(shades):
        canvas = Canvas(WIDTH, HEIGHT)
        for _ in range(1500 if layer else 900):
            v = random.random()
            y = MIDDLE[1] - 105 + 330 * v
            half = 34 * (1 - 0.75 * max(0.0, v - 0.35) ** 0.9) * (0.8 + 0.2 * np.sin(v * 38))
            x = MIDDLE[0] + random.uniform(-1, 1) * half * (1 - layer * 0.12)
            lean = (x - MIDDLE[0]) / 34
            length = random.uniform(14, 34)
            tip = (x + lean * length * 1.1 + random.normal(0, 4), y + length * random.uniform(0.2, 0.9) - 8)
            canvas.line(np.array([(x, y), ((x + tip[0]) / 2 + lean * 2, (y + tip[1]) / 2 - 2), tip]), 0.9)
        colour, alpha = over(colour, alpha, shade, canvas.coverage())
    return colour, alpha


def _wing_colour(vein: Plane, rim: Plane) -> Plane:
    y, x = np.mgrid[0:HEIGHT, 0:WIDTH].astype(np.float32)
    dx, dy = np.abs(x - MIDDLE[0]), y - MIDDLE[1]
    reach = np.hypot(dx, dy * 1.1) / 640
    paper = noise(WIDTH, HEIGHT, 9, 3, 3) * 0.12 + noise(WIDTH, HEIGHT, 70, 5, 4) * 0.22 + 0.78
    shade = paper * (1.02 - 0.3 * reach) * (1 - 0.1 * (x - MIDDLE[0]) / 640)
    colour = shade[..., None] * np.array((0.93, 0.8, 0.54), np.float32)
    bands = 0.5 + 0.5 * np.sin(reach * 46 + 3 * noise(WIDTH, HEIGHT, 120, 9, 3))
    band = np.clip((bands - 0.72) * 3.2, 0, 1) * np.clip((reach - 0.3) * 3, 0, 1) * 0.45
    colour = colour * (1 - band[..., None] * np.array((0.45, 0.62, 0.75), np.float32))
    for cx, cy, radius in ((395, -255, 46), (270, 165, 38)):
        d = np.hypot(dx - cx, dy - cy) / radius
        for size, soft, ring in (
            (1.35, 0.5, (0.2, 0.11, 0.06)),
            (0.9, 0.25, (0.95, 0.62, 0.18)),
            (0.5, 0.2, (0.05, 0.035, 0.03)),
            (0.2, 0.1, (0.9, 0.88, 0.8)),
        ):
            inside = np.clip((size - d) / soft, 0, 1)[..., None]
            colour = colour * (1 - inside) + np.asarray(ring, np.float32) * inside
    dark = np.clip(vein * 0.5 + rim * 0.6, 0, 1)[..., None]
    return colour * (1 - dark) + np.array((0.3, 0.19, 0.1), np.float32) * dark


def make_moth() -> Moth:
    """Draw everything; the plate is the true colour over the backing by the true alpha, in linear light, plus grain."""
    wing, vein, rim = _wings()
    feelers, legs = _feelers(), _legs()
    wire = Canvas(WIDTH, HEIGHT)
    wire.line(np.array([(966, -4), (962, 250), (960, 480)], float), 2.0)

    translucency = np.clip(0.84 + 0.12 * noise(WIDTH, HEIGHT, 40, 21, 3) + vein + rim, 0, 1)
    colour, alpha = _wing_colour(vein, rim), np.zeros((HEIGHT, WIDTH), np.float32)
    colour, alpha = over(colour, alpha, (0.42, 0.4, 0.38), wire.coverage())
    colour, alpha = over(colour, alpha, (0.25, 0.15, 0.08), legs)
    colour, alpha = over(colour, alpha, _wing_colour(vein, rim), wing * translucency)
    colour, alpha = over(colour, alpha, (0.5, 0.3, 0.14), feelers)
    colour, alpha = _fur(colour, alpha)

    y, x = np.mgrid[0:HEIGHT, 0:WIDTH].astype(np.float32)
    light = 1.05 - 0.5 * np.hypot((x - 720) / WIDTH, (y - 380) / HEIGHT)
    folds = (
        0.93 + 0.1 * noise(WIDTH, HEIGHT, 260, 31, 3) + 0.012 * np.sin(x / 53 + 3 * noise(WIDTH, HEIGHT, 400, 33, 2))
    )
    backing = (light * folds)[..., None] * np.array((0.075, 0.43, 0.115), np.float32)
    # Light thrown back by the backing greens what is thin or near the edge.
    thin = np.clip(1.15 - blur(alpha, 7), 0, 1)[..., None]
    colour = (colour + thin * backing * np.float32(0.10)).astype(np.float32)
    plate = colour * alpha[..., None] + backing * (1 - alpha[..., None])
    random = np.random.default_rng(40)
    grain = random.standard_normal(plate.shape, np.float32) * np.array((0.0022, 0.0018, 0.0036), np.float32)
    return Moth(
        (plate * (1 + grain * 2) + grain * 0.4).clip(0).astype(np.float32),
        backing.astype(np.float32),
        colour,
        alpha.astype(np.float32),
    )

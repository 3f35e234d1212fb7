"""Growing, blurring, cleaning, bleeding, melting, resizing and moving at 4096 x 2160, against what OpenCV or SciPy need
for the core of it, and against a memory copy."""

from collections.abc import Callable

import cv2
import numpy as np
from scipy import ndimage

from benchmarks.chain import HEIGHT, WIDTH, Memory
from benchmarks.measure import best, report
from nexal.engine import Engine, Plan
from nexal.picture import Alpha, Plane
from nexal.recipe import parse_recipe


def matte() -> Plane:
    """A disc with a soft edge, and grain everywhere: nothing of it is flat."""
    y, x = np.mgrid[:HEIGHT, :WIDTH]
    disc = np.clip((800 - np.hypot(x - 2000, y - 1000)) / 6, 0, 1)
    return (disc + np.random.default_rng(1).random((HEIGHT, WIDTH)) * 0.02).astype(np.float32)


def picture() -> dict[str, Plane]:
    """A picture in colour with a disc as its alpha, dust around it and holes in it."""
    random = np.random.default_rng(2)
    alpha = np.clip(matte(), 0, 1)
    for value in (0.0, 1.0):
        for y, x in random.integers(0, (HEIGHT - 4, WIDTH - 4), (2000, 2)):
            alpha[y : y + 3, x : x + 3] = value
    alpha[alpha < 0.1] = 0
    return {name: random.random((HEIGHT, WIDTH), np.float32) for name in "RGB"} | {"A": alpha}


def cores(planes: dict[str, Plane]) -> dict[tuple[str, str], tuple[dict[str, object], Callable[[], object]]]:
    """What an operation is measured with, by its name and a word: its settings, and its core by somebody else."""
    colour = [planes[name] for name in "RGB"]
    together = cv2.merge([*colour, planes["A"]])
    alpha, hidden = planes["A"], planes["A"] == 0
    half, double = (WIDTH // 2, HEIGHT // 2), (WIDTH * 3 // 2, HEIGHT * 3 // 2)
    turn = cv2.getRotationMatrix2D((WIDTH / 2, HEIGHT / 2), 5, 1.0)
    shift = np.array([[1, 0, 10.3], [0, 1, 4.6]])

    def areas() -> None:
        for mask in (alpha >= 0.5, alpha < 0.5):
            cv2.connectedComponentsWithStats(mask.astype(np.uint8), connectivity=8)

    def carried() -> list[Plane]:
        rows, columns = ndimage.distance_transform_edt(hidden, return_distances=False, return_indices=True)
        return [cv2.GaussianBlur(plane[rows, columns], (0, 0), 2.0) for plane in colour]

    def melted() -> None:
        element = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (9, 9))
        cv2.GaussianBlur(cv2.dilate(4 * alpha * (1 - alpha), element), (0, 0), 2.0)
        cv2.GaussianBlur(together, (0, 0), 3.0)

    def placed(matrix: np.ndarray) -> Callable[[], object]:
        # All of what is moved, as a step makes it, and not what of it falls into the window of before.
        corners = matrix @ np.array([[0, WIDTH, 0, WIDTH], [0, 0, HEIGHT, HEIGHT], [1, 1, 1, 1]])
        low, high = np.floor(corners.min(axis=1)), np.ceil(corners.max(axis=1))
        within = matrix - np.column_stack([np.zeros((2, 2)), low])
        size = (int(high[0] - low[0]), int(high[1] - low[1]))
        return lambda: cv2.warpAffine(together, within, size, flags=cv2.INTER_CUBIC)

    return {
        ("despeckle", "OpenCV's areas, twice"): ({"islands": 20, "holes": 20}, areas),
        ("bleed", "SciPy's nearest pixels, and blurs"): ({}, carried),
        ("edge_melt", "OpenCV's dilation and blurs"): ({"width": 8, "radius": 3}, melted),
        ("resize", "OpenCV's, to a half by area"): (
            {"width": half[0], "height": half[1]},
            lambda: cv2.resize(together, half, interpolation=cv2.INTER_AREA),
        ),
        ("resize", "OpenCV's Lanczos, to one and a half"): (
            {"width": double[0], "height": double[1]},
            lambda: cv2.resize(together, double, interpolation=cv2.INTER_LANCZOS4),
        ),
        ("place", "OpenCV's cubic, turned"): ({"rotate": -5}, placed(turn)),
        ("place", "OpenCV's cubic, shifted"): ({"x": 10.3, "y": 4.6}, placed(shift)),
    }


def main() -> None:
    points()
    pictures()


def pictures() -> None:
    planes = picture()
    source = Memory(planes)
    source.description = source.description.changed(alpha=Alpha.PREMULTIPLIED, data=frozenset("A"))
    engine = Engine(cache_bytes=0)
    target = [np.empty_like(plane) for plane in planes.values()]

    def copy() -> None:
        for new, old in zip(target, planes.values(), strict=True):
            np.copyto(new, old)

    lines = []
    for (op, word), (settings, core) in cores(planes).items():
        port = {"despeckle": "matte", "resize": "from"}.get(op, "picture")
        step = {"name": "s", "op": op, "in": {port: "m.A" if op == "despeckle" else "m"}, "set": settings}
        recipe = parse_recipe({"nexal": 1, "sources": {"m": {"files": "m"}}, "steps": [step]})
        plan = Plan(recipe, 1, {"m": source})
        feed = plan.feed("s")
        if op == "place":
            made, window = core(), feed.description.window
            assert isinstance(made, np.ndarray)
            assert abs(made.shape[1] - window.width) <= 4, (made.shape, window)
            assert abs(made.shape[0] - window.height) <= 4, (made.shape, window)
        seconds = best({"copy": copy, "ours": lambda: engine.evaluate(feed, plan), "core": core}, rounds=3)  # noqa: B023
        lines.append(
            f"{op}: {seconds['ours'] / seconds['core']:.1f} of {word} (3), "
            f"{seconds['ours'] / seconds['copy']:.0f} copies of the picture"
        )
    report(f"pictures, {WIDTH} x {HEIGHT}, with the aims", lines)


def points() -> None:
    source = Memory({"Y": matte()})
    plane = source.planes["Y"]
    target = np.empty_like(plane)
    engine = Engine(cache_bytes=0)

    def timed(op: str, port: str, settings: dict[str, object], other: object) -> dict[str, float]:
        step = {"name": "s", "op": op, "in": {port: "m.Y"}, "set": settings}
        recipe = parse_recipe({"nexal": 1, "sources": {"m": {"files": "m"}}, "steps": [step]})
        plan = Plan(recipe, 1, {"m": source})
        feed = plan.feed("s")
        works = {
            "copy": lambda: np.copyto(target, plane),
            "ours": lambda: engine.evaluate(feed, plan),
            "opencv": other,
        }
        return best(works, rounds=3)  # type: ignore[arg-type]

    lines = []
    for distance in (1.0, 3.5, 10.0, 20.5, 50.0, 100.0, 100.5, 300.0):
        side = 2 * round(distance) + 1
        element = cv2.getStructuringElement(cv2.MORPH_RECT, (side, side))
        seconds = timed("grow", "matte", {"distance": distance}, lambda e=element: cv2.dilate(plane, e))
        lines.append(
            f"grow by {distance:g} px: {seconds['ours'] / seconds['opencv']:.1f} of OpenCV's square of {side} (3), "
            f"{seconds['ours'] / seconds['copy']:.0f} copies (12)"
        )
    for radius in (2.0, 10.0, 30.0, 100.0):
        seconds = timed("blur", "from", {"radius": radius}, lambda r=radius: cv2.GaussianBlur(plane, (0, 0), r))
        lines.append(f"blur by {radius:g} px: {seconds['ours'] / seconds['opencv']:.2f} of OpenCV (1)")
    report(f"neighbourhood, {WIDTH} x {HEIGHT}, with the aims", lines)

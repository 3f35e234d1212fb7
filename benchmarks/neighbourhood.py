"""Growing and blurring of a plane of 4096 x 2160 against OpenCV, and against a memory copy of it."""

import cv2
import numpy as np

from benchmarks.chain import HEIGHT, WIDTH, Memory
from benchmarks.measure import best, report
from nexal.engine import Engine, Plan
from nexal.picture import Plane
from nexal.recipe import parse_recipe


def matte() -> Plane:
    """A disc with a soft edge, and grain everywhere: nothing of it is flat."""
    y, x = np.mgrid[:HEIGHT, :WIDTH]
    disc = np.clip((800 - np.hypot(x - 2000, y - 1000)) / 6, 0, 1)
    return (disc + np.random.default_rng(1).random((HEIGHT, WIDTH)) * 0.02).astype(np.float32)


def main() -> None:
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
    for distance in (1.0, 3.5, 10.0, 20.5, 100.0):
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

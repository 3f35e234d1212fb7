"""Opening a shot of a 4K picture with ten steps, cold: the stage, and the small pictures of all items, against a plain
decoding of the picture."""

import json
import struct
import time

import numpy as np

from benchmarks.measure import best, report
from benchmarks.serving import Served, served

ROUNDS = 5
WIDTH, HEIGHT = 4096, 2160
STEPS = [
    {"name": "others", "op": "cross", "in": {"a": "moth.R", "b": "moth.B"}, "set": {"mode": "lighten"}},
    {"name": "pull", "op": "cross", "in": {"a": "moth.G", "b": "others"}, "set": {"mode": "subtract"}},
    {"name": "core", "op": "stretch", "in": {"from": "pull"}, "set": {"black": 0.02, "white": 0.3}},
    {"name": "clean", "op": "despeckle", "in": {"matte": "core"}},
    {"name": "wider", "op": "grow", "in": {"matte": "clean"}, "set": {"distance": 2.5}},
    {"name": "soft", "op": "blur", "in": {"from": "wider"}, "set": {"radius": 3}},
    {"name": "matte", "op": "invert", "in": {"from": "soft"}},
    {"name": "cut", "op": "attach_alpha", "in": {"picture": "moth", "alpha": "matte"}},
    {"name": "closed", "op": "premultiply", "in": {"picture": "cut"}},
    {"name": "comp", "op": "stack", "in": {"under": "moth", "over": "closed"}},
]


def main() -> None:
    with served() as house:
        _measure(house)
        _describe(house)


def _measure(house: Served) -> None:
    from django.core.cache import caches

    from projects.models import Shot
    from recipes.services import save
    from stage.services import engine

    shot = house.shot("opening", WIDTH, HEIGHT)
    recipe = {"nexal": 1, "sources": {"moth": {"files": "moth.exr"}}, "steps": STEPS}
    from nexal.recipe import parse_recipe

    save(Shot.objects.get(pk=shot), house.user.pk, 1, parse_recipe(recipe))
    names = ["moth", *(str(step["name"]) for step in STEPS)]

    def stage() -> float:
        began = time.perf_counter()
        answer = house.api.post(f"/api/shots/{shot}/view", {"recipe": recipe, "address": "comp", "scale": 4})
        assert answer.status_code == 200, answer.content
        return time.perf_counter() - began

    def pictures() -> tuple[float, int]:
        """Seconds until the last is there, and requests that it took."""
        began, waiting, requests = time.perf_counter(), names, 0
        while waiting:
            body = house.api.post(f"/api/shots/{shot}/pictures", {"recipe": recipe, "addresses": waiting}).content
            (told,) = struct.unpack_from("<I", body)
            rows = json.loads(body[4 : 4 + told])
            assert not any("problem" in row for row in rows), rows
            waiting = [row["address"] for row in rows if "later" in row]
            requests += 1
        return time.perf_counter() - began, requests

    codes = np.random.default_rng(1).random((HEIGHT, WIDTH, 3)).astype(np.float16)
    found = []
    for turn in range(ROUNDS + 1):
        engine.cache_clear()
        caches["pictures"].clear()
        first = stage()
        small, requests = pictures()
        engine.cache_clear()
        kept, _ = pictures()
        began = time.perf_counter()
        codes.astype(np.float32)
        plain = time.perf_counter() - began
        if turn:
            found.append((first, small, kept, plain, requests))
    first, small, kept, plain = (min(row[index] for row in found) for index in range(4))
    report(
        "opening a shot of 4096 x 2160 and ten steps, nothing computed yet",
        [
            f"stage, fitted: {first / plain:.1f} decodings of the picture, {first * 1e3:.0f} ms here (aim 400)",
            f"eleven small pictures: {small / plain:.1f} decodings, {small * 1e3:.0f} ms here (aim 1,000), "
            f"in {found[-1][4]} requests",
            f"kept on disk, of what is saved: {kept / small:.2f} of that",
        ],
    )


def _describe(house: Served) -> None:
    """A hundred steps, planned and described, against the answer that was kept of them."""
    from stage.items import told

    kinds = [("grade", {"exposure": 0.3}), ("blur", {"radius": 3}), ("stretch", {"white": 0.7}), ("invert", {})]
    steps: list[dict[str, object]] = []
    for index in range(100):
        op, settings = kinds[index % len(kinds)]
        port, below = "picture" if op == "grade" else "from", f"s{index - 1}" if index else "moth"
        steps.append({"name": f"s{index}", "op": op, "in": {port: below}, "set": settings})
    recipe = {"nexal": 1, "sources": {"moth": {"files": "moth.exr"}}, "steps": steps}
    shot = house.shot("describing", 256, 128)

    def ask() -> None:
        answer = house.api.post(f"/api/shots/{shot}/inspect", {"recipe": recipe})
        assert answer.status_code == 200, answer.content
        assert not any(row["problem"] for row in answer.json())

    def anew() -> None:
        told.cache.clear()
        ask()

    seconds = best({"anew": anew, "kept": ask}, rounds=15)
    report(
        "what the items of a recipe of 100 steps are",
        [f"{seconds['anew'] * 1e3:.1f} ms (aim 10), of what was told {seconds['kept'] / seconds['anew']:.2f} of that"],
    )

"""Scout against plain NumPy, screen_pull at 4K against a memory copy, and the last of a thousand strokes of a brush."""

import time

import numpy as np

from benchmarks.chain import HEIGHT, WIDTH, Memory
from benchmarks.measure import best, report
from nexal.analysis.marks import Mark
from nexal.analysis.scout import candidates, exact_auc, scout
from nexal.engine import Engine, Plan
from nexal.kernels.blending import BLENDS
from nexal.kernels.ranking import MODES, SINGLE, rank
from nexal.picture import Plane
from nexal.recipe import parse_recipe


def _plan(planes: dict[str, Plane], steps: list[dict[str, object]], **more: dict[str, Plane]) -> Plan:
    sources = {"p": planes} | more
    recipe = parse_recipe({"nexal": 1, "sources": {name: {"files": name} for name in sources}, "steps": steps})
    readers = {}
    for name, given in sources.items():
        readers[name] = Memory(given)
        readers[name].digest = f"benchmark {name}"
    return Plan(recipe, 1, readers)


def _scouting(planes: dict[str, Plane]) -> None:
    random = np.random.default_rng(2)
    sets = [random.random((4, 2000), np.float32) * 0.6 + shift for shift in (0.2, 0.0)]
    codes = candidates(4)

    def plain() -> list[float]:
        found = []
        for a, b, mode, invert_a, invert_b in codes[::16]:
            values = []
            for samples in sets:
                value = 1 - samples[a] if invert_a else samples[a]
                if mode != SINGLE:
                    value = BLENDS[MODES[mode]](value, 1 - samples[b] if invert_b else samples[b])
                values.append(np.sort(value))
            found.append(exact_auc(*values))
            float((values[0].mean() - values[1].mean()) ** 2 / (values[0].var() + values[1].var()))
        return found

    def pairs() -> list[float]:
        """Straightforward: every pair of samples compared."""
        found = []
        for a, b, mode, invert_a, invert_b in codes[::64]:
            values = []
            for samples in sets:
                value = 1 - samples[a] if invert_a else samples[a]
                if mode != SINGLE:
                    value = BLENDS[MODES[mode]](value, 1 - samples[b] if invert_b else samples[b])
                values.append(value)
            higher = values[0][:, None] > values[1][None]
            found.append(float(higher.mean()))
        return found

    compiled = rank(sets[0], sets[1], codes)
    wrong = np.abs(compiled[::16, 0] - plain()) > compiled[::16, 1] + 1e-6
    assert not wrong.any(), "the compiled areas are further off than they say"
    seconds = best({"rank": lambda: rank(sets[0], sets[1], codes), "sorted": plain, "pairs": pairs}, rounds=4)
    each = {
        "rank": seconds["rank"] / len(codes),
        "sorted": seconds["sorted"] / len(codes[::16]),
        "pairs": seconds["pairs"] / len(codes[::64]),
    }
    plan = _plan({name: plane[:1080, :1920].copy() for name, plane in planes.items()}, [])
    engine = Engine(threads=2)
    marks = [
        [Mark(300 + 200 * i, 300 + 40 * i, 14) for i in range(4)],
        [Mark(500 + 150 * i, 800, 18) for i in range(4)],
    ]
    feed = plan.feed("p")
    start = time.perf_counter()
    tried = scout(engine, plan, feed, *marks, rows=24)["tried"]
    first = time.perf_counter() - start
    again = []
    for turn in range(6):
        marks[1].append(Mark(1200 + 40 * turn, 200, 14))
        start = time.perf_counter()
        scout(engine, plan, feed, *marks, rows=24)
        again.append(time.perf_counter() - start)
    report(
        f"scout, {tried} candidates, 2000 samples of each side",
        [
            f"{each['pairs'] / each['rank']:.0f} times as many candidates a second as NumPy over all pairs (aim: 20)",
            f"{each['sorted'] / each['rank']:.1f} times as many as NumPy that sorts",
            f"re-ranking after a dab: {min(again) / first:.2f} of the first ranking",
            f"here: {1 / each['rank']:.0f} candidates a second; first {first * 1e3:.0f} ms (aim 1000), "
            f"after a dab {sorted(again)[len(again) // 2] * 1e3:.0f} ms (aim 150)",
        ],
    )


def _pulling(planes: dict[str, Plane]) -> None:
    clean = {
        name: np.full((HEIGHT, WIDTH), value, np.float32) for name, value in zip("RGB", (0.1, 0.6, 0.1), strict=True)
    }
    step = {
        "name": "pull",
        "op": "screen_pull",
        "in": {"picture": "p", "clean": "q"},
        "set": {"balance": 0.5, "white": 0.9},
    }
    engine = Engine(cache_bytes=0)
    plan = _plan(planes, [step], q=clean)
    targets = [np.empty((HEIGHT, WIDTH), np.float32) for _ in range(7)]
    given = [*planes.values(), *clean.values(), planes["R"]]

    def copy() -> None:
        for target, plane in zip(targets, given, strict=True):
            np.copyto(target, plane)

    seconds = best({"copy": copy, "pull": lambda: engine.evaluate(plan.feed("pull"), plan)}, rounds=5)
    report(
        "screen_pull with a clean plate, 4096 x 2160: six planes in, one out",
        [
            f"{seconds['pull'] / seconds['copy']:.2f} memory copies of the same bytes",
            "here: " + ", ".join(f"{name} {value * 1e3:.0f} ms" for name, value in seconds.items()),
        ],
    )


def _painting(planes: dict[str, Plane]) -> None:
    random = np.random.default_rng(3)
    matte = {"M": planes["R"][:1080, :1920].copy()}

    def stroke() -> dict[str, object]:
        start = random.uniform((0, 0), (1920, 1080))
        points = (start + np.cumsum(random.normal(0, 12, (24, 2)), axis=0)).round(1).tolist()
        return {"points": points, "radius": float(random.uniform(4, 40)), "hardness": 0.5, "value": 1}

    strokes = [stroke() for _ in range(1000)]
    engine = Engine(threads=2)

    def paint(now: list[dict[str, object]]) -> float:
        steps = [{"name": "t", "op": "touch_up", "in": {"matte": "p.M"}, "set": {"strokes": now}}]
        start = time.perf_counter()
        plan = _plan(matte, steps)
        engine.evaluate(plan.feed("t"), plan, looked_at=True)
        return time.perf_counter() - start

    paint(strokes[:2])
    whole = paint(strokes)
    last = sorted(paint([*strokes[:-1], stroke()]) for _ in range(7))[3]
    report(
        "a thousand strokes at 1920 x 1080, then the last one changed",
        [
            f"{last / whole:.2f} of painting all",
            f"here: all {whole * 1e3:.0f} ms, the last {last * 1e3:.0f} ms (aim 200)",
        ],
    )


def main() -> None:
    random = np.random.default_rng(1)
    planes = {name: random.random((HEIGHT, WIDTH), np.float32) for name in "RGB"}
    _scouting(planes)
    _pulling(planes)
    _painting(planes)

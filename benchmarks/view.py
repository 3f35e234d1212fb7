"""View requests: 1280 x 720 of pictures of three sizes, five steps in display, the third of them changed, against a
plain answer of as many bytes."""

import time
from types import ModuleType

import numpy as np

from benchmarks.measure import report
from benchmarks.serving import Served, served

REQUESTS = 60
SIZES = {"2K": (2048, 1080), "4K": (4096, 2160), "8K": (8192, 4320)}


def main() -> None:
    with served() as house:
        _measure(house)


def _steps(white: float) -> list[dict[str, object]]:
    return [
        {"name": "others", "op": "cross", "in": {"a": "moth.R", "b": "moth.B"}, "set": {"mode": "lighten"}},
        {"name": "pull", "op": "cross", "in": {"a": "moth.G", "b": "others"}, "set": {"mode": "subtract"}},
        {"name": "core", "op": "stretch", "in": {"from": "pull"}, "set": {"black": 0.02, "white": white}},
        {"name": "matte", "op": "invert", "in": {"from": "core"}},
        {
            "name": "cut",
            "op": "attach_alpha",
            "in": {"picture": "moth", "alpha": "matte"},
            "set": {"state": "premultiply"},
        },
    ]


def _measure(house: Served) -> None:
    from django.http import HttpResponse
    from django.test import override_settings
    from django.urls import path

    shots = {name: house.shot(name, *size) for name, size in SIZES.items()}

    def ask(name: str, number: int) -> float:
        width, height = SIZES[name]
        recipe = {"nexal": 1, "sources": {"moth": {"files": "moth.exr"}}, "steps": _steps(0.3 + number / 1000)}
        region = [(width - 1280) // 2, (height - 720) // 2, 1280, 720]
        body = {"recipe": recipe, "address": "cut", "scale": 1, "region": region, "view": "bench"}
        start = time.perf_counter()
        response = house.api.post(f"/api/shots/{shots[name]}/view", body)
        seconds = time.perf_counter() - start
        assert response.status_code == 200, response.content
        assert len(response.content) == 1280 * 720 * 4 * 2
        return seconds

    plain = bytes(1280 * 720 * 4 * 2)
    urls = ModuleType("plain_urls")
    urls.urlpatterns = [path("plain", lambda request: HttpResponse(plain))]  # type: ignore[attr-defined]

    def fetch() -> float:
        with override_settings(ROOT_URLCONF=urls):
            start = time.perf_counter()
            assert len(house.client.get("/plain").content) == len(plain)
            return time.perf_counter() - start

    times: dict[str, list[float]] = {name: [] for name in (*SIZES, "plain")}
    for number in range(REQUESTS + 1):
        for name in SIZES:
            times[name].append(ask(name, number))
        times["plain"].append(fetch())
    # The first of each compiles, loads and plans.
    found = {name: np.percentile(seconds[1:], [50, 95]) for name, seconds in times.items()}
    lines = [
        f"of {name}: p50 {p50 / found['plain'][0]:.1f}, p95 {p95 / found['plain'][0]:.1f} plain answers; "
        f"{p50 / found['4K'][0]:.2f} of 4K (0.8 to 1.2)"
        for name, (p50, p95) in found.items()
        if name != "plain"
    ]
    p50, p95 = found["4K"]
    lines.append(f"here: p50 {p50 * 1e3:.0f} ms, p95 {p95 * 1e3:.0f} ms of server time (aim: p95 20 ms, idle)")
    report(f"view request, 1280 x 720 in four channels, third of five steps changed, {REQUESTS} times", lines)

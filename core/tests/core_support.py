"""What the core's tests share: pictures in memory, recipes run on them, small files."""

from __future__ import annotations

import os
import re
import subprocess
import sys
import tempfile
import unittest
from collections.abc import Mapping, Sequence
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np

from nexal.engine import Engine, Plan
from nexal.errors import NexalError
from nexal.kernels.mixing import reduced
from nexal.picture import Alpha, Description, Picture, Plane, Trait, Window, named_as_colour
from nexal.recipe import parse_recipe


class MemorySource:
    """Planes in memory as a source, with proxies made by the same rule as the plane store's."""

    def __init__(
        self,
        planes: Mapping[str, Plane],
        *,
        alpha: Alpha = Alpha.NONE,
        window: Window | None = None,
        display: Window | None = None,
        data: Sequence[str] | None = None,
        traits: Mapping[str, Trait] | None = None,
        name: str = "memory",
    ) -> None:
        height, width = next(iter(planes.values())).shape
        own = window or Window(0, 0, width, height)
        names = tuple(planes)
        not_colour = [n for n in names if not named_as_colour(n)] if data is None else data
        self.digest = f"{name}-{id(self)}"
        self.description = Description(
            names, display or Window(0, 0, own.right, own.bottom), own, alpha, frozenset(not_colour), traits or {}
        )
        self.planes = {n: np.asarray(plane, self.description.sample_type(n)) for n, plane in planes.items()}
        self.reads = 0

    def read(self, channels: Sequence[str], scale: Fraction, region: Window) -> Mapping[str, Plane]:
        self.reads += 1
        own = self.description.window
        planes: Mapping[str, Plane] = self.planes
        if scale != 1:
            planes = reduced(planes, channels, self.description, own, scale.denominator)
        return {name: planes[name][region.within(own.scaled(scale))] for name in channels}


def gradient(width: int = 64, height: int = 48, seed: int = 1) -> Plane:
    """Values in 0..1 that differ everywhere: a slope with noise."""
    random = np.random.default_rng(seed)
    slope = np.linspace(0, 1, width)[None, :] * 0.6 + np.linspace(0, 1, height)[:, None] * 0.2
    return (slope + random.random((height, width)) * 0.2).astype(np.float32)


def rgb(width: int = 64, height: int = 48, seed: int = 1) -> dict[str, Plane]:
    return {name: gradient(width, height, seed + index) for index, name in enumerate("RGB")}


def rgba(width: int = 64, height: int = 48, seed: int = 1, alpha: Alpha = Alpha.STRAIGHT, **more: Any) -> MemorySource:
    """A picture with an alpha that is 0, 1 and everything between; premultiplied where asked for."""
    planes = rgb(width, height, seed)
    a = np.clip(gradient(width, height, seed + 9) * 1.6 - 0.3, 0, 1).astype(np.float32)
    if alpha is Alpha.PREMULTIPLIED:
        planes = {name: plane * a for name, plane in planes.items()}
    return MemorySource(planes | {"A": a}, alpha=alpha, **more)


def plan_of(steps: Sequence[Mapping[str, Any]], sources: Mapping[str, MemorySource], frame: int = 1) -> Plan:
    recipe = parse_recipe(
        {"nexal": 1, "sources": {name: {"files": name} for name in sources}, "steps": [dict(step) for step in steps]}
    )
    return Plan(recipe, frame, sources)


def run(
    steps: Sequence[Mapping[str, Any]],
    sources: Mapping[str, MemorySource],
    item: str = "",
    *,
    frame: int = 1,
    engine: Engine | None = None,
    **options: Any,
) -> Picture:
    """Evaluate an item (the last step by default) of a recipe over sources in memory."""
    plan = plan_of(steps, sources, frame)
    feed = plan.feed(item or str(steps[-1]["name"]))
    return (engine or Engine(threads=2)).evaluate(feed, plan, **options)


def one(op: str, ports: Mapping[str, str], sources: Mapping[str, MemorySource], /, **settings: Any) -> Picture:
    """The result of one step."""
    return run([{"name": "result", "op": op, "in": dict(ports), "set": settings}], sources)


class CoreTest(unittest.TestCase):
    """Comparisons of planes, and a folder that goes away."""

    def assert_planes(self, got: Plane, wanted: Any, tolerance: float = 1e-5, message: str = "") -> None:
        wanted = np.broadcast_to(np.asarray(wanted), got.shape)
        self.assertEqual(got.dtype, np.float32)
        np.testing.assert_allclose(got, wanted, rtol=0, atol=tolerance, err_msg=message)

    def assert_refused(self, work: Any, *words: str) -> NexalError:
        with self.assertRaises(NexalError) as caught:
            work()
        text = str(caught.exception)
        for word in words:
            self.assertIn(word, text)
        return caught.exception

    def folder(self) -> Path:
        folder = tempfile.TemporaryDirectory(prefix="nexal-test-")
        self.addCleanup(folder.cleanup)
        return Path(folder.name)


def write_exr(path: Path, channels: Mapping[str, Any], header: Mapping[str, Any] | None = None) -> Path:
    """An OpenEXR file written with the format's own library, not ours."""
    import OpenEXR

    full = {"type": OpenEXR.scanlineimage, "compression": OpenEXR.ZIP_COMPRESSION} | dict(header or {})
    with OpenEXR.File(full, {name: np.ascontiguousarray(plane) for name, plane in channels.items()}) as file:
        file.write(str(path))
    return path


def write_raster(path: Path, pixels: Any, names: Sequence[str], **attributes: Any) -> Path:
    """A picture written with OpenImageIO directly; 8 and 16 bit and float arrays as they are."""
    import OpenImageIO as oiio

    height, width, channels = pixels.shape
    kind = {"uint8": oiio.UINT8, "uint16": oiio.UINT16, "float32": oiio.FLOAT, "float16": oiio.HALF}[str(pixels.dtype)]
    spec = oiio.ImageSpec(width, height, channels, kind)
    spec.channelnames = tuple(names)
    if "A" in names:
        spec.alpha_channel = list(names).index("A")
        spec.attribute("oiio:UnassociatedAlpha", 1)
    for name, value in attributes.items():
        spec.attribute(name.replace("__", ":"), value)
    output = oiio.ImageOutput.create(str(path))
    assert output.open(str(path), spec), output.geterror()
    assert output.write_image(np.ascontiguousarray(pixels)), output.geterror()
    assert output.close()
    return path


def workers_by_hand(test: unittest.TestCase, folder: Path, count: int) -> str:
    """A scheduler and its workers as processes, until the test is over; its address."""
    import distributed

    core = str(Path(__file__).parent.parent)

    def started(what: str, *arguments: str) -> subprocess.Popen[str]:
        process = subprocess.Popen(
            [sys.executable, "-m", f"distributed.cli.dask_{what}", *arguments, "--no-dashboard"],
            stderr=subprocess.PIPE,
            text=True,
            cwd=folder,
            env=os.environ | {"PYTHONPATH": core},
        )
        test.addCleanup(process.wait)
        test.addCleanup(process.kill)
        assert process.stderr
        test.addCleanup(process.stderr.close)
        return process

    scheduler = started("scheduler", "--host", "127.0.0.1", "--port", "0")
    lines = iter(scheduler.stderr or ())
    address = next(found[1] for line in lines if (found := re.search(r"Scheduler at:\s+(tcp://\S+)", line)))
    for _ in range(count):
        started("worker", address, "--nthreads", "1", "--no-nanny")
    with distributed.Client(address, set_as_default=False) as client:
        client.wait_for_workers(count, timeout=60)
    return address

"""What a delivered texture holds against what was meant, channel by channel."""

from __future__ import annotations

import math
import tempfile
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nexal.addresses import split_address
from nexal.analysis.bending import bent_sources
from nexal.analysis.compare import difference
from nexal.engine import Cancellation, Engine, Plan
from nexal.engine.plan import Feed
from nexal.errors import RecipeError
from nexal.formats.raster_writing import stored_samples
from nexal.formats.store import Library, fingerprint
from nexal.formats.targets import Target, target_of
from nexal.formats.writing import write
from nexal.kernels.blending import HOLDING
from nexal.kernels.halves import to_halves
from nexal.kernels.proving import measured
from nexal.operations.packing import PORTS, BaySettings
from nexal.picture import PLANE_NAME, Plane
from nexal.recipe import parse_output

MOST_CHANNELS = 16
SEEN = np.float32(0.5 / 255)
"""Coverage from which on a bar is seen, and how far a value may lie outside before it is cut off."""


def _channels(engine: Engine, plan: Plan, feed: Feed, cancellation: Cancellation | None) -> Iterator[tuple[str, Plane]]:
    """Each channel over the display window, one at a time: a large texture's need not lie in memory together."""
    for name in feed.description.channels:
        picture = engine.evaluate(
            feed,
            plan,
            region=feed.description.display,
            channels=[name],
            patient=False,
            cancellation=cancellation,
        )
        yield name, picture.planes[name]


def delivered(plane: Plane, target: Target) -> NDArray[Any]:
    """The samples of a plane of data as a target stores them."""
    if target.format == "exr":
        return to_halves(plane) if target.depth == "half" else plane.astype(np.float32)
    return stored_samples(plane, target)


def checked_target(feed: Feed, spec: Mapping[str, Any]) -> Target:
    """The target that a texture is proven for. Raises FormatError, and RecipeError for what is no data."""
    if feed.description.colour:
        raise RecipeError(
            f"{feed.node.item} holds colour", where="proof", remedy="prove a packed texture, whose channels are data"
        )
    if len(feed.description.channels) > MOST_CHANNELS:
        raise RecipeError("has too many channels", where="proof", remedy=f"prove a picture of {MOST_CHANNELS} or less")
    return target_of(parse_output({"from": feed.node.item, "file": "proof", "format": "png", **spec}, "proof"))


def proof(
    engine: Engine, plan: Plan, feed: Feed, target: Target, cancellation: Cancellation | None = None
) -> list[dict[str, Any]]:
    """For each channel: the range that is meant, the codes that are delivered, and how far they are apart.

    `low`, `high` are the ends of the meant values; `first`, `last` those of the samples (codes of whole numbers, else
    values). `largest` and `mean` are errors, in codes of whole numbers, of what lies in 0..1; `clipped` is the share of
    pixels that lie further outside than rounding reaches, or are no number, here or where they are laid into a bay,
    which holds them at its ends; `unused` how many of the `bits` of a code
    its distinct codes do not need (None for floats). `bent` names what is behind the channel and read as encoded
    colour where its numbers are meant: then the values themselves are not those of the file.
    """
    most = target.most if target.integer else 0
    bits = {"8": 8, "10": 16, "16": 16, "half": 16, "float": 32}[target.depth]
    rows: list[dict[str, Any]] = []
    for name, plane in _channels(engine, plan, feed, cancellation):
        found = measured(plane, delivered(plane, target), most)
        ends = {"low": found.low, "high": found.high, "first": found.first, "last": found.last}
        rows.append(
            {
                **{key: value if math.isfinite(value) else None for key, value in ends.items()},
                "name": name,
                "most": most or None,
                "largest": found.largest,
                "mean": found.mean,
                "clipped": found.outside / plane.size + _cut_off(engine, plan, feed, name, cancellation),
                "bits": bits,
                "unused": bits - max(1, math.ceil(math.log2(max(2, found.distinct)))) if most else None,
                "bent": _bent(plan, feed, name),
            }
        )
    return rows


def _fed(plan: Plan, feed: Feed, channel: str) -> str | None:
    """What a channel of a texture is fed from; of what is no texture, itself."""
    step = plan.recipe.step(feed.node.item)
    port = next((port for port, name in PORTS.items() if name == channel), None)
    fed = step.inputs.get(port) if step and step.op == "pack" and port else feed.node.item
    return fed if isinstance(fed, str) else None


def _cut_off(engine: Engine, plan: Plan, feed: Feed, channel: str, cancellation: Cancellation | None) -> float:
    """The share of a channel whose values a bay held at 0 or 1, where they are seen in it."""
    fed = _fed(plan, feed, channel)
    step = plan.recipe.step(split_address(fed)[0]) if fed else None
    if step is None or not step.on or step.op != "bay":
        return 0.0
    node = plan.node(step.name)
    settings, feeds = node.settings, node.feeds or {}
    assert isinstance(settings, BaySettings)
    region = node.description.display
    limited = {index for index, bar in enumerate(settings.layers) if bar.mode in HOLDING and bar.source and bar.on}
    limited = {index for index in limited if not _within(feeds[f"layers.{index}.from"])}
    if not limited:
        return 0.0

    def plane(port: str) -> Plane:
        got = engine.evaluate(feeds[port], plan, region=region, patient=False, cancellation=cancellation)
        return got.planes[PLANE_NAME]

    cut = np.zeros((region.height, region.width), bool)
    for index in range(min(limited), len(settings.layers)):
        bar = settings.layers[index]
        if not bar.on or bar.opacity == 0:
            continue
        cover = np.full(cut.shape, bar.opacity, np.float32)
        if bar.mask is not None:
            mask = np.clip(plane(f"layers.{index}.mask"), 0, 1)
            cover *= 1 - mask if bar.invert_mask else mask
        if bar.mode == "normal":
            # What is covered is seen no more.
            cut &= cover < 1 - SEEN
        if index in limited:
            laid = plane(f"layers.{index}.from")
            with np.errstate(invalid="ignore"):
                cut |= (cover > SEEN) & ~((laid >= -SEEN) & (laid <= 1 + SEEN))
    return float(np.count_nonzero(cut) / cut.size)


def _within(feed: Feed) -> bool:
    """Whether a plane cannot hold anything outside of 0..1: it is stored in whole numbers."""
    return feed.description.trait(PLANE_NAME).samples in ("uint8", "uint16")


def _bent(plan: Plan, feed: Feed, channel: str) -> list[str]:
    """What arrives bent in a channel of a texture."""
    step = plan.recipe.step(feed.node.item)
    fed = _fed(plan, feed, channel)
    if fed is None:
        return []
    found = bent_sources(plan, split_address(fed)[0])
    if step and step.op == "pack" and plan.recipe.step(split_address(fed)[0]) is None:
        found = {name: at for name, at in bent_sources(plan, step.name).items() if at == fed}
    return list(found)


def round_trip(
    engine: Engine, plan: Plan, feed: Feed, target: Target, suffix: str, cancellation: Cancellation | None = None
) -> dict[str, Any]:
    """The texture written to a file, read back, and compared sample by sample.

    `channels`: for each, how many samples came back `wrong`; `bytes`: the file's size. Raises NexalError.
    """
    display = feed.description.display
    picture = engine.evaluate(feed, plan, region=display, patient=False, cancellation=cancellation)
    with tempfile.TemporaryDirectory(prefix="nexal-proof-") as folder:
        path = Path(folder) / f"proof{suffix}"
        write(picture, target, path, {})
        library = Library(Path(folder) / "read")
        stored = library.unpack(path, fingerprint(path))
        rows = []
        for name, back in zip(picture.planes, _in_order(stored.channels, list(picture.planes)), strict=True):
            wanted = delivered(picture.planes[name], target)
            got = np.asarray(stored.samples(back)) if back else None
            same = got is not None and got.shape == wanted.shape and got.dtype == wanted.dtype
            wrong = int(np.count_nonzero(got != wanted)) if same and got is not None else wanted.size
            rows.append({"name": name, "wrong": wrong, "read_as": str(got.dtype) if got is not None else "nothing"})
        library.close()
        return {"channels": rows, "bytes": path.stat().st_size}


def _in_order(found: Mapping[str, Any], wanted: list[str]) -> list[str | None]:
    """The file's channel for each of the picture's: of the same name, else (a lone one) the only one."""
    if len(wanted) == 1 and len(found) == 1:
        return [next(iter(found))]
    return [name if name in found else None for name in wanted]


def losses(
    engine: Engine, plan: Plan, meant: Feed, seen: Feed, cancellation: Cancellation | None = None
) -> list[dict[str, Any]]:
    """What becomes of a texture: largest and mean difference and PSNR of each channel, full resolution.

    `seen` has the channels of `meant`, such as a `mip` or `blocks` step that is fed from it. Raises RecipeError where
    it has others.
    """
    if seen.description.channels != meant.description.channels:
        raise RecipeError(
            f"{seen.node.item} has other channels than {meant.node.item}",
            where="losses",
            remedy="compare a texture with what is made of it",
        )
    pairs = zip(_channels(engine, plan, meant, cancellation), _channels(engine, plan, seen, cancellation), strict=True)
    return [{"name": name} | difference(before, after) for (name, before), (_, after) in pairs]

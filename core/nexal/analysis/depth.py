"""What a depth pass holds: distances or their inverse, which way round, from where to where, and whether it is sound.

What can be measured is measured against a position pass of the same picture; without one its slopes tell.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, field, replace
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nexal.camera import Camera, camera_of, camera_of_positions
from nexal.errors import NexalError, SourceError
from nexal.formats.reading import StoredSource
from nexal.formats.statistics import as_float
from nexal.kernels.depths import (
    MOST_SAMPLES,
    averaged_share,
    direction,
    nothing_in,
    sampled,
)
from nexal.kernels.nowhere import is_nowhere
from nexal.picture import Description, Plane, split_channel

AVERAGED = 0.1
"""Share of pixels at steps that lie between both surfaces, from which on edges were averaged."""
LEAST_EDGES = 100
FITS = 5e-4
"""Residual, as a part of the spread, of what a depth is: right ones stay below 2.3e-5, wrong ones above 1.6e-3."""
SAMPLES = 20_000
WORDS = {
    "planar": "distance along the view",
    "radial": "distance to the eye",
    "inverse": "inverse distance",
    "buffer": "z-buffer",
    "distance": "distance",
    "flat": "one value all over",
    "empty": "nothing",
}


@dataclass(frozen=True)
class Found:
    """A camera: degrees across, the eye, and how it was found."""

    field_of_view: float
    eye: tuple[float, float, float]
    by: str


@dataclass(frozen=True)
class DepthReport:
    """What is known of a depth pass, with the reasons.

    `kind`: planar or radial (distance along the view, or to the eye), inverse, buffer (of a renderer's z), distance or
    inverse by their slopes (`likely`), flat or empty. `near_is`: small or large; `asks` where either is as likely, and
    somebody has to look. `nothing`: numbers that stand for
    nothing; `range`: percentiles 0.5 and 99.5 of the rest. `unit`: world units that 1 of it is, where that is known.
    """

    channel: str
    kind: str
    likely: bool
    near_is: str
    nothing: list[float] = field(default_factory=list)
    nothing_share: float = 0.0
    range: tuple[float, float] = (0.0, 0.0)
    unit: float | None = None
    averaged: float = 0.0
    edges: int = 0
    camera: Found | None = None
    reasons: list[str] = field(default_factory=list)
    warnings: list[str] = field(default_factory=list)
    asks: bool = False

    def as_json(self) -> dict[str, Any]:
        return asdict(self)


def depth_report(channel: str, depth: Plane, position: Sequence[Plane] | None, description: Description) -> DepthReport:
    """What a depth pass (H x W, as stored) holds; `position` are the three axes of a pass of the same picture."""
    reasons: list[str] = []
    warnings: list[str] = []
    empty, numbers = nothing_in(depth)
    if numbers:
        reasons.append(f"nothing is written as {', '.join(f'{number:g}' for number in numbers)}")
    share = float(empty.mean())
    camera = _camera(description, position, warnings)
    there = ~empty
    known: dict[str, Any] = {
        "nothing": numbers,
        "nothing_share": share,
        "camera": camera,
        "reasons": reasons,
        "warnings": warnings,
    }
    if not there.any():
        warnings.append("holds nothing anywhere")
        return DepthReport(channel, "empty", False, "small", **known)
    low, high = (float(value) for value in np.percentile(sampled(depth, there), (0.5, 99.5)))
    known["range"] = (low, high)
    if low == high:
        warnings.append(f"holds one value, {low:g}, all over")
        return DepthReport(channel, "flat", False, "small", **known)
    if (depth[there] < 0).any():
        warnings.append("holds values below 0" + (", all of them" if high <= 0 else ""))
    finite = np.where(there, depth, np.float32(np.inf))
    averaged, edges = averaged_share(finite)
    if averaged > AVERAGED and edges >= LEAST_EDGES:
        warnings.append(
            f"its edges were averaged: {averaged:.0%} of {edges} pixels at steps are neither's; mend it by depth_edges"
        )
    known |= {"averaged": averaged, "edges": edges}
    if position is not None:
        by = _against(depth, position, there)
        if by is not None:
            kind, near_is, unit, why = by
            reasons.append(why)
            return DepthReport(channel, kind, False, near_is, unit=unit, **known)
        warnings.append("does not agree with the positions: another picture's, or moved since")
    return _by_slopes(channel, finite, known)


def _by_slopes(channel: str, depth: Plane, known: dict[str, Any]) -> DepthReport:
    found = direction(depth, known["nothing"])
    known["reasons"].append(found.why)
    if not found.sure:
        known["warnings"].append("which end is near can't be told: look, and say at the source how it is read")
    return DepthReport(channel, found.kind, True, found.near_is, asks=not found.sure, **known)


def _camera(description: Description, position: Sequence[Plane] | None, warnings: list[str]) -> Found | None:
    try:
        camera = camera_of(description)
    except NexalError as error:
        warnings.append(str(error))
        camera = None
    if camera is not None:
        return _found(camera, "the file's header")
    if position is None:
        return None
    # Some rows and columns are enough to be seen by.
    held, every = np.stack(position), 1 + position[0].size // MOST_SAMPLES
    mask = np.zeros(position[0].shape, np.bool_)
    mask[::every, ::every] = ~is_nowhere(held[:, ::every, ::every])
    solved = camera_of_positions(held, mask, (description.window.x, description.window.y))
    if solved is None:
        return None
    own = Camera(solved.camera.matrix, description.display.width, description.display.height)
    return _found(own, f"the positions, within {solved.error:.3f} px")


def _found(camera: Camera, by: str) -> Found:
    x, y, z = (float(value) for value in camera.eye)
    return Found(camera.field_of_view, (x, y, z), by)


Against = tuple[str, str, float | None, str]


def _against(depth: Plane, position: Sequence[Plane], there: NDArray[np.bool_]) -> Against | None:
    """Kind, near end, unit and reason by a position pass; None where nothing fits.

    A distance along the view is affine in P; the square of one to the eye is |P|^2 and affine in P; of an inverse depth
    1/v is affine; a z-buffer is a quotient of two affine functions, which holds all but the radial one.
    """
    random = np.random.default_rng(0)
    few = there.size < 16 * SAMPLES
    tried = random.permutation(there.size) if few else random.integers(0, there.size, 8 * SAMPLES)
    tried = tried[there.ravel()[tried]]
    held = np.stack([plane.ravel()[tried] for plane in position])
    sound = ~is_nowhere(held)
    chosen = tried[sound][:SAMPLES]
    if chosen.size < 100:
        return None
    value = depth.ravel()[chosen].astype(float)
    points = [plane.astype(float) for plane in held[:, sound][:, :SAMPLES]]
    size = float(np.percentile(value, 95) - np.percentile(value, 5)) or 1e-30

    def fits(residual: NDArray[np.float64]) -> bool:
        return bool(np.median(np.abs(residual)) / size < FITS)

    planar, residual = _affine(value, points)
    if fits(residual):
        # Which way the view goes is not known: depth rises along it, or falls.
        near = "small" if value.min() >= 0 or abs(value.max()) > abs(value.min()) else "large"
        return (
            "planar",
            near,
            1 / float(np.linalg.norm(planar[:3])),
            "distance along the view: it is linear in the positions",
        )
    square = sum(plane * plane for plane in points)
    radial, residual = _affine(value * value, [*points, square])
    if radial[3] > 0 and fits(residual / np.maximum(2 * np.abs(value), 1e-9)):
        return "radial", "small", 1 / float(np.sqrt(radial[3])), "distance to the eye: its square fits the positions'"
    if (value != 0).all():
        _, residual = _affine(1 / value, points)
        if fits(residual * value * value):
            return "inverse", "large", None, "inverse distance: 1 / v is linear in the positions"
    residual, near = _projective(value, points)
    if fits(residual):
        return "buffer", near, None, "a z-buffer: a quotient of linear functions of the positions"
    return None


def _affine(value: NDArray[np.float64], columns: Sequence[Any]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    rows = np.stack([*columns, np.ones_like(value)], axis=1)
    scale = rows.std(axis=0)
    scale[scale == 0] = 1
    found = np.linalg.lstsq(rows / scale, value, rcond=None)[0] / scale
    return found, rows @ found - value


def _projective(value: NDArray[np.float64], points: Sequence[NDArray[np.float64]]) -> tuple[NDArray[np.float64], str]:
    one = np.ones_like(value)
    own = np.stack([*points, one], axis=1)
    rows = np.concatenate([own, -value[:, None] * own], axis=1)
    scale = np.linalg.norm(rows, axis=0)
    scale[scale == 0] = 1
    _, vectors = np.linalg.eigh((rows / scale).T @ (rows / scale))
    found = vectors[:, 0] / scale
    below = own @ found[4:]
    below = np.where(below == 0, 1e-30, below)
    # The denominator is the distance along the view, up to its sign.
    near = "small" if float(np.corrcoef(np.abs(below), value)[0, 1]) > 0 else "large"
    return own @ found[:4] / below - value, near


def channels_for(description: Description, layer: str | None = None) -> tuple[list[str], list[str] | None]:
    """The depth channels of a source, and the three axes of its position pass, if it has one.

    Raises SourceError where there is no depth, or none in the layer named.
    """
    depths = [name for name in description.channels if description.trait(name).role == "depth"]
    if layer is not None:
        depths = [name for name in description.channels if name == layer or split_channel(name)[0] == layer]
    if not depths:
        where = f"in the layer '{layer}'" if layer is not None else "in it"
        raise SourceError(f"there is no depth {where}", remedy="name its layer or channel")
    rows: Mapping[str, list[str]] = {}
    for name in description.channels:
        if description.trait(name).role == "position":
            rows = {**rows, split_channel(name)[0]: [*rows.get(split_channel(name)[0], []), name]}
    axes = next((sorted(names) for names in rows.values() if len(names) == 3), None)
    return depths, axes


@dataclass(frozen=True)
class _Layer:
    """A layer of a source as it is read; the same one where both digests are."""

    digest: str
    layer: str | None
    said: str
    source: StoredSource = field(compare=False)


def reports_of(source: StoredSource, layer: str | None = None) -> tuple[DepthReport, ...]:
    """What the depth channels of a source hold; known ones are not read again. Raises SourceError where it has none."""
    return _reports(_Layer(source.digest, layer, source.spec.depth, source))


@lru_cache(64)
def _reports(read: _Layer) -> tuple[DepthReport, ...]:
    source, stored = read.source, read.source.stored
    depths, axes = channels_for(source.description, read.layer)
    same = axes is not None and all(stored.window(axis) == stored.window(depths[0]) for axis in axes)
    position = [as_float(stored.samples(axis)) for axis in axes] if axes and same else None
    described = source.description.changed(window=stored.window(depths[0]))
    reports = (depth_report(name, source.depth_as_read(name), position, described) for name in depths)
    return tuple(_as_said(report, read.said) for report in reports)


def _as_said(report: DepthReport, kind: str) -> DepthReport:
    """The report with what the recipe says that the depth measures."""
    if kind == "auto" or report.kind in ("flat", "empty"):
        return report
    # A z-buffer rises towards what is far, unless what was found of it says otherwise.
    found = report.near_is if report.kind == "buffer" else "small"
    near_is = found if kind == "buffer" else "large" if kind in ("turned", "inverse") else "small"
    said = "distance" if kind == "turned" else kind
    reasons = [*report.reasons, f"the recipe says so; by itself it looks like {WORDS[report.kind]}"]
    # A unit holds for what it was found for.
    unit = report.unit if said == report.kind else None
    told = [warning for warning in report.warnings if not report.asks or "can't be told" not in warning]
    return replace(
        report, kind=said, likely=False, asks=False, near_is=near_is, unit=unit, reasons=reasons, warnings=told
    )


def sentences(report: DepthReport) -> list[str]:
    """The report in words, line by line."""
    lines = [f"{report.channel}: {'probably ' if report.likely else ''}{WORDS[report.kind]}, near is {report.near_is}"]
    lines.append(f"from {report.range[0]:g} to {report.range[1]:g}; nothing in {report.nothing_share:.1%}")
    if report.unit is not None:
        lines.append(f"1 is {report.unit:.4g} units of the world")
    if report.edges:
        lines.append(f"{report.averaged:.1%} of {report.edges} pixels at steps lie between two surfaces")
    if report.camera:
        x, y, z = report.camera.eye
        lines.append(
            f"camera: {report.camera.field_of_view:.2f}° wide, eye at {x:.4g} {y:.4g} {z:.4g} (by {report.camera.by})"
        )
    lines += [f"because {reason}" for reason in report.reasons]
    return lines + [f"warning: {warning}" for warning in report.warnings]

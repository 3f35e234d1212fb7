"""Following: where what a region holds lies at the frames of a range, and how sure that is."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any, get_args

import numpy as np

from nexal.engine import Cancellation, Engine, Plan
from nexal.errors import RecipeError
from nexal.kernels.following import Found, Matrix3, Model, Points, Region
from nexal.kernels.pointmath import encode
from nexal.picture import Plane, Window
from nexal.work import current

MODELS: tuple[Model, ...] = get_args(Model)
LOST = 0.35
"""How sure a frame has to be not to be given up."""
Seen = Callable[[int, Window | None], tuple[Plane, Window]]
"""The picture of a frame as it is judged by eye, one plane, over a window (None: all), and the window it covers."""


@dataclass(frozen=True)
class Followed:
    """A frame: its matrix from the start's positions (None where it is lost), how sure, and the points that agree."""

    frame: int
    matrix: Matrix3 | None
    sure: float
    points: Points

    def row(self) -> dict[str, Any]:
        row: dict[str, Any] = {
            "frame": self.frame,
            "sure": round(self.sure, 4),
            "points": self.points.round(3).tolist(),
        }
        return row | ({} if self.matrix is None else {"matrix": self.matrix.ravel().tolist()})


def outline_of(window: Window) -> Points:
    """The corners of a rectangle."""
    left, top, right, bottom = window.x, window.y, window.right, window.bottom
    return np.array([(left, top), (right, top), (right, bottom), (left, bottom)], np.float64)


def light_of(
    engine: Engine, plan: Plan, address: str, window: Window | None, cancellation: Cancellation | None = None
) -> tuple[list[Plane], Window, bool]:
    """The three channels of an item's colour, or its only one, over a window (None: all); what the window covers, and
    whether it is data and no light."""
    feed = plan.feed(address)
    described = feed.description
    region = described.display if window is None else window.intersect(described.display)
    names = [name for name in described.channels if name in described.colour][:3] or list(described.channels[:1])
    names = names if len(names) == 3 else names[:1]
    planes = engine.evaluate(feed, plan, channels=names, region=region, cancellation=cancellation).planes
    return [planes[name] for name in names], region, names[0] in described.data


def as_seen(planes: Sequence[Plane], is_data: bool = False) -> Plane:
    """Luminance of three channels of light, encoded; one of light encoded, data as it is."""
    if len(planes) < 3:
        return planes[0] if is_data else encode(planes[0])
    red, green, blue = planes
    return np.asarray(encode(0.2126 * red + 0.7152 * green + 0.0722 * blue), np.float32)


def seen_through(
    engine: Engine, plans: Callable[[int], Plan], address: str, cancellation: Cancellation | None = None
) -> Seen:
    """The pictures of an item of a recipe, frame by frame: luminance of its colour, encoded; a plane as it is."""

    def picture(frame: int, window: Window | None) -> tuple[Plane, Window]:
        planes, region, is_data = light_of(engine, plans(frame), address, window, cancellation)
        return as_seen(planes, is_data), region

    return picture


def follow(
    seen: Seen,
    outline: Points | Sequence[Sequence[float]],
    start: int,
    frames: Iterable[int],
    model: Model = "similarity",
    *,
    search: bool = False,
    from_matrix: Matrix3 | Sequence[float] | None = None,
) -> Iterator[Followed]:
    """Follow what a closed outline (N x 2 positions at frame `start`) holds over frames in their order.

    Each frame is compared with the start as the present estimate draws it. It ends where it is lost (how sure it is
    falls below 0.35), after telling of that frame; with `search` it goes on, looking in the whole picture for what was
    in the region, until it is there again. `from_matrix` is where the region lies before the first of the frames, if
    that is not where it was at the start. Raises RecipeError where the region holds nothing to follow.
    """
    outline = np.asarray(outline, np.float64)
    low, high = outline.min(axis=0), outline.max(axis=0)
    margin = 24 + 0.1 * float((high - low).max())
    first = _window(low - margin, high + margin)
    picture, covered = seen(start, first)
    region = Region(picture, covered, outline, model)
    if not region.followable:
        raise RecipeError(
            "the region holds too little that can be told apart",
            where=f"frame {start}",
            remedy="take a larger one, with corners or texture in it, or the model 'shift'",
        )
    here = np.eye(3) if from_matrix is None else np.asarray(from_matrix, np.float64).reshape(3, 3)
    before: Matrix3 | None = None
    away = False
    for frame in frames:
        current().check()
        found = None if away else _near(region, seen, frame, here, before)
        if (found is None or found.sure < LOST) and (search or away):
            found = _anywhere(region, seen, frame) or found
        if found is None or found.sure < LOST:
            yield Followed(frame, None, found.sure if found else 0.0, np.zeros((0, 2)))
            if not search:
                return
            away, before = True, None
            continue
        before, here = (None if away else here), found.matrix
        away = False
        yield Followed(frame, found.matrix, found.sure, found.points)


def _near(region: Region, seen: Seen, frame: int, here: Matrix3, before: Matrix3 | None) -> Found | None:
    """The region near to where it was, or to where it would be if it moved on as it did."""
    guesses = [here] if before is None else [here @ np.linalg.inv(before) @ here, here]
    best: Found | None = None
    for guess in guesses:
        low, high = region.bounds(guess)
        if not np.isfinite([low, high]).all():
            continue
        margin = 32 + 0.3 * float((high - low).max())
        window = _window(low - margin, high + margin)
        picture, covered = seen(frame, window)
        if covered.width < 16 or covered.height < 16:
            continue
        found = region.find(picture, covered, guess)
        if found is not None and (best is None or found.sure > best.sure):
            best = found
        if best is not None and best.sure > 0.6:
            break
    return best


def _anywhere(region: Region, seen: Seen, frame: int) -> Found | None:
    picture, covered = seen(frame, None)
    guess = region.search(picture, covered)
    return None if guess is None else region.find(picture, covered, guess, rounds=3)


def _window(low: Points, high: Points) -> Window:
    x, y = np.floor(low).astype(int).tolist()
    right, bottom = np.ceil(high).astype(int).tolist()
    return Window(x, y, right - x, bottom - y)


def movement_of(start: int, rows: Sequence[Followed]) -> dict[str, Any]:
    """The rows as a movement that a recipe takes (`OPERATIONS`: Movement); lost frames are left out."""
    kept = [row for row in rows if row.matrix is not None]
    identity = {str(start): np.eye(3).ravel().tolist()}
    matrices = identity | {str(row.frame): row.matrix.ravel().tolist() for row in kept if row.matrix is not None}
    sure = {str(start): 1.0} | {str(row.frame): round(row.sure, 3) for row in rows}
    return {"from": start, "matrices": matrices, "sure": sure}

"""Settings that move: keys, and what a step's settings are at a frame."""

from __future__ import annotations

import itertools
import math
from bisect import bisect_right
from collections.abc import Mapping
from typing import Any, Literal, TypeGuard

from nexal.errors import SettingError
from nexal.faults import worded

Interpolation = Literal["linear", "smooth", "hold"]
WAYS: tuple[Interpolation, ...] = ("linear", "smooth", "hold")
"""How a key goes over into the next one."""
MOST_KEYS = 10_000


class Moved(float):
    """A number that came from keys: where a whole number is wanted, it is rounded to the nearest."""


def is_keyed(value: Any) -> TypeGuard[dict[str, list[Any]]]:
    """Whether a setting's value is `{"keys": [...]}`."""
    return isinstance(value, dict) and set(value) == {"keys"} and isinstance(value["keys"], list)


def passage(way: str, t: float) -> float:
    """How far a key has gone over into the next at a part t, 0 to 1, of the way: t, 3t^2 - 2t^3, or 0."""
    return {"hold": 0.0, "smooth": t * t * (3 - 2 * t)}.get(way, t)


def ordered_keys(keys: list[Any], where: str) -> list[tuple[float, Any, str]]:
    """Checked keys in the order of their frames. Raises SettingError, placed at `where`."""

    def fault(what: str, remedy: str) -> SettingError:
        return SettingError(what, where=where, remedy=remedy)

    if not 1 <= len(keys) <= MOST_KEYS:
        raise fault(f"has {len(keys)} keys", f"give 1 to {MOST_KEYS}")
    shape = None
    found: list[tuple[float, Any, str]] = []
    for index, key in enumerate(keys):
        if not isinstance(key, list | tuple) or len(key) not in (2, 3) or not _is_number(key[0]):
            raise fault(
                f"key {index + 1} is not [frame, value] or [frame, value, way]", "write [[1, 0.5], [24, 2, 'smooth']]"
            )
        way = key[2] if len(key) == 3 else "linear"
        if way not in WAYS:
            raise fault(f"key {index + 1} goes over by {way!r}", f"use one of {', '.join(WAYS)}")
        own = _shape(key[1])
        if own is None:
            raise fault(f"key {index + 1} holds {key[1]!r}", "numbers and lists of numbers can move, nothing else")
        if shape is not None and own != shape:
            raise fault(f"key {index + 1} holds another number of values than the first", "give each as many")
        shape = own
        found.append((float(key[0]), key[1], way))
    found.sort(key=lambda key: key[0])
    for here, following in itertools.pairwise(found):
        if here[0] == following[0]:
            raise fault(f"two keys stand at frame {here[0]:g}", "move one of them, or take it away")
    return found


def _is_number(value: Any) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool) and math.isfinite(value)


def _shape(value: Any) -> tuple[Any, ...] | None:
    """How many numbers there are, list in list; None for what is not made of numbers."""
    if _is_number(value):
        return ()
    if not isinstance(value, list | tuple) or not value:
        return None
    inner = [_shape(each) for each in value]
    return None if None in inner else tuple(inner)


def value_at(keys: list[Any], frame: float, where: str = "keys") -> Any:
    """Value of `[[frame, value, way], ...]` at a frame; held before the first and after the last key.

    A value is a number, or lists of numbers, each of which goes over by itself. `way` tells how a key goes over into
    the next: linear, smooth or hold. Raises SettingError, placed at `where`.
    """
    ordered = ordered_keys(keys, where)
    index = bisect_right(ordered, frame, key=lambda key: key[0])
    if index == 0 or index == len(ordered):
        return _mixed(ordered[max(index - 1, 0)][1], None, 0.0)
    (start, here, way), (end, there, _) = ordered[index - 1], ordered[index]
    return _mixed(here, there, passage(way, (frame - start) / (end - start)))


def _mixed(here: Any, there: Any, t: float) -> Any:
    if isinstance(here, list | tuple):
        return [_mixed(own, None if there is None else there[index], t) for index, own in enumerate(here)]
    return Moved(here if there is None or t == 0 else here + (there - here) * t)


PATHS, POINTS = "paths", "points"


def settings_at(settings: Mapping[str, Any], frame: float) -> dict[str, Any]:
    """The settings of a step with all that is keyed, however deep, replaced by its value at `frame`.

    The points of a path may be of different kinds from key to key; they are left to the path itself. Raises
    SettingError that names the setting.
    """
    return {
        name: [_path_at(path, frame, (name, index)) for index, path in enumerate(value)]
        if name == PATHS and isinstance(value, list)
        else _at(value, frame, (name,))
        for name, value in settings.items()
    }


Place = tuple[int | str, ...]


def _path_at(path: Any, frame: float, place: Place) -> Any:
    if not isinstance(path, dict):
        return path
    return {
        name: value if name in ("keys", POINTS) else _at(value, frame, (*place, name)) for name, value in path.items()
    }


def _at(value: Any, frame: float, place: Place) -> Any:
    if is_keyed(value):
        return value_at(value["keys"], frame, f"setting '{worded(place)}'")
    if isinstance(value, dict):
        return {name: _at(inner, frame, (*place, name)) for name, inner in value.items()}
    if isinstance(value, list) and not _flat(value):
        return [_at(inner, frame, (*place, index)) for index, inner in enumerate(value)]
    return value


def _flat(value: list[Any]) -> bool:
    """Whether a list holds numbers and text only, which is looked through fast: strokes are long."""
    return not any(isinstance(inner, dict | list) for inner in value)


def rounded(value: float) -> int:
    """The whole number nearest to one that moves; a half goes up."""
    return math.floor(value + 0.5)

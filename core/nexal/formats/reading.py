"""A decoded file read as a recipe's source says: encoding, alpha state, what is not finite; at every scale."""

from __future__ import annotations

import hashlib
import json
import threading
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, fields
from fractions import Fraction
from functools import cached_property, lru_cache
from typing import Any, Protocol

import numpy as np

from nexal.code_version import version_of
from nexal.colour import BUILT_IN, check_space, primaries_matrix, to_working
from nexal.formats.roles import COLOUR_ROLES
from nexal.formats.statistics import INTEGER_MAX, as_float
from nexal.formats.stored import LEVELS, PROFILE, StoredFile, mapped_samples, write_samples
from nexal.hashed_ids import with_manifests
from nexal.kernels.mixing import reduced, with_alphas
from nexal.kernels.pointmath import decode
from nexal.picture import (
    ALPHA_NAME,
    Alpha,
    Description,
    InkProfile,
    Plane,
    Trait,
    Window,
    is_alpha,
    named_as_colour,
    split_channel,
)


class Spec(Protocol):
    """How a recipe's source says that its file is read; see `recipe.SourceSpec`."""

    @property
    def colour(self) -> str: ...
    @property
    def read_alpha(self) -> str: ...
    @property
    def non_finite(self) -> str: ...
    @property
    def roles(self) -> Mapping[str, str]: ...
    @property
    def depth(self) -> str: ...
    @property
    def nothing(self) -> float | None: ...


@dataclass(frozen=True)
class DefaultSpec:
    """The reading that a source has when its recipe says nothing of it."""

    colour: str = "auto"
    read_alpha: str = "file"
    non_finite: str = "keep"
    roles: Mapping[str, str] = field(default_factory=dict)
    depth: str = "auto"
    nothing: float | None = None


BAND_ROWS = 512
"""Rows that proxies are made of at a time; a multiple of the largest divisor."""

RAW = frozenset({"f2", "f4", "u4"})
"""Sample types that are handed on as they are: half, float, uint."""


READINGS = 8
"""Ways to read one file that are kept."""


def reading(
    stored: StoredFile, spec: Spec, digest: str, number: int | None = None, manifests: Mapping[str, str] | None = None
) -> StoredSource:
    """A decoded file as a source says; see `StoredSource`. Whoever asks alike has the same one: it is described once.

    Raises what `StoredSource` raises.
    """
    # Only what says how it is read: where its files are, and when they are seen, makes no other reading.
    said = {each.name: getattr(spec, each.name) for each in fields(DefaultSpec)}
    key = json.dumps([said, digest, number, manifests or {}], sort_keys=True)
    known: StoredSource | None = stored.readings.get(key)
    if known is None:
        said["roles"] = dict(said["roles"])
        known = StoredSource(stored, DefaultSpec(**said), digest, number, manifests)
        if len(stored.readings) >= READINGS:
            stored.readings.clear()
        stored.readings[key] = known
    return known


class StoredSource:
    """A decoded file read as a recipe's source says: encoding, alpha state, what is not finite."""

    def __init__(
        self,
        stored: StoredFile,
        spec: Spec,
        digest: str,
        number: int | None = None,
        manifests: Mapping[str, str] | None = None,
    ) -> None:
        """`number` is that of its frame, in a source of many; `manifests` the texts of files with names of its ids."""
        check_space(spec.colour)
        self._manifests = manifests or {}
        self.number = number
        self.stored = stored
        self.spec = spec
        self.fingerprint = digest
        reading: dict[str, Any] = {"colour": spec.colour, "alpha": spec.read_alpha, "non_finite": spec.non_finite}
        reading |= {"roles": spec.roles} if spec.roles else {}
        reading |= {"nothing": spec.nothing} if spec.nothing is not None else {}
        reading |= {"manifests": _short(self._manifests)} if self._manifests else {}
        self.digest = f"{digest}/{version_of(__name__)}/{json.dumps(reading, sort_keys=True)}"

    @cached_property
    def space(self) -> str:
        """The colour space of the file's colour, with `auto` decided."""
        if self.spec.colour != "auto":
            return self.spec.colour
        return str(self.stored.header["encoding"])

    @cached_property
    def description(self) -> Description:
        header = self.stored.header
        names = tuple(self.stored.channels)
        window = Window(0, 0, 0, 0)
        for name in names:
            window = window.union(self.stored.window(name))
        x, y, width, height = header["parts"][0]["display"]
        as_data = self.space == "data"
        return Description(
            channels=names,
            display=Window(0, 0, width, height),
            window=window,
            alpha=self._alpha_state() if ALPHA_NAME in names else Alpha.NONE,
            data=frozenset(
                name for name, row in self.stored.channels.items() if as_data or not self._is_colour(name, row)
            ),
            traits={name: self._trait(name) for name in names},
            origin=(x, y),
            metadata=with_manifests(header.get("attributes", {}), self._manifests),
            inks=InkProfile(header["inks"], self.stored.folder / PROFILE) if "inks" in header else None,
        )

    def _is_colour(self, name: str, row: Mapping[str, Any]) -> bool:
        """Whether a channel holds colour: by the role that its layer was given, else by the guess at its import."""
        given = self.spec.roles.get(split_channel(name)[0])
        if given is None or is_alpha(name):
            return bool(row["colour"])
        return given in COLOUR_ROLES and named_as_colour(name)

    def _trait(self, name: str) -> Trait:
        return Trait(self.role(name), "px" if self.role(name) == "motion" else "", self.stored.channels[name]["type"],
                     lambda: self._span(name))  # fmt: skip

    def _span(self, name: str) -> tuple[float, float] | None:
        """The values that a data channel is shown between: percentiles where it leaves 0 to 1."""
        if name not in self.description.data or not self.stored.ready(name):
            return None
        if self.role(name) == "normal":
            # Unless they are packed, normals go from -1 to 1, also those of which one axis is never negative.
            layer = [other for other in self.stored.channels if split_channel(other)[0] == split_channel(name)[0]]
            known = [self.stored.report(other) for other in layer if self.stored.ready(other)]
            return (-1.0, 1.0) if any(each["min"] < 0 for each in known) else None
        return data_range(self.stored.report(name))

    def role(self, name: str) -> str:
        """What a channel holds: as its layer was told to be, else as its import found."""
        given = None if is_alpha(name) else self.spec.roles.get(split_channel(name)[0])
        return str(given or self.stored.channels[name]["role"])

    def _nothing(self, name: str) -> np.float32 | None:
        """What a depth channel holds where nothing is, by the recipe: it is read as infinitely far."""
        given = self.spec.nothing
        return None if given is None or self.role(name) != "depth" else np.float32(given)

    def depth_as_read(self, name: str) -> Plane:
        """A depth channel over its data window as it is read."""
        return self._floats(name, self.stored.window(name))

    def _alpha_state(self) -> Alpha:
        said = {"file": self.stored.header["alpha"], "matted": "straight"}.get(
            self.spec.read_alpha, self.spec.read_alpha
        )
        return Alpha(said)

    def read(self, channels: Sequence[str], scale: Fraction, region: Window) -> Mapping[str, Plane]:
        if scale != 1:
            return {name: self._level(name, scale.denominator, region) for name in channels}
        result: dict[str, Plane] = {}
        for name in channels:
            if name in result:
                continue
            triple = self._triple(name)
            if triple:
                planes = self._working([self._floats(member, region) for member in triple])
                result |= dict(zip(triple, planes, strict=True))
            else:
                result[name] = self._single(name, region)
        return {name: result[name] for name in channels}

    def together(self) -> list[tuple[str, ...]]:
        """The channels in the groups that their proxies are made in: the colour of a layer at once."""
        groups: dict[str, list[str]] = {}
        for name in self.description.channels:
            key = name if name in self.description.data else f"{split_channel(name)[0]}."
            groups.setdefault(key, []).append(name)
        return [tuple(names) for names in groups.values()]

    def make_levels(self, names: Sequence[str]) -> None:
        """Make and keep the proxies of channels of one data window: by the rule for all that averages neighbours.

        They are made of what `read` gives in full size, in bands of rows, so that memory stays small.
        """
        description = self.description
        window = self.stored.window(names[0])
        needed = with_alphas(names, description)
        levels = {n: window.scaled(Fraction(1, n)) for n in LEVELS}
        made = {
            (name, n): np.empty((level.height, level.width), description.sample_type(name))
            for name in names
            for n, level in levels.items()
        }
        top = window.y
        while top < window.bottom:
            bottom = min((top // BAND_ROWS + 1) * BAND_ROWS, window.bottom)
            band = Window(window.x, top, window.width, bottom - top)
            planes = self.read(needed, Fraction(1), band)
            for n, level in levels.items():
                part = band.scaled(Fraction(1, n)).within(level)
                for name, plane in reduced(planes, names, description, band, n).items():
                    made[name, n][part] = plane
            top = bottom
        for (name, n), plane in made.items():
            write_samples(self.stored.level_path(name, self._key, n), plane)

    @cached_property
    def _key(self) -> str:
        """A name for all that the proxies depend on besides the file."""
        parts = (
            version_of(__name__),
            self.space,
            self._matrix is not None,
            self._alpha_state(),
            self.spec.non_finite,
            dict(self.spec.roles),
            *([] if self.spec.nothing is None else [self.spec.nothing]),
        )
        return hashlib.blake2b(json.dumps(parts, sort_keys=True).encode(), digest_size=8).hexdigest()

    def _level(self, name: str, n: int, region: Window) -> Plane:
        """A channel's proxy over a region, 0 outside of its own window; made first where it is not there yet."""
        path = self.stored.level_path(name, self._key, n)
        try:
            level: Plane = mapped_samples(path)
        except FileNotFoundError:
            with _making(str(path)):
                if not path.exists():
                    self.make_levels(next(group for group in self.together() if name in group))
            level = mapped_samples(path)
        window = self.stored.window(name).scaled(Fraction(1, n))
        inner = region.intersect(window)
        return _placed(level[inner.within(window)], inner, region)

    def raw(self, name: str, region: Window) -> np.ndarray[Any, Any] | None:
        """Samples of a channel in their own type over a region, 0 outside; None where reading changes their values.

        Half, float and uint are handed on; whole numbers of 8 and 16 bit stand for 0 to 1 and are not.
        """
        as_stored = name in self.description.data or (self.space in ("data", "linear") and self._triple(name) is None)
        samples = self.stored.samples(name)
        changed = self.spec.non_finite != "keep" or self._nothing(name) is not None
        if not as_stored or changed or samples.dtype.kind + str(samples.itemsize) not in RAW:
            return None
        return self.as_stored(name, region)

    def as_stored(self, name: str, region: Window) -> np.ndarray[Any, Any]:
        """Samples of a channel as the file holds them, codes of whole numbers too, over a region, 0 outside."""
        window = self.stored.window(name)
        samples = self.stored.samples(name)
        result = np.zeros((region.height, region.width), samples.dtype)
        inner = region.intersect(window)
        if not inner.empty:
            result[inner.within(region)] = samples[inner.within(window)]
        return result

    @cached_property
    def _matrix(self) -> np.ndarray[Any, np.dtype[np.float32]] | None:
        chromaticities = self.stored.header["chromaticities"]
        if self.spec.colour != "auto" or not chromaticities:
            return None
        return primaries_matrix(chromaticities)

    def _triple(self, name: str) -> tuple[str, str, str] | None:
        """The R, G, B that a colour channel must be converted with, None where it stands alone."""
        if name in self.description.data or (self.space in BUILT_IN and self._matrix is None):
            return None
        layer, last = split_channel(name)
        prefix = f"{layer}." if layer else ""
        names = (f"{prefix}R", f"{prefix}G", f"{prefix}B")
        return names if last in ("R", "G", "B") and all(other in self.stored.channels for other in names) else None

    def _working(self, planes: list[Plane]) -> list[Plane]:
        if self._matrix is None:
            return to_working(planes, self.space)
        linear = to_working(planes, self.space)
        return [sum((row[i] * linear[i] for i in range(1, 3)), row[0] * linear[0]) for row in self._matrix]

    def _single(self, name: str, region: Window) -> Plane:
        if name in self.description.data or self.space in ("data", "linear"):
            return self._floats(name, region)
        if self.space == "srgb":
            return self._floats(name, region, decoded=True)
        grey = self._floats(name, region)
        return to_working([grey, grey, grey], self.space)[1]

    def _floats(self, name: str, region: Window, *, decoded: bool = False) -> Plane:
        """Samples over a region as floats, 0 outside the channel's own window; sRGB-decoded where asked for."""
        window = self.stored.window(name)
        inner = region.intersect(window)
        samples = self.stored.samples(name)[inner.within(window)]
        kind = str(samples.dtype)
        if kind in INTEGER_MAX or (decoded and kind == "float16"):
            from nexal.kernels.lookup import looked_up

            values = looked_up(_values_of(kind, decoded), samples.view(f"u{samples.itemsize}"))
        else:
            values = samples if samples.dtype == np.uint32 else as_float(samples)
            values = values.astype(self.description.sample_type(name), copy=False)
            values = decode(values) if decoded else values
        nothing = self._nothing(name)
        if nothing is not None:
            values = np.where(values == nothing, np.float32(np.inf), values)
        elif self.spec.non_finite == "zero":
            values = np.where(np.isfinite(values), values, values.dtype.type(0))
        return _placed(values, inner, region)


@lru_cache(8)
def _values_of(kind: str, decoded: bool) -> Plane:
    """What the codes of a sample type stand for, sRGB-decoded where asked for: by the code, or a half's bits."""
    if kind == "float16":
        values = as_float(np.arange(1 << 16, dtype=np.uint16).view(np.float16))
    else:
        values = as_float(np.arange(INTEGER_MAX[kind] + 1, dtype=kind))
    if not decoded:
        return values
    # Among a half's bits are those that are no number.
    with np.errstate(invalid="ignore", over="ignore"):
        return decode(values).astype(np.float32)


class BlackSource:
    """A source where there is no frame of it: of the size and the channels of one of its frames, all 0."""

    def __init__(self, like: StoredSource) -> None:
        self._like = like
        self.number = like.number
        self.fingerprint = like.fingerprint
        self.digest = f"{like.digest}/black"

    @property
    def description(self) -> Description:
        return self._like.description

    def read(self, channels: Sequence[str], scale: Fraction, region: Window) -> Mapping[str, Plane]:
        types = self.description.sample_type
        return {name: np.zeros((region.height, region.width), types(name)) for name in channels}


def _short(texts: Mapping[str, str]) -> str:
    return hashlib.blake2b(json.dumps(sorted(texts.items())).encode(), digest_size=8).hexdigest()


def data_range(report: Mapping[str, Any]) -> tuple[float, float] | None:
    """The ends that a data channel is shown between: percentiles where it leaves 0 to 1, else None."""
    if report["min"] >= 0 and report["max"] <= 1:
        return None
    low, high = (float(report["percentiles"][rank]) for rank in ("1", "99"))
    return low, high if high > low else low + 1


def _placed(values: Plane, inner: Window, region: Window) -> Plane:
    """Values over a part of a region, as a plane over all of it, 0 elsewhere."""
    if inner == region:
        return values
    result = np.zeros((region.height, region.width), values.dtype)
    if not inner.empty:
        result[inner.within(region)] = values
    return result


@lru_cache(1024)
def _making(path: str) -> threading.Lock:
    """One thread at a time makes the same proxies; what another process makes beside it is the same."""
    return threading.Lock()

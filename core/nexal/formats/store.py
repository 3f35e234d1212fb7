"""The plane store: decoded files as memory-mapped planes, and sources read from them."""

from __future__ import annotations

import fcntl
import hashlib
import json
import os
import shutil
import subprocess
import sys
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from fractions import Fraction
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np

import nexal
from nexal.colour import BUILT_IN, check_space, primaries_matrix, to_working
from nexal.errors import FormatError, SourceError
from nexal.formats.roles import COLOUR_ROLES
from nexal.formats.statistics import INTEGER_MAX, as_float
from nexal.formats.unpack import COMPLETE, HEADER, PROFILE
from nexal.formats.worker import ADMITTED, BASE_SECONDS
from nexal.kernels.pointmath import decode
from nexal.picture import (
    ALPHA_NAME,
    Alpha,
    Description,
    InkProfile,
    Plane,
    Window,
    is_alpha,
    named_as_colour,
    split_channel,
)
from nexal.recipe import SourceSpec


def fingerprint(path: Path) -> str:
    """BLAKE2b-256 of a file's bytes, as hexadecimal digits."""
    digest = hashlib.blake2b(digest_size=32)
    with path.open("rb") as file:
        while block := file.read(1 << 20):
            digest.update(block)
    return digest.hexdigest()


def decode_file(path: Path, folder: Path, cancelled: Callable[[], bool] = lambda: False) -> None:
    """Unpack a picture file into `folder` in a process of its own, under limits of memory and time.

    Raises FormatError, placed at the file, where it is damaged, unknown, or beyond the limits.
    """
    folder.mkdir(parents=True, exist_ok=True)
    environment = os.environ | {"PYTHONPATH": str(Path(nexal.__file__).parent.parent)}
    worker = subprocess.Popen(
        [sys.executable, "-m", "nexal.formats.worker", str(path), str(folder)],
        stdout=subprocess.PIPE,
        env=environment,
        text=True,
    )
    start = time.monotonic()
    extra = 0.0
    try:
        while True:
            try:
                output, _ = worker.communicate(timeout=0.25)
                break
            except subprocess.TimeoutExpired:
                if not extra and (folder / ADMITTED).exists():
                    extra = float((folder / ADMITTED).read_text(encoding="ascii") or 0)
                if cancelled() or time.monotonic() - start > BASE_SECONDS + extra:
                    raise FormatError(
                        "takes too long to read", where=path.name, remedy="save it uncompressed, or check it"
                    ) from None
    finally:
        if worker.poll() is None:
            worker.kill()
            worker.wait()
    try:
        # A library may have printed on standard output before.
        answer = json.loads(output.strip().splitlines()[-1])
    except (json.JSONDecodeError, IndexError):
        raise FormatError(
            "made its reader give up: it is damaged or needs too much memory",
            where=path.name,
            remedy="save or copy the file again",
        ) from None
    if answer:
        raise FormatError(answer["message"], where=path.name, remedy=answer["remedy"])


RAW = frozenset({"f2", "f4", "u4"})
"""Sample types that are handed on as they are: half, float, uint."""


class StoredFile:
    """One decoded file. Its header may be there before all of its channels are."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    @cached_property
    def header(self) -> dict[str, Any]:
        data: dict[str, Any] = json.loads((self.folder / HEADER).read_text(encoding="utf-8"))
        return data

    @property
    def started(self) -> bool:
        return (self.folder / HEADER).exists()

    @property
    def complete(self) -> bool:
        return (self.folder / COMPLETE).exists()

    @cached_property
    def channels(self) -> dict[str, dict[str, Any]]:
        return {row["name"]: row for row in self.header["channels"]}

    def ready(self, channel: str) -> bool:
        return (self.folder / f"{self.channels[channel]['file']}.json").exists()

    def report(self, channel: str) -> dict[str, Any]:
        path = self.folder / f"{self.channels[channel]['file']}.json"
        data: dict[str, Any] = json.loads(path.read_text(encoding="utf-8"))
        return data

    def samples(self, channel: str, divisor: int) -> np.memmap[Any, Any]:
        """Memory-mapped samples of a channel at 1/divisor, in the file's own type."""
        suffix = "" if divisor == 1 else f".{divisor}"
        path = self.folder / f"{self.channels[channel]['file']}{suffix}.npy"
        try:
            mapped: np.memmap[Any, Any] = np.load(path, mmap_mode="r")
        except FileNotFoundError:
            raise SourceError(
                f"channel {channel} is not unpacked yet", where="source", remedy="wait until the import is done"
            ) from None
        return mapped

    def window(self, channel: str) -> Window:
        """A channel's data window, relative to the display window's corner."""
        part = self.header["parts"][self.channels[channel]["part"]]
        x, y, width, height = part["data"]
        origin = self.header["parts"][0]["display"]
        return Window(x - origin[0], y - origin[1], width, height)


class StoredSource:
    """A decoded file read as a recipe's source says: encoding, alpha state, what is not finite."""

    def __init__(self, stored: StoredFile, spec: SourceSpec, digest: str) -> None:
        check_space(spec.colour)
        self.stored = stored
        self.spec = spec
        self.fingerprint = digest
        reading: dict[str, Any] = {"colour": spec.colour, "alpha": spec.read_alpha, "non_finite": spec.non_finite}
        reading |= {"roles": spec.roles} if spec.roles else {}
        self.digest = f"{digest}/{json.dumps(reading, sort_keys=True)}"

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
            labels=frozenset(name for name in names if self.role(name) == "id"),
            origin=(x, y),
            metadata=header.get("attributes", {}),
            inks=InkProfile(header["inks"], self.stored.folder / PROFILE) if "inks" in header else None,
        )

    def _is_colour(self, name: str, row: Mapping[str, Any]) -> bool:
        """Whether a channel holds colour: by the role that its layer was given, else by the guess at its import."""
        given = self.spec.roles.get(split_channel(name)[0])
        if given is None or is_alpha(name):
            return bool(row["colour"])
        return given in COLOUR_ROLES and named_as_colour(name)

    def role(self, name: str) -> str:
        """What a channel holds: as its layer was told to be, else as its import found."""
        given = None if is_alpha(name) else self.spec.roles.get(split_channel(name)[0])
        return str(given or self.stored.channels[name]["role"])

    def _alpha_state(self) -> Alpha:
        said = {"file": self.stored.header["alpha"], "matted": "straight"}.get(
            self.spec.read_alpha, self.spec.read_alpha
        )
        return Alpha(said)

    def read(self, channels: Sequence[str], scale: Fraction, region: Window) -> Mapping[str, Plane]:
        result: dict[str, Plane] = {}
        for name in channels:
            if name in result:
                continue
            triple = self._triple(name)
            if triple:
                planes = self._working([self._floats(member, scale, region) for member in triple])
                result |= dict(zip(triple, planes, strict=True))
            else:
                result[name] = self._single(name, scale, region)
        return {name: result[name] for name in channels}

    def raw(self, name: str, region: Window) -> np.ndarray[Any, Any] | None:
        """Samples of a channel in their own type over a region, 0 outside; None where reading changes their values.

        Half, float and uint are handed on; whole numbers of 8 and 16 bit stand for 0 to 1 and are not.
        """
        as_stored = name in self.description.data or (self.space in ("data", "linear") and self._triple(name) is None)
        samples = self.stored.samples(name, 1)
        if not as_stored or self.spec.non_finite != "keep" or samples.dtype.kind + str(samples.itemsize) not in RAW:
            return None
        return self.as_stored(name, region)

    def as_stored(self, name: str, region: Window) -> np.ndarray[Any, Any]:
        """Samples of a channel as the file holds them, codes of whole numbers too, over a region, 0 outside."""
        window = self.stored.window(name)
        samples = self.stored.samples(name, 1)
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

    def _single(self, name: str, scale: Fraction, region: Window) -> Plane:
        if name in self.description.data or self.space in ("data", "linear"):
            return self._floats(name, scale, region)
        if self.space == "srgb":
            return self._floats(name, scale, region, decoded=True)
        grey = self._floats(name, scale, region)
        return to_working([grey, grey, grey], self.space)[1]

    def _floats(self, name: str, scale: Fraction, region: Window, *, decoded: bool = False) -> Plane:
        """Samples over a region as float32, 0 outside the channel's own window; sRGB-decoded where asked for."""
        window = self.stored.window(name).scaled(scale)
        inner = region.intersect(window)
        samples = self.stored.samples(name, scale.denominator)[inner.within(window)]
        if decoded and str(samples.dtype) in INTEGER_MAX:
            full = INTEGER_MAX[str(samples.dtype)]
            table = decode(np.arange(full + 1, dtype=np.float32) * np.float32(1 / full)).astype(np.float32)
            values = table[samples]
        else:
            values = as_float(samples)
            values = decode(values) if decoded else values
        if self.spec.non_finite == "zero":
            values = np.where(np.isfinite(values), values, np.float32(0))
        if inner == region:
            return values
        result = np.zeros((region.height, region.width), np.float32)
        if not inner.empty:
            result[inner.within(region)] = values
        return result


@contextmanager
def _alone(path: Path) -> Iterator[None]:
    """One thread of one process at a time, among all that name the same file. The file is gone afterwards."""
    path.parent.mkdir(parents=True, exist_ok=True)
    while True:
        with path.open("w") as file:
            fcntl.flock(file, fcntl.LOCK_EX)
            # Whoever held it before may have taken the file away meanwhile: then there is another one to wait for.
            if not path.exists() or path.stat().st_ino != os.fstat(file.fileno()).st_ino:
                continue
            try:
                yield
            finally:
                path.unlink(missing_ok=True)
            return


class Library:
    """Decoded files by fingerprint below one folder, kept within a budget of bytes. The originals can rebuild it."""

    def __init__(self, folder: Path, budget: int = 64 << 30) -> None:
        self.folder = folder
        self.budget = budget

    def stored(self, digest: str) -> StoredFile:
        return StoredFile(self.folder / digest)

    def unpack(self, path: Path, digest: str, cancelled: Callable[[], bool] = lambda: False) -> StoredFile:
        """The decoded file, decoding it first where it is not there whole. Raises FormatError."""
        stored = self.stored(digest)
        with _alone(self.folder / f"{digest}.lock"):
            if stored.complete:
                os.utime(stored.folder)
                return stored
            shutil.rmtree(stored.folder, ignore_errors=True)
            try:
                decode_file(path, stored.folder, cancelled)
            except FormatError:
                shutil.rmtree(stored.folder, ignore_errors=True)
                raise
        self.trim(keep=digest)
        return StoredFile(stored.folder)

    def trim(self, keep: str = "") -> None:
        """Drop what was used longest ago until the budget is kept."""
        entries = sorted((entry for entry in self.folder.iterdir() if entry.is_dir()), key=lambda e: e.stat().st_mtime)
        sizes = {entry: sum(file.stat().st_size for file in entry.iterdir()) for entry in entries}
        total = sum(sizes.values())
        for entry in entries:
            if total <= self.budget:
                return
            if entry.name != keep and (entry / COMPLETE).exists():
                shutil.rmtree(entry, ignore_errors=True)
                total -= sizes[entry]

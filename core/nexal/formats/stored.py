"""One decoded file as its folder in the plane store holds it."""

from __future__ import annotations

import io
import json
import math
import mmap
import os
from functools import cached_property, lru_cache
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nexal.errors import SourceError
from nexal.files import written_whole
from nexal.formats.statistics import report
from nexal.picture import Trait, Window

HEADER, COMPLETE, PROFILE = "header.json", "complete", "profile.icc"
STORE_VERSION = "3"
"""Stands in `complete`. What was unpacked by another version is unpacked anew."""
LEVELS = (2, 4, 8)
LEAST_MAPPED = 1 << 20
"""Bytes from which on samples are read from the disk where they are looked at."""


def write_json(path: Path, data: Any) -> None:
    """Whole or not at all: readers watch for the name."""
    with written_whole(path) as part:
        part.write_text(json.dumps(data), encoding="utf-8")


def write_samples(path: Path, samples: NDArray[Any]) -> None:
    """An array as `.npy`, whole or not at all."""
    with written_whole(path) as part, part.open("wb") as file:
        np.save(file, samples)


def mapped_samples(path: Path | str) -> NDArray[Any]:
    """The array of an `.npy` file, read from there where it is looked at. Raises FileNotFoundError, and ValueError of a
    file that holds none or only part of one.

    As `np.load` maps it, in a sixth of the time, which every plane of every request takes: what stands at the
    beginning of such files is understood once.
    """
    mapping: mmap.mmap | bytes
    with open(path, "rb", buffering=0) as file:
        # A mapping holds its file open: of thousands of small ones, none is.
        small = os.fstat(file.fileno()).st_size < LEAST_MAPPED
        mapping = file.read() if small else mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ)
    begin = len(np.lib.format.MAGIC_PREFIX) + 4
    length = begin + int.from_bytes(mapping[begin - 2 : begin], "little")
    shape, in_columns, kind = _described(bytes(mapping[:length]))
    if len(mapping) < length + math.prod(shape) * kind.itemsize:
        raise ValueError(f"{path}: the file ends before its samples do")
    return np.ndarray(shape, kind, mapping, length, order="F" if in_columns else "C")


@lru_cache(256)
def _described(head: bytes) -> tuple[tuple[int, ...], bool, np.dtype[Any]]:
    """The shape of an array, whether it lies in columns, and its type, by how its `.npy` file begins."""
    stream = io.BytesIO(head)
    if np.lib.format.read_magic(stream) != (1, 0):
        raise ValueError("not an array as Nexal keeps them")
    return np.lib.format.read_array_header_1_0(stream)


class StoredFile:
    """One decoded file. Its header may be there before all of its channels are."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        # A drag asks for them each time; to join paths takes longer than to look.
        self._header, self._complete = str(folder / HEADER), str(folder / COMPLETE)
        self.readings: dict[str, Any] = {}
        """What reads it, by how; see `reading.reading`."""
        self._reports: dict[str, bytes] = {}

    @cached_property
    def header(self) -> dict[str, Any]:
        data: dict[str, Any] = json.loads((self.folder / HEADER).read_text(encoding="utf-8"))
        return data

    @property
    def started(self) -> bool:
        return os.path.exists(self._header)

    @property
    def complete(self) -> bool:
        """Whether everything is there. Raises OSError where that can't be told: then it is not known to be broken."""
        try:
            with open(self._complete, encoding="ascii") as file:
                return file.read() == STORE_VERSION
        except (FileNotFoundError, NotADirectoryError):
            return False

    @cached_property
    def channels(self) -> dict[str, dict[str, Any]]:
        return {row["name"]: row for row in self.header["channels"]}

    def _report_path(self, channel: str) -> Path:
        return self.folder / f"{self.channels[channel]['file']}.json"

    def ready(self, channel: str) -> bool:
        return self._report_path(channel).exists() or self.complete

    def report(self, channel: str) -> dict[str, Any]:
        """Figures of a channel; they are made first where it was unpacked without. Raises OSError where it is not
        unpacked yet."""
        data: dict[str, Any] = json.loads(self._report_text(channel))
        return data

    def _report_text(self, channel: str) -> bytes:
        known = self._reports.get(channel)
        if known is not None:
            return known
        path = self._report_path(channel)
        try:
            content = path.read_bytes()
        except FileNotFoundError:
            if not self.complete:
                raise
            self.make_report(channel, self.samples(channel))
            content = path.read_bytes()
        self._reports[channel] = content
        return content

    def report_if_ready(self, channel: str) -> bytes | None:
        """Figures of a channel as JSON, or nothing of one that is not unpacked yet."""
        try:
            return self._report_text(channel)
        except FileNotFoundError:
            return None

    def make_report(self, channel: str, samples: NDArray[Any]) -> None:
        """Find and keep the figures of a channel, of its samples as the file holds them."""
        encoded = self.channels[channel]["colour"] and self.header["encoding"] == "linear"
        empty = Trait(self.channels[channel]["role"]).may_be_empty
        write_json(self._report_path(channel), report(samples, encoded=encoded, empty=empty))

    def samples(self, channel: str) -> NDArray[Any]:
        """Memory-mapped samples of a channel, in the file's own type."""
        try:
            return mapped_samples(self.folder / f"{self.channels[channel]['file']}.npy")
        except FileNotFoundError:
            raise SourceError(
                f"channel {channel} is not unpacked yet", where="source", remedy="wait until the import is done"
            ) from None

    def level_path(self, channel: str, key: str, divisor: int) -> Path:
        """Where a channel's proxy at 1/divisor lies, as a reading (by its key) gives it."""
        return self.folder / f"{self.channels[channel]['file']}.{key}.{divisor}.npy"

    def window(self, channel: str) -> Window:
        """A channel's data window, relative to the display window's corner."""
        part = self.header["parts"][self.channels[channel]["part"]]
        x, y, width, height = part["data"]
        origin = self.header["parts"][0]["display"]
        return Window(x - origin[0], y - origin[1], width, height)

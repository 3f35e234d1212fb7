"""Videos read frame by frame, as light-coded pictures: whatever FFmpeg's libraries decode without loss of range.

Frames are counted from 1. Colour comes as R, G, B in 8 bit where the video holds that, else in 16; Y'CbCr is converted
by the matrix and range that the file's tags name (ITU-R BT.601, BT.709, BT.2020; untagged BT.709 from 720 lines on).
A variable rate is made even by time: frame n shows the picture that stands at (n - 1) / rate.
"""

from __future__ import annotations

import itertools
import statistics
from bisect import bisect_right
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from nexal.errors import FormatError
from nexal.formats.decoded import Decoded, DecodedPart, Limits
from nexal.picture import Window

SUFFIXES = (".mkv", ".mov", ".mp4", ".m4v", ".webm", ".avi", ".mxf", ".mpg", ".y4m")
MOST_FRAMES = 20_000
UNSAID, NARROW, FULL, SPAN = 2, 1, 2, "range"
"""Codes of ISO/IEC 23091-2 as FFmpeg has them: a matrix that is not said; Y' from 16 to 235, or of all codes."""
UNEVEN = 1.5
"""How many times the usual distance two pictures may be apart for the rate to count as even."""


def is_video(name: str) -> bool:
    return Path(name).suffix.lower() in SUFFIXES


@dataclass(frozen=True)
class VideoInfo:
    """Frames of a video as they are counted here, their rate a second, and what is to be told of it."""

    frames: int
    rate: float
    warnings: tuple[str, ...] = ()


class Video:
    """An open video. Frames in order are decoded once; going back begins at the key frame before."""

    def __init__(self, path: Path, limits: Limits) -> None:
        """Raises FormatError where it is no video, or holds no picture."""
        import av

        self.path = path
        self._limits = limits
        try:
            self._container = av.open(str(path), mode="r")
            self._stream = self._container.streams.video[0]
            self._stream.codec_context.thread_count = 1
            times = sorted(
                packet.pts for packet in self._container.demux(self._stream) if packet.pts is not None and packet.size
            )
        except (av.FFmpegError, OSError, IndexError) as error:
            what = getattr(error, "strerror", None) or "it holds no picture"
            raise FormatError(f"cannot be read as a video ({what})", remedy="check or export the file again") from None
        if not times:
            raise FormatError("holds no frame", remedy="check or export the file again")
        self._base = float(self._stream.time_base or 1)
        self.info = self._counted(times)
        self._times = times
        self._decoding: Iterator[Any] | None = None
        self._last: Any = None

    def _counted(self, times: list[int]) -> VideoInfo:
        rate = float(self._stream.average_rate or self._stream.guessed_rate or 0)
        steps = [b - a for a, b in itertools.pairwise(times) if b > a]
        usual = statistics.median(steps) if steps else 0
        rate = rate or (1 / (usual * self._base) if usual else 24.0)
        warnings = []
        frames = len(times)
        self._even = not steps or max(steps) <= UNEVEN * usual
        if not self._even:
            frames = round((times[-1] - times[0]) * self._base * rate) + 1
            warnings.append(f"its rate varies; it was made even by time, {rate:g} frames a second")
        if frames > MOST_FRAMES:
            warnings.append(f"{frames} frames; the first {MOST_FRAMES} are taken")
        return VideoInfo(min(frames, MOST_FRAMES), round(rate, 4), tuple(warnings))

    def frame(self, number: int) -> Decoded:
        """One frame, from 1 on. Raises FormatError where it cannot be decoded."""
        if not 1 <= number <= self.info.frames:
            raise FormatError(f"has no frame {number}", remedy=f"it has {self.info.frames}")
        if self._even:
            wanted = self._times[number - 1]
        else:
            at = self._times[0] + (number - 1) / self.info.rate / self._base
            wanted = self._times[max(0, bisect_right(self._times, at + 0.5) - 1)]
        return self._unpacked(self._picture(wanted, number))

    def _picture(self, wanted: int, number: int) -> Any:
        import av

        try:
            if self._last is None or self._last.pts > wanted:
                self._container.seek(wanted, stream=self._stream, backward=True)
                self._decoding, self._last = iter(self._container.decode(self._stream)), None
            while self._last is None or self._last.pts < wanted:
                assert self._decoding is not None
                self._last = next(self._decoding)
        except (av.FFmpegError, StopIteration):
            self._last = None
            raise FormatError(
                f"frame {number} cannot be decoded: the video is damaged or cut short", remedy="export it again"
            ) from None
        return self._last

    def _unpacked(self, frame: Any) -> Decoded:
        from av.video.reformatter import Colorspace, Interpolation, VideoReformatter

        known = frame.format
        bits = max(part.bits for part in known.components)
        alpha = any(part.is_alpha for part in known.components)
        deep = bits > 8 or not known.is_rgb
        channels = 4 if alpha else 3
        self._limits.check(frame.width, frame.height, channels, 2 if deep else 1, self.path.stat().st_size)
        wanted = {(False, False): "rgb24", (False, True): "rgba", (True, False): "rgb48le", (True, True): "rgba64le"}
        space, span = None, None
        if not known.is_rgb:
            tagged = int(frame.colorspace)
            space = tagged if tagged != UNSAID else int(Colorspace.ITU709 if frame.height >= 720 else Colorspace.ITU601)
            span = FULL if int(getattr(frame, f"color_{SPAN}")) == FULL else NARROW
        exact = Interpolation.BICUBIC | Interpolation.ACCURATE_RND | Interpolation.FULL_CHR_H_INT
        # In the order that the library wants: sizes, format, matrices, filter, ranges.
        wish = (None, None, wanted[deep, alpha], space, space, exact, span, None if span is None else FULL)
        pixels = VideoReformatter().reformat(frame, *wish).to_ndarray()
        window = Window(0, 0, frame.width, frame.height)
        planes = {name: np.ascontiguousarray(pixels[..., index]) for index, name in enumerate("RGBA"[:channels])}
        transfer = int(self._stream.codec_context.color_trc or 2)
        linear = transfer == 8
        codec = self._stream.codec_context.name
        metadata = {"frames a second": self.info.rate, "sample format": known.name}
        warnings = list(self.info.warnings)
        if transfer in (16, 18):
            name = "PQ" if transfer == 16 else "HLG"
            warnings.append(f"its light is coded by {name}; it is read as if by sRGB: choose its space")
        return Decoded(
            "video",
            [DecodedPart("", window, window, planes, codec)],
            "straight" if alpha else "none",
            "linear" if linear else "srgb",
            metadata,
            warnings,
        )


_open: Video | None = None


def opened(path: Path, limits: Limits) -> Video:
    """The video that this process read last, still open, or another one. Raises FormatError."""
    global _open
    if _open is None or _open.path != path:
        _open = Video(path, limits)
    _open._limits = limits
    return _open

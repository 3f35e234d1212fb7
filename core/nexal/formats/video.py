"""Videos read frame by frame, as light-coded pictures: whatever FFmpeg's libraries decode without loss of range.

Frames are counted from 1. Colour comes as R, G, B in 8 bit where the video holds that, else in 16; Y'CbCr is converted
by the matrix and range that the file's tags name (ITU-R BT.601, BT.709, BT.2020; untagged BT.709 from 720 lines on).
Of a variable rate each frame stands at the number of its own time, at the rate of the smallest step between two. A file
that says so is turned by quarters, and its pixels are made square.
"""

from __future__ import annotations

import itertools
import math
import statistics
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nexal.errors import FormatError
from nexal.files import Stamp, stamp_of
from nexal.formats.decoded import RATE, TIMECODE, Decoded, DecodedPart, Limits, rate_tag, timecode_tag
from nexal.formats.timecodes import Timecode, timecode_in
from nexal.picture import Window

SUFFIXES = (".mkv", ".mov", ".mp4", ".m4v", ".webm", ".avi", ".mxf", ".mpg", ".y4m")
MOST_FRAMES = 20_000
UNSAID, NARROW, FULL, SPAN = 2, 1, 2, "range"
"""Codes of ISO/IEC 23091-2 as FFmpeg has them: a matrix that is not said; Y' from 16 to 235, or of all codes."""
UNEVEN = 1.5
"""How many times the usual distance two pictures may be apart for the rate to count as even, and how many times the
smallest step others may be to be the same, but for the rounding of times."""
FASTEST = 240
"""Frames a second beyond which frames are counted one after the other: some of their times are no good."""
USUAL_RATES = [
    Fraction(n, d) for n, d in ((24000, 1001), (30000, 1001), (48000, 1001), (60000, 1001), (120000, 1001))
] + [Fraction(n) for n in (24, 25, 30, 48, 50, 60, 100, 120, 240)]
NEAR_RATE = 0.004
MOST_STRETCH = 8
"""How many times as wide as high pixels may be, or as high as wide, to be believed."""


def is_video(name: str) -> bool:
    return Path(name).suffix.lower() in SUFFIXES


@dataclass(frozen=True)
class VideoInfo:
    """The numbers of a video's frames in order, their rate a second, and what is to be told of it."""

    numbers: tuple[int, ...]
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
            packets = self._container.demux(self._stream)
            times = sorted({packet.pts for packet in packets if packet.pts is not None and packet.size})
        except (av.FFmpegError, OSError, IndexError) as error:
            what = getattr(error, "strerror", None) or "it holds no picture"
            raise FormatError(f"cannot be read as a video ({what})", remedy="check or export the file again") from None
        if not times:
            raise FormatError("holds no frame", remedy="check or export the file again")
        self._base = Fraction(self._stream.time_base or 1)
        self._rate = Fraction(0)
        self.info = self._counted(times)
        self._times = dict(zip(self.info.numbers, times, strict=False))
        self._first = times[0]
        self._timecode = self._starts_at()
        self._decoding: Iterator[Any] | None = None
        self._last: Any = None

    def _counted(self, times: list[int]) -> VideoInfo:
        steps = [b - a for a, b in itertools.pairwise(times)]
        usual = statistics.median(steps) if steps else 0
        average = self._stream.average_rate or self._stream.guessed_rate
        self._rate = Fraction(average) if average else 1 / (Fraction(usual) * self._base) if usual else Fraction(24)
        warnings = []
        numbers: Sequence[int] = range(1, len(times) + 1)
        if steps and max(steps) > UNEVEN * usual:
            rate, numbers = _by_time(times, steps, self._base)
            if rate > FASTEST:
                numbers = range(1, len(times) + 1)
                told = "they are counted one after the other"
            else:
                self._rate = rate
                told = f"they stand at the numbers of their own times, {float(rate):.6g} a second, the smallest step"
            warnings.append(f"its rate varies; it has {len(times)} frames: {told}")
        if len(times) > MOST_FRAMES:
            warnings.append(f"{len(times)} frames; the first {MOST_FRAMES} are taken")
        # As a header of OpenEXR can hold it.
        self._rate = self._rate.limit_denominator(100_000)
        return VideoInfo(tuple(numbers[:MOST_FRAMES]), round(float(self._rate), 4), tuple(warnings))

    def _starts_at(self) -> Timecode | None:
        """The timecode of the first frame, as the picture's stream, the file, or a stream of its own says."""
        said = [each.metadata.get("timecode") for each in (self._stream, self._container, *self._container.streams)]
        return next((code for text in said if (code := timecode_in(text))), None)

    def frame(self, number: int) -> Decoded:
        """One frame, by its number. Raises FormatError where it cannot be decoded."""
        wanted = self._times.get(number)
        if wanted is None:
            raise FormatError(f"has no frame {number}", remedy=f"it has {len(self._times)}, up to {max(self._times)}")
        return self._unpacked(self._picture(wanted, number), number)

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

    def _unpacked(self, frame: Any, number: int) -> Decoded:
        from av.video.reformatter import Colorspace, Interpolation, VideoReformatter

        known = frame.format
        bits = max(part.bits for part in known.components)
        alpha = any(part.is_alpha for part in known.components)
        deep = bits > 8 or not known.is_rgb
        channels = 4 if alpha else 3
        warnings = list(self.info.warnings)
        width, height = self._square(frame, warnings)
        self._limits.check(width, height, channels, 2 if deep else 1, self.path.stat().st_size)
        wanted = {(False, False): "rgb24", (False, True): "rgba", (True, False): "rgb48le", (True, True): "rgba64le"}
        space, span = None, None
        if not known.is_rgb:
            said = int(frame.colorspace)
            space = said if said != UNSAID else int(Colorspace.ITU709 if frame.height >= 720 else Colorspace.ITU601)
            span = FULL if int(getattr(frame, f"color_{SPAN}")) == FULL else NARROW
        exact = Interpolation.BICUBIC | Interpolation.ACCURATE_RND | Interpolation.FULL_CHR_H_INT
        # In the order that the library wants: sizes, format, matrices, filter, ranges.
        wish = (width, height, wanted[deep, alpha], space, space, exact, span, None if span is None else FULL)
        pixels = VideoReformatter().reformat(frame, *wish).to_ndarray()
        pixels = _turned(pixels, frame, warnings)
        window = Window(0, 0, pixels.shape[1], pixels.shape[0])
        planes = {name: np.ascontiguousarray(pixels[..., index]) for index, name in enumerate("RGBA"[:channels])}
        transfer = int(self._stream.codec_context.color_trc or 2)
        linear = transfer == 8
        codec = self._stream.codec_context.name
        time = round(float((frame.pts - self._first) * self._base), 6)
        metadata = {"frames a second": self.info.rate, "seconds": time, "sample format": known.name}
        attributes = {RATE: rate_tag(self._rate)}
        if self._timecode:
            code = self._timecode.after(number - 1, self._rate)
            metadata["timecode"] = str(code)
            if given := timecode_tag(code):
                attributes[TIMECODE] = given
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
            attributes=attributes,
        )

    def _square(self, frame: Any, warnings: list[str]) -> tuple[int, int]:
        """Width and height of a frame once its pixels are square: the smaller side of a pixel grows."""
        shape = Fraction(self._stream.sample_aspect_ratio or 1)
        if shape in (0, 1):
            return frame.width, frame.height
        told = f"its pixels are {float(shape):.4g} times as wide as high"
        if not 1 / MOST_STRETCH <= shape <= MOST_STRETCH:
            warnings.append(f"{told}, which is not believed: they are taken for square")
            return frame.width, frame.height
        width = round(frame.width * shape) if shape > 1 else frame.width
        height = round(frame.height / shape) if shape < 1 else frame.height
        warnings.append(f"{told}; they were made square: {width} x {height} of {frame.width} x {frame.height}")
        return width, height


def _by_time(times: Sequence[int], steps: Sequence[int], base: Fraction) -> tuple[Fraction, list[int]]:
    """The rate of the smallest step between frames, and the number that each has by its time."""
    least = min(steps)
    alike = [step for step in steps if step <= UNEVEN * least]
    rough = Fraction(len(alike), sum(alike))
    # Steps are rounded each by itself; over the whole the rate is known to a part of one.
    whole = Fraction(sum(round(step * rough) for step in steps), times[-1] - times[0]) / base
    near = min(USUAL_RATES, key=lambda known: abs(known / whole - 1))
    rates = [whole, 1 / (least * base)]
    for rate in [near, *rates] if abs(near / whole - 1) < NEAR_RATE else rates:
        numbers = [math.floor((time - times[0]) * base * rate + Fraction(1, 2)) + 1 for time in times]
        if len(set(numbers)) == len(numbers):
            break
    return rate, numbers


def _turned(pixels: NDArray[Any], frame: Any, warnings: list[str]) -> NDArray[Any]:
    """Pixels (H x W x C) turned and mirrored by quarters as the file says: x' = a x + c y, y' = b x + d y."""
    given = next((data for data in frame.side_data if data.type.name == "DISPLAYMATRIX"), None)
    if given is None:
        return pixels
    a, b, _, c, d, *_ = np.frombuffer(bytes(given), "<i4") / 65536
    if max(abs(a), abs(d)) < 1e-3 < min(abs(b), abs(c)):
        pixels, flip_x, flip_y = pixels.swapaxes(0, 1), c < 0, b < 0
    elif max(abs(b), abs(c)) < 1e-3 < min(abs(a), abs(d)):
        if a > 0 and d > 0:
            return pixels
        flip_x, flip_y = a < 0, d < 0
    else:
        warnings.append("it asks to be turned by no quarter, which is not done")
        return pixels
    warnings.append(f"turned as the file says: {pixels.shape[1]} x {pixels.shape[0]}")
    return pixels[:: -1 if flip_y else 1, :: -1 if flip_x else 1]


_open: tuple[Stamp, Video] | None = None


def opened(path: Path, limits: Limits) -> Video:
    """The video that this process read last, still open, or another one. Raises FormatError."""
    global _open
    try:
        stamp = stamp_of(path)
    except OSError as error:
        raise FormatError(f"cannot be read ({error.strerror})", remedy="check the path") from None
    if _open is None or _open[1].path != path or _open[0] != stamp:
        _open = stamp, Video(path, limits)
    _open[1]._limits = limits
    return _open[1]

"""Review movies: rendered frames as they are seen, in a WebM that plays in a browser."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from fractions import Fraction
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from nexal.errors import FormatError
from nexal.files import written_whole
from nexal.formats.reading import StoredSource
from nexal.kernels.bounds import bounded
from nexal.kernels.pointmath import encode
from nexal.picture import ALPHA_NAME, Alpha, Window

CODEC, SAMPLES = "libvpx-vp9", "yuv420p"
OPTIONS = {"crf": "18", "b:v": "0", "deadline": "good", "cpu-used": "5", "row-mt": "1"}
Seen = NDArray[np.uint8]
"""H x W x 3 codes, sRGB."""


def as_seen(source: StoredSource) -> Seen:
    """A picture over black as a screen shows it: display-encoded, 8 bit; data as grey of its own values."""
    described = source.description
    region = Window(0, 0, described.display.width, described.display.height)
    inside = described.window.intersect(region)
    names: list[str] = [name for name in "RGB" if name in described.channels] or list(described.channels[:1])
    wanted = [*names, *([ALPHA_NAME] if ALPHA_NAME in described.channels and ALPHA_NAME not in names else [])]
    planes = source.read(wanted, Fraction(1), inside)
    result = np.zeros((region.height, region.width, 3), np.uint8)
    for index in range(3):
        name = names[min(index, len(names) - 1)]
        plane = bounded(planes[name])
        if described.alpha is Alpha.STRAIGHT and name in described.colour and ALPHA_NAME in planes:
            plane = plane * planes[ALPHA_NAME]
        shown = plane if name in described.data else encode(plane)
        result[..., index][inside.within(region)] = np.floor(np.clip(shown, 0, 1) * 255 + 0.5).astype(np.uint8)
    return result


def numbered(picture: Seen, number: int) -> Seen:
    """The picture with its frame's number in its lower left corner, legible on any ground."""
    size = max(0.5, picture.shape[0] / 540)
    at = (int(12 * size) + 2, picture.shape[0] - int(12 * size) - 2)
    result = np.ascontiguousarray(picture)
    for colour, width in (((0, 0, 0), 5), ((255, 255, 255), 1)):
        thick = max(1, round(width * size))
        cv2.putText(result, f"{number}", at, cv2.FONT_HERSHEY_SIMPLEX, size, colour, thick, cv2.LINE_AA)
    return result


def write_movie(
    pictures: Iterable[tuple[int, Seen]],
    path: Path,
    rate: float,
    numbers: bool = False,
    check: Callable[[], None] = lambda: None,
) -> None:
    """Write pictures (frame number and codes) as VP9 in WebM, whole or not at all; sides become even.

    All have the size of the first: others are put into its upper left corner. Raises FormatError where writing fails.
    """
    import av

    stream: Any = None
    try:
        with written_whole(path) as part, av.open(str(part), "w", format="webm") as container:
            for number, picture in pictures:
                check()
                if stream is None:
                    height, width = (side + side % 2 for side in picture.shape[:2])
                    stream = container.add_stream(CODEC, rate=Fraction(rate).limit_denominator(1001), options=OPTIONS)
                    stream.width, stream.height, stream.pix_fmt = width, height, SAMPLES
                page = np.zeros((height, width, 3), np.uint8)
                seen = (numbered(picture, number) if numbers else picture)[:height, :width]
                page[: seen.shape[0], : seen.shape[1]] = seen
                container.mux(stream.encode(av.VideoFrame.from_ndarray(page, format="rgb24")))
            if stream is None:
                raise FormatError("there is no frame to show", where="movie", remedy="render some first")
            container.mux(stream.encode())
    except (av.FFmpegError, OSError) as error:
        raise FormatError(f"cannot be written ({error})", where=path.name, remedy="check the space left") from None

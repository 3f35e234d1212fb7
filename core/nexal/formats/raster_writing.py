"""Files of grey or red, green and blue: PNG, TIFF, TGA, DPX, JPEG, HDR."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import replace
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

import nexal
from nexal.errors import FormatError
from nexal.formats.decoded import RATE, TIMECODE, timing_notes, untagged
from nexal.formats.ink_tiff import write_ink_tiff
from nexal.formats.raster import CHANNELS_NOTE, DATA_NOTE
from nexal.formats.targets import Target
from nexal.picture import (
    ALPHA_NAME,
    INKS,
    PLANE_NAME,
    Alpha,
    Description,
    Picture,
    Plane,
    main_channels,
    split_channel,
)

SHORT_TEXT = 60_000
"""Letters from which on formats with little room for text hold only what is short."""


def completed_description(description: Description) -> Description:
    """A texture of two channels of R, G and B has the third, too: such files hold three."""
    names = description.channels
    missing = [name for name in ("R", "G", "B") if name not in names]
    held = {*names} <= {"R", "G", "B", ALPHA_NAME} and len(names) > 1
    if not (description.all_data and held and missing):
        return description
    return description.changed(
        channels=("R", "G", "B", *(name for name in names if name == ALPHA_NAME)),
        data=description.data | {*missing},
    )


def completed(picture: Picture) -> Picture:
    """A texture of two channels of R, G and B with the third at 0."""
    description = completed_description(picture.description)
    missing = [name for name in description.channels if name not in picture.planes]
    if not missing:
        return picture
    nothing = np.zeros((picture.region.height, picture.region.width), np.float32)
    return replace(picture, description=description, planes={**picture.planes, **dict.fromkeys(missing, nothing)})


def raster_channels(description: Description, file_format: str) -> list[str]:
    """The channels of a picture that go into a file that holds grey, or red, green and blue, or inks; in their order.

    Raises FormatError where its channels are none of these.
    """
    names = main_channels(description)
    if file_format == "hdr" and len(names) == 1:
        raise FormatError(
            "a Radiance HDR holds red, green and blue, and this is one channel",
            where="'format'",
            remedy="write an EXR or a TIFF, or put it into R, G and B with route",
        )
    order = {"R": 0, "G": 1, "B": 2, "Y": 0, "A": 3}
    last = {name: split_channel(name)[1] for name in names}
    chosen = sorted((name for name in names if last[name] in order), key=lambda name: order[last[name]])
    colours = [last[name] for name in chosen if last[name] != ALPHA_NAME]
    if {*last.values()} >= {*INKS}:
        if file_format != "tiff":
            raise FormatError(
                f"a {file_format.upper()} holds no inks",
                where="'from'",
                remedy="write a TIFF or an EXR, or make RGB of them with ink_join",
            )
        return [name for wanted in (*INKS, ALPHA_NAME) for name in names if last[name] == wanted]
    if colours not in (["R", "G", "B"], [PLANE_NAME]):
        if len(names) == 1:
            return names
        raise FormatError(
            f"the channels {', '.join(names[:6])} are neither grey nor R, G, B",
            where="'from'",
            remedy="name one channel, put three into R, G, B with route, or write an EXR",
        )
    return chosen


def stored_samples(plane: Plane, target: Target) -> NDArray[Any]:
    """The samples of a plane as a target that is no EXR stores them."""
    from nexal.kernels.quantising import codes

    plane = plane.astype(np.float32, copy=False)
    return codes(plane, target.most, target.dither) if target.integer else plane


def write_raster(
    picture: Picture,
    planes: Mapping[str, Plane],
    target: Target,
    path: Path,
    notes: Mapping[str, Any],
    own: Mapping[str, NDArray[Any]],
) -> None:
    import OpenImageIO as oiio

    names = list(planes)
    samples = {name: own[name] if name in own else stored_samples(planes[name], target) for name in names}
    pixels = np.stack([samples[name] for name in names], axis=-1)
    last = [split_channel(name)[1] for name in names]
    if not {*last} <= {"R", "G", "B", PLANE_NAME, ALPHA_NAME}:
        notes = dict(notes) | {CHANNELS_NOTE: last}
    if picture.description.all_data:
        notes = dict(notes) | {DATA_NOTE: True}
    layout = picture.description.metadata.get("layout")
    if layout:
        notes = dict(notes) | {"nexal.layout": untagged(layout)}
    timing = timing_notes(picture.description.metadata)
    notes = dict(notes) | timing
    text = json.dumps(notes, separators=(",", ":"))
    software = f"nexal {notes.get('nexal.version', nexal.__version__)}"
    if target.format == "tiff" and last[: len(INKS)] == [*INKS]:
        inks = picture.description.inks
        write_ink_tiff(
            path,
            pixels,
            text,
            software=software,
            compression=target.compression or "lzw",
            straight=target.alpha is Alpha.STRAIGHT,
            profile=inks.read() if inks else None,
        )
        return
    sample_type = {"8": oiio.UINT8, "10": oiio.UINT16, "16": oiio.UINT16, "float": oiio.FLOAT}[target.depth]
    spec = oiio.ImageSpec(picture.region.width, picture.region.height, len(names), sample_type)
    spec.channelnames = tuple(last)
    if ALPHA_NAME in last:
        spec.alpha_channel = last.index(ALPHA_NAME)
        straight = target.alpha is Alpha.STRAIGHT or target.format in ("png", "tga")
        # Without this the library would divide or multiply by alpha on its own.
        spec.attribute("oiio:UnassociatedAlpha", int(straight))
    if target.depth == "10":
        spec.attribute("oiio:BitsPerSample", 10)
    if target.format == "tiff":
        spec.attribute("compression", target.compression or "lzw")
    if target.format == "jpeg":
        spec.attribute("Compression", "jpeg:95")
        spec.attribute("jpeg:subsampling", "4:4:4")
    if target.format == "dpx" and RATE in timing:
        spec.attribute("dpx:FrameRate", float(Fraction(timing[RATE])))
    if target.format == "dpx" and TIMECODE in timing:
        spec.attribute("dpx:TimeCode", timing[TIMECODE])
    spec.attribute("Software", software)
    if len(text) >= SHORT_TEXT and target.format not in ("png", "tiff"):
        short = {name: value for name, value in notes.items() if len(str(value)) < 200}
        text = json.dumps(short, separators=(",", ":"))
    spec.attribute("ImageDescription", text)
    output = oiio.ImageOutput.create(str(path))
    if output is None or not output.open(str(path), spec):
        reason = (output.geterror() if output else oiio.geterror()).strip()
        raise FormatError(f"cannot be written ({reason})", where=path.name, remedy="check the folder and format")
    if not output.write_image(np.ascontiguousarray(pixels)) or not output.close():
        raise FormatError(
            f"cannot be written ({output.geterror().strip()})", where=path.name, remedy="check the space left"
        )

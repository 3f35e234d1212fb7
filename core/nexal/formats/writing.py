"""Writing a result to a file of an open format."""

from __future__ import annotations

import json
import os
from collections.abc import Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

import nexal
from nexal.colour import check_space, from_working
from nexal.errors import FormatError, nearest
from nexal.formats.decoded import untagged
from nexal.formats.exr import OWN_ATTRIBUTES
from nexal.formats.ink_tiff import write_ink_tiff
from nexal.formats.raster import CHANNELS_NOTE, DATA_NOTE
from nexal.kernels.pointmath import encode, unpremultiplied
from nexal.kernels.quantising import codes
from nexal.picture import (
    ALPHA_NAME,
    INKS,
    PLANE_NAME,
    Alpha,
    Picture,
    Plane,
    Window,
    is_alpha,
    main_channels,
    named_as_colour,
    split_channel,
)
from nexal.recipe import Output, Recipe

EXR_COMPRESSIONS = ("zip", "zips", "piz", "rle", "none", "pxr24", "b44", "b44a", "dwaa", "dwab")


@dataclass(frozen=True)
class Format:
    """What a file format can hold."""

    suffixes: tuple[str, ...]
    depths: tuple[str, ...]
    alpha: Alpha
    """The state its standard wants; none where it has no alpha."""
    compressions: tuple[str, ...] = ()


FORMATS: dict[str, Format] = {
    "exr": Format((".exr",), ("half", "float"), Alpha.PREMULTIPLIED, EXR_COMPRESSIONS),
    "png": Format((".png",), ("8", "16"), Alpha.STRAIGHT),
    "tiff": Format((".tif", ".tiff"), ("16", "8", "float"), Alpha.PREMULTIPLIED, ("lzw", "zip", "none")),
    "tga": Format((".tga",), ("8",), Alpha.STRAIGHT),
    "dpx": Format((".dpx",), ("10", "8", "16"), Alpha.NONE),
    "jpeg": Format((".jpg", ".jpeg"), ("8",), Alpha.NONE),
    "hdr": Format((".hdr",), ("float",), Alpha.NONE),
}
"""Formats that are written; the first depth is the default."""


@dataclass(frozen=True)
class Target:
    """A checked output: every default decided."""

    format: str
    depth: str
    alpha: Alpha
    colour: str
    compression: str
    dither: str = "none"

    @property
    def integer(self) -> bool:
        return self.depth.isdigit()

    @property
    def most(self) -> int:
        """The largest code of an integer depth; 10 bit are written from 16."""
        return 255 if self.depth == "8" else 65535


def target_of(output: Output) -> Target:
    """Format, depth, alpha and colour of an output. Raises FormatError for what the format cannot hold."""
    suffix = Path(output.file).suffix.lower()
    by_suffix = next((name for name, known in FORMATS.items() if suffix in known.suffixes), None)
    name = output.format or by_suffix
    if name is None:
        raise FormatError(
            f"'{output.file}' does not say which format is meant",
            where="'file'",
            remedy="give a format or a file name that ends in " + ", ".join(f.suffixes[0] for f in FORMATS.values()),
        )
    known = FORMATS[name]
    depth = str(output.depth or known.depths[0])
    if depth not in known.depths:
        raise FormatError(f"{name} has no depth '{depth}'", where="'depth'", remedy="use " + " or ".join(known.depths))
    alpha = Alpha(output.alpha) if output.alpha else known.alpha
    if known.alpha is Alpha.NONE and alpha is not Alpha.NONE:
        raise FormatError(f"{name} has no alpha", where="'alpha'", remedy="use none, or another format")
    compression = (output.compression or "").lower()
    if compression and compression not in known.compressions:
        remedy = nearest(compression, known.compressions) if known.compressions else "leave it out"
        raise FormatError(f"{name} has no compression '{compression}'", where="'compression'", remedy=remedy)
    if output.dither != "none" and depth != "8":
        raise FormatError("dither is for 8 bit", where="'dither'", remedy="leave it out, or write 8 bit")
    check_space(output.colour)
    return Target(name, depth, alpha, output.colour, compression, output.dither)


def written_window(picture_window: Window, display: Window, target: Target) -> Window:
    """The full-resolution region that goes into a file: EXR keeps the data window, others hold the display window."""
    return picture_window if target.format == "exr" and not picture_window.empty else display


def provenance(recipe: Recipe, sources: Mapping[str, str]) -> dict[str, str]:
    """What travels with each file so that it can be made again: recipe, source fingerprints, program version."""
    return {
        "nexal.version": nexal.__version__,
        "nexal.recipe": json.dumps(recipe.as_json(), separators=(",", ":")),
        "nexal.sources": json.dumps(dict(sources), separators=(",", ":")),
    }


def write(
    picture: Picture,
    target: Target,
    path: Path,
    notes: Mapping[str, str],
    own: Mapping[str, NDArray[Any]] | None = None,
) -> None:
    """Write a picture whole or not at all: under another name first, then renamed.

    `picture.region` is what is written; `own` holds channels as they are stored: of an EXR in a sample type of their
    own, of whole numbers as codes of the target's depth.
    Raises FormatError where the format cannot hold its channels or writing fails.
    """
    if target.format != "exr":
        picture = _completed(picture)
    names = list(picture.description.channels)
    if target.format != "exr":
        names = _raster_channels(picture, target.format)
    if target.format == "tiff":
        # A TIFF holds further samples of the picture; what they are called stands in its description.
        names += [name for name in main_channels(picture.description) if name not in names and not is_alpha(name)]
    if target.alpha is Alpha.NONE:
        names = [name for name in names if not is_alpha(name)] or names
    planes = _in_colour(picture, in_state(picture, target.alpha), target)
    part = path.with_name(f".{path.stem}.{os.getpid()}{path.suffix}")
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        kept = {name: planes[name] for name in names}
        if target.format == "exr":
            _write_exr(picture, kept, target, part, notes, own or {})
        else:
            _write_raster(picture, kept, target, part, notes, own or {})
        os.replace(part, path)
    except OSError as error:
        raise FormatError(
            f"cannot be written ({error.strerror or error})",
            where=path.name,
            remedy="check the folder and the space left",
        ) from None
    finally:
        if part.parent.is_dir():
            part.unlink(missing_ok=True)


def _completed(picture: Picture) -> Picture:
    """A texture of two channels of R, G and B with the third at 0: such files hold three."""
    names = picture.description.channels
    missing = [name for name in ("R", "G", "B") if name not in names]
    held = {*names} <= {"R", "G", "B", ALPHA_NAME} and len(names) > 1
    if not (picture.description.all_data and held and missing):
        return picture
    nothing = np.zeros((picture.region.height, picture.region.width), np.float32)
    description = picture.description.changed(
        channels=("R", "G", "B", *(name for name in names if name == ALPHA_NAME)),
        data=picture.description.data | {*missing},
    )
    return replace(picture, description=description, planes={**picture.planes, **dict.fromkeys(missing, nothing)})


def _raster_channels(picture: Picture, file_format: str) -> list[str]:
    names = main_channels(picture.description)
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


def in_state(picture: Picture, alpha: Alpha) -> dict[str, Plane]:
    """Colour straight or premultiplied as wanted; data and pictures without alpha as they are."""
    description = picture.description
    planes = dict(picture.planes)
    if Alpha.NONE in (alpha, description.alpha) or alpha is description.alpha:
        return planes
    for name in description.colour:
        own = description.alpha_of(name)
        if own is None:
            continue
        a, c = picture.planes[own], picture.planes[name]
        planes[name] = c * a if alpha is Alpha.PREMULTIPLIED else unpremultiplied(c, a)
    return planes


def _in_colour(picture: Picture, planes: dict[str, Plane], target: Target) -> dict[str, Plane]:
    """Colour channels in the file's colour space; data is never encoded."""
    space = target.colour
    if space == "auto":
        space = "srgb" if target.integer else "linear"
    colour = [name for name in planes if name in picture.description.colour]
    if space in ("linear", "data"):
        return planes
    if space == "srgb":
        return planes | {name: encode(planes[name]) for name in colour}
    layers = dict.fromkeys(split_channel(name)[0] for name in colour)
    for layer in layers:
        prefix = f"{layer}." if layer else ""
        triple = [f"{prefix}{last}" for last in ("R", "G", "B")]
        if all(name in colour for name in triple):
            planes = planes | dict(zip(triple, from_working([planes[name] for name in triple], space), strict=True))
        else:
            for name in colour:
                if split_channel(name)[0] == layer and named_as_colour(name):
                    planes = planes | {name: from_working([planes[name]] * 3, space)[1]}
    return planes


def _write_exr(
    picture: Picture,
    planes: Mapping[str, Plane],
    target: Target,
    path: Path,
    notes: Mapping[str, str],
    own: Mapping[str, NDArray[Any]],
) -> None:
    import OpenEXR

    sample_type = np.float16 if target.depth == "half" else np.float32
    x, y = (int(part * picture.scale) for part in picture.description.origin)
    display = picture.description.display.scaled(picture.scale)

    def box(window: Window) -> tuple[NDArray[Any], NDArray[Any]]:
        moved = window.shift(x, y)
        return np.array([moved.x, moved.y], np.int32), np.array([moved.right - 1, moved.bottom - 1], np.int32)

    kind = f"{(target.compression or 'zip').upper()}_COMPRESSION".replace("NONE_", "NO_")
    header = {
        "compression": getattr(OpenEXR, kind),
        "type": OpenEXR.scanlineimage,
        "dataWindow": box(picture.region),
        "displayWindow": box(display),
        **_kept_attributes(picture),
        **notes,
    }
    with np.errstate(over="ignore", invalid="ignore"):
        # The library writes arrays that are not contiguous wrongly and without an error.
        channels = {
            name: np.ascontiguousarray(
                own[name]
                if name in own
                else _id_samples(plane)
                if picture.description.trait(name).is_label
                else plane.astype(sample_type)
            )
            for name, plane in planes.items()
        }
    try:
        OpenEXR.set_global_thread_count(2)
        with OpenEXR.File(header, channels) as file:
            file.write(str(path))
    except (RuntimeError, ValueError, TypeError) as error:
        raise FormatError(f"cannot be written ({error})", where=path.name, remedy="check the channel names") from None


def _id_samples(plane: Plane) -> NDArray[Any]:
    """Ids with all their digits: whole numbers as uint, hashed ones as the floats that they are."""
    whole = np.isfinite(plane).all() and np.all((plane >= 0) & (plane < 2**32) & (plane == np.floor(plane)))
    return plane.astype(np.uint32 if whole else np.float32)


def _kept_attributes(picture: Picture) -> dict[str, Any]:
    """Header values of the first source that mean the same in the new file, in their own types."""
    kept = {}
    for name, value in picture.description.metadata.items():
        # A file of another format may call something else by a name that means the storage of this one.
        if name.startswith("nexal.") or ":" in name or name in OWN_ATTRIBUTES | {"ImageDescription", "Software"}:
            continue
        if len(value.get("text", "")) < 65_536:
            kept[name] = untagged(value)
    return kept


def stored_samples(plane: Plane, target: Target) -> NDArray[Any]:
    """The samples of a plane as a target that is no EXR stores them."""
    plane = plane.astype(np.float32, copy=False)
    return codes(plane, target.most, target.dither) if target.integer else plane


def _write_raster(
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
    spec.attribute("Software", software)
    if len(text) < 60_000 or target.format in ("png", "tiff"):
        spec.attribute("ImageDescription", text)
    output = oiio.ImageOutput.create(str(path))
    if output is None or not output.open(str(path), spec):
        reason = (output.geterror() if output else oiio.geterror()).strip()
        raise FormatError(f"cannot be written ({reason})", where=path.name, remedy="check the folder and format")
    if not output.write_image(np.ascontiguousarray(pixels)) or not output.close():
        raise FormatError(
            f"cannot be written ({output.geterror().strip()})", where=path.name, remedy="check the space left"
        )


def half_planes(picture: Picture) -> memoryview:
    """The planes of a picture as half floats, one after the other, row 0 first: what the browser paints."""
    from nexal.kernels.halves import write_halves

    result = np.empty((len(picture.planes), picture.region.height, picture.region.width), np.uint16)
    for plane, target in zip(picture.planes.values(), result, strict=True):
        write_halves(plane.astype(np.float32, copy=False), target)
    return result.data.cast("B")

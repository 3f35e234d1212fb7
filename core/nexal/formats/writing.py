"""Writing a result to a file of an open format, whole or not at all."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from contextlib import suppress
from pathlib import Path
from typing import Any

from numpy.typing import NDArray

import nexal
from nexal.colour import from_working
from nexal.errors import FormatError
from nexal.files import written_whole
from nexal.formats.decoded import untagged
from nexal.formats.exr_writing import write_exr
from nexal.formats.raster_writing import completed, completed_description, raster_channels, write_raster
from nexal.formats.stored import StoredFile
from nexal.formats.targets import Target
from nexal.kernels.pointmath import encode, unpremultiplied
from nexal.picture import (
    Alpha,
    Description,
    Picture,
    Plane,
    is_alpha,
    main_channels,
    named_as_colour,
    split_channel,
)
from nexal.recipe import Recipe


def provenance(recipe: Recipe, sources: Mapping[str, str], made: str) -> dict[str, str]:
    """What travels with each file so that it can be made again: what it was made of, the program's version, recipe and
    source fingerprints. What has to be read from a shortened text stands first."""
    return {
        MADE_NOTE: made,
        "nexal.version": nexal.__version__,
        "nexal.recipe": json.dumps(recipe.as_json(), separators=(",", ":")),
        "nexal.sources": json.dumps(dict(sources), separators=(",", ":")),
    }


MADE_NOTE = "nexal.digest"
"""Under which a file tells what it was made of; see `session.made_of`."""
BESIDE_SUFFIX = ".nexal.json"
"""Of the small file beside one of a format that has no room for it."""
_WITHOUT_ROOM = ("dpx", "hdr")
_MADE = re.compile(r'"nexal\.digest": ?"([0-9a-f]{1,64})"')


def made_note(path: Path, stored: StoredFile) -> str:
    """What a file or the small one beside it says it was made of; empty where neither does."""
    attributes, metadata = stored.header["attributes"], stored.header["metadata"]
    if MADE_NOTE in attributes:
        return str(untagged(attributes[MADE_NOTE]))
    beside = path.with_name(path.name + BESIDE_SUFFIX)
    texts = [str(metadata.get("ImageDescription", ""))]
    with suppress(OSError, UnicodeDecodeError):
        texts.append(beside.read_text(encoding="utf-8")[:BESIDE_LETTERS])
    found = (_MADE.search(text) for text in texts)
    return next((match[1] for match in found if match), "")


BESIDE_LETTERS = 4_096


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
        picture = completed(picture)
    names = written_channels(picture.description, target)
    planes = _in_colour(picture, in_state(picture, target.alpha), target)
    chosen = {name: planes[name] for name in names}
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        with written_whole(path) as part:
            if target.format == "exr":
                write_exr(picture, chosen, target, part, notes, own or {})
            else:
                write_raster(picture, chosen, target, part, notes, own or {})
        beside = path.with_name(path.name + BESIDE_SUFFIX)
        if target.format in _WITHOUT_ROOM and MADE_NOTE in notes:
            with written_whole(beside) as part:
                part.write_text(json.dumps({MADE_NOTE: notes[MADE_NOTE]}), encoding="utf-8")
    except OSError as error:
        raise FormatError(
            f"cannot be written ({error.strerror or error})",
            where=path.name,
            remedy="check the folder and the space left",
        ) from None


def written_channels(description: Description, target: Target) -> list[str]:
    """The channels of a picture that go into its file, in the file's order.

    Raises FormatError where the format can't hold them.
    """
    names = list(description.channels)
    if target.format != "exr":
        description = completed_description(description)
        names = raster_channels(description, target.format)
    if target.format == "tiff":
        # A TIFF holds further samples of the picture; what they are called stands in its description.
        names += [name for name in main_channels(description) if name not in names and not is_alpha(name)]
    if target.alpha is Alpha.NONE:
        names = [name for name in names if not is_alpha(name)] or names
    return names


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

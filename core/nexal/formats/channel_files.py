"""A picture as one file for each channel beside a manifest, and put together again with nothing lost."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from nexal.errors import FormatError
from nexal.file_names import free, plain
from nexal.formats.decoded import SAMPLE_TYPES
from nexal.formats.statistics import INTEGER_MAX, as_float
from nexal.formats.store import fingerprint
from nexal.formats.stored import StoredFile
from nexal.formats.targets import FORMATS, Target
from nexal.formats.writing import in_state, write
from nexal.picture import ALPHA_NAME, Alpha, Description, Picture, Window, is_alpha
from nexal.recipe import from_validation

MANIFEST_SUFFIX = ".channels.json"


class ChannelFile(BaseModel):
    """One channel: its file, the type of its samples, and what they were when it was written."""

    model_config = ConfigDict(extra="ignore")

    name: str = Field(min_length=1, max_length=200)
    file: str = Field(min_length=1, max_length=300)
    type: str
    data: bool = False
    fingerprint: str = ""


class Manifest(BaseModel):
    """What puts channel files together again: their order, names and types, and how the picture is read."""

    model_config = ConfigDict(extra="ignore")

    nexal_channels: int = Field(ge=1, le=1)
    name: str = Field(min_length=1, max_length=200)
    width: int = Field(ge=1)
    height: int = Field(ge=1)
    encoding: str = "linear"
    alpha: Alpha = Alpha.NONE
    channels: list[ChannelFile] = Field(min_length=1, max_length=4096)

    @model_validator(mode="after")
    def _apart(self) -> Manifest:
        names = [row.name for row in self.channels]
        twice = next((name for name in names if names.count(name) > 1), None)
        if twice is not None:
            raise ValueError(f"the channel '{twice}' is there twice")
        return self


def read_manifest(text: str | bytes, where: str) -> Manifest:
    """Raises FormatError for what is no manifest."""
    try:
        data = json.loads(text)
    except (ValueError, RecursionError):
        raise FormatError(
            "is not JSON", where=where, remedy="give the manifest that was written with the files"
        ) from None
    try:
        return Manifest.model_validate(data)
    except ValidationError as error:
        fault = from_validation(error, Manifest, data, where)
        raise FormatError(
            fault.message, where=fault.where, remedy="give the manifest that was written with the files"
        ) from None


def split(
    picture: Picture,
    target_for: Callable[[str], Target],
    path: Path,
    notes: Mapping[str, str],
    own: Mapping[str, NDArray[Any]],
    encoding: str,
) -> list[Path]:
    """Write each channel to `path`'s folder as a file of its own, `stem.CHANNEL.suffix`, and a manifest beside them.

    `target_for` gives the target of each channel; `own` holds channels as they are stored, which are written as they
    are; `encoding` (srgb, linear or data) is what the samples of colour are in. Returns the files, the manifest last.
    Raises FormatError.
    """
    description = picture.description
    rows: list[ChannelFile] = []
    written: list[Path] = []
    targets = {name: target_for(name) for name in description.channels}
    planes = in_state(picture, next(iter(targets.values())).alpha)
    for name, target in targets.items():
        suffix = FORMATS[target.format].suffixes[0]
        # Names that differ in letter case alone are one file on some systems.
        stem = plain(f"{path.stem}.{name}")
        file = path.with_name(free(stem, suffix, lambda each: any(each.lower() == row.file.lower() for row in rows)))
        data = name in description.data
        alone = description.changed(
            channels=(name,), data=frozenset({name} if data else ()), alpha=Alpha.NONE, is_plane=False
        )
        single = replace(picture, description=alone, planes={name: planes[name]})
        write(single, replace(target, alpha=Alpha.NONE), file, notes, {name: own[name]} if name in own else {})
        kind = SAMPLE_TYPES[str(own[name].dtype)] if name in own else _type_of(target)
        rows.append(ChannelFile(name=name, file=file.name, type=kind, data=data, fingerprint=fingerprint(file)))
        written.append(file)
    first = next(iter(targets.values()))
    manifest = Manifest(
        nexal_channels=1,
        name=path.stem,
        width=picture.region.width,
        height=picture.region.height,
        encoding=encoding,
        alpha=first.alpha if description.has_alpha else Alpha.NONE,
        channels=rows,
    )
    listing = path.with_name(f"{path.stem}{MANIFEST_SUFFIX}")
    listing.write_text(manifest.model_dump_json(indent=1), encoding="utf-8")
    return [*written, listing]


def _type_of(target: Target) -> str:
    return {"8": "uint8", "10": "uint16", "16": "uint16", "half": "half", "float": "float"}[target.depth]


@dataclass(frozen=True)
class Given:
    """A file that was handed in: what it is called now, what it holds, and its fingerprint."""

    name: str
    stored: StoredFile
    fingerprint: str


def reassemble(manifest: Manifest, files: Sequence[Given], folder: Path) -> tuple[Path, list[str]]:
    """The picture that channel files make, written to `folder`, and what is worth telling about them.

    A file is found by its name, else (renamed) by its fingerprint. Whole numbers become a PNG where they are grey or
    red, green, blue (and alpha), else a TIFF; everything else an EXR, each channel in its own type. Every sample is
    what its file holds. Told are files that were renamed, changed, are of another depth, or belong to nothing.
    Raises FormatError where a channel's file is lost or of another size.
    """
    found, told = _matched(manifest, files)
    size = (manifest.height, manifest.width)
    samples: dict[str, NDArray[Any]] = {}
    for row in manifest.channels:
        given = found[row.name]
        plane = _only_plane(given)
        if plane.shape != size:
            height, width = plane.shape
            raise FormatError(
                f"is {width} x {height} pixels, and channel {row.name} was {manifest.width} x {manifest.height}",
                where=given.name,
                remedy="give it its size back, or add it as a source of its own and resize it there",
            )
        kind = SAMPLE_TYPES[str(plane.dtype)]
        if kind != row.type:
            told.append(f"{given.name} holds {kind} samples now, {row.type} before")
        elif row.fingerprint and given.fingerprint != row.fingerprint:
            told.append(f"{given.name} was changed since it was split")
        samples[row.name] = plane
    return _written(manifest, samples, next(iter(found.values())).stored, folder), told


def _matched(manifest: Manifest, files: Sequence[Given]) -> tuple[dict[str, Given], list[str]]:
    by_name = {given.name: given for given in files}
    by_print = {given.fingerprint: given for given in files}
    found: dict[str, Given] = {}
    told = []
    lost = []
    for row in manifest.channels:
        given = by_name.get(row.file)
        if given is None and row.fingerprint in by_print:
            given = by_print[row.fingerprint]
            told.append(f"channel {row.name} came as {given.name}, it was {row.file}")
        if given is None:
            lost.append(row)
        else:
            found[row.name] = given
    if lost:
        names = ", ".join(f"{row.file} (channel {row.name})" for row in lost[:6])
        raise FormatError(
            f"{'is' if len(lost) == 1 else 'are'} missing",
            where=names,
            remedy="add the files together with the manifest; one that was renamed is known only while it is unchanged",
        )
    used = {given.name for given in found.values()}
    told += [f"{given.name} belongs to no channel and was left aside" for given in files if given.name not in used]
    return found, told


def _only_plane(given: Given) -> NDArray[Any]:
    """The samples of a file of one channel; of several that are all the same, as some programs save grey."""
    names = [name for name in given.stored.channels if not is_alpha(name)] or list(given.stored.channels)
    planes = [np.asarray(given.stored.samples(name)) for name in names]
    if any(not np.array_equal(plane, planes[0]) for plane in planes[1:]):
        raise FormatError(
            f"holds {len(names)} channels that differ", where=given.name, remedy="save it as a picture in grey"
        )
    return planes[0]


def _written(manifest: Manifest, samples: Mapping[str, NDArray[Any]], first: StoredFile, folder: Path) -> Path:
    x, y, width, height = first.header["parts"][0]["display"]
    window = first.window(next(iter(first.channels)))
    alpha = manifest.alpha if ALPHA_NAME in samples else Alpha.NONE
    data = frozenset(row.name for row in manifest.channels if row.data or manifest.encoding == "data")
    display = Window(0, 0, width, height)
    description = Description(tuple(samples), display, window, alpha, data, origin=(x, y))
    whole = all(str(plane.dtype) in INTEGER_MAX for plane in samples.values())
    planes = {name: as_float(plane) for name, plane in samples.items()}
    picture = Picture(description, window, Fraction(1), planes)
    # What is in the file is all that counts; its alpha is only named, never applied.
    if whole:
        deep = any(plane.dtype == np.uint16 for plane in samples.values())
        kind = "png" if _is_plain(list(samples)) and alpha is not Alpha.PREMULTIPLIED else "tiff"
        own = {name: _as_codes(plane, deep=deep) for name, plane in samples.items()}
        target = Target(kind, "16" if deep else "8", alpha, "data", "")
    else:
        kind = "exr"
        own = {name: plane for name, plane in samples.items() if str(plane.dtype) not in INTEGER_MAX}
        target = Target("exr", "float", alpha, "data", "")
    # The name comes from a file that anybody may have written.
    path = folder / f"{plain(manifest.name) or 'picture'}{FORMATS[kind].suffixes[0]}"
    write(picture, target, path, {}, own)
    return path


def _is_plain(names: Sequence[str]) -> bool:
    return [name for name in names if name != ALPHA_NAME] in (["R", "G", "B"], ["Y"])


def _as_codes(plane: NDArray[Any], *, deep: bool) -> NDArray[Any]:
    """Codes of 16 bit where one of the channels has them: an 8 bit code times 257 stands for the same value."""
    return plane.astype(np.uint16) * np.uint16(257) if deep and plane.dtype == np.uint8 else plane

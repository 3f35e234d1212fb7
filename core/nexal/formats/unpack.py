"""Unpacking a decoded file into a plane store folder.

header.json      format, parts, windows, layers with roles, metadata
profile.icc      the ICC profile of its inks, where there is one
c0000.npy        a channel's samples in the file's own type
c0000.KEY.2.npy  its proxy level 1/2 (.4, .8) as a reading gives it; the default reading's are made here
c0000.json       the channel's report; once it is there, the channel can be read
complete         everything is there
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

from numpy.typing import NDArray

from nexal.formats.contents import role_by_content
from nexal.formats.decoded import SAMPLE_TYPES, Decoded
from nexal.formats.reading import DefaultSpec, StoredSource
from nexal.formats.roles import COLOUR_ROLES, Role, role_of, role_of_channel
from nexal.formats.stored import COMPLETE, HEADER, PROFILE, STORE_VERSION, StoredFile, write_json, write_samples
from nexal.hashed_ids import PREFIX, id_layers, is_ranked
from nexal.kernels.mixing import with_alphas
from nexal.picture import Window, is_alpha, named_as_colour, split_channel


def address(part: str, channel: str, several_parts: bool) -> str:
    """A channel's name within its file: in a file of several parts, prefixed with its part unless it is already."""
    if not several_parts or not part or channel.startswith(f"{part}."):
        return channel
    return f"{part}.{channel}"


def _guess(layer: str, members: list[dict[str, Any]], planes: Mapping[str, NDArray[Any]]) -> Role:
    """Role of a layer by its name; where that says nothing, or no more than R, G and B, by what it holds."""
    names = [member["name"] for member in members]
    guess = role_of(layer, names, [member["type"] for member in members])
    if guess.role != "unknown" and not (layer and guess.role == "colour"):
        return guess
    found = role_by_content([planes[name] for name in names if not is_alpha(name)])
    # A layer of R, G and B may hold vectors, but a mask or a depth has one channel.
    return found if found and (guess.role == "unknown" or found.role == "normal") else guess


def _layers(
    channels: list[dict[str, Any]], planes: Mapping[str, NDArray[Any]], hashed: Iterable[str] = ()
) -> list[dict[str, Any]]:
    """The layers with their roles; those of `hashed` ids, with their coverage, are labels by what the header says."""
    groups: dict[str, list[dict[str, Any]]] = {}
    for channel in channels:
        groups.setdefault(split_channel(channel["name"])[0], []).append(channel)
    layers = []
    for name, members in groups.items():
        guess = _guess(name, members, planes)
        if any(is_ranked(member["name"], hashed) for member in members):
            guess = Role("id", "hashed ids, by the header")
        ink = guess.role == "ink"
        for member in members:
            role = (
                guess.role
                if ink or is_ranked(member["name"], hashed)
                else role_of_channel(member["name"], guess.role, member["type"])
            )
            if role == "unknown":
                found = role_by_content([planes[member["name"]]])
                role = found.role if found else role
            member["role"] = role
            member["colour"] = role in COLOUR_ROLES and named_as_colour(member["name"])
        names = [member["name"] for member in members]
        layers.append({"name": name, "role": guess.role, "reason": guess.reason, "channels": names})
    return layers


def _ordered(names: list[str]) -> list[str]:
    """R, G, B and A of a layer first, in that order; everything else as the file has it, a lone alpha last."""
    rank = {"R": 0, "G": 1, "B": 2, "A": 3 if any(split_channel(name)[1] == "R" for name in names) else 5}
    layers = list(dict.fromkeys(split_channel(name)[0] for name in names))
    return sorted(
        names,
        key=lambda name: (layers.index(split_channel(name)[0]), rank.get(split_channel(name)[1].upper(), 4)),
    )


SHOWN_LETTERS = 4_000
"""How much of a header value is shown."""
CARRIED_LETTERS = 65_536
"""The longest header value that is carried into delivered files."""
MANIFEST_LETTERS = 8_000_000
"""The longest list of names of ids that is kept and carried on."""
MOST_VALUES = 1_000


def _shown(values: Mapping[str, Any]) -> dict[str, Any]:
    """Header values as they are shown: whole files lie in some."""
    found = {}
    for name, value in list(values.items())[:MOST_VALUES]:
        text = value if isinstance(value, str) else json.dumps(value)
        short = text if len(text) <= SHOWN_LETTERS else f"{text[:SHOWN_LETTERS]}… ({len(text) / 1e6:.1f} MB)"
        found[name[:SHOWN_LETTERS]] = value if short == text else short
    return found


def _carried(values: Mapping[str, Any]) -> dict[str, Any]:
    # What ids stand for is told by no other way.
    short = {
        name: value
        for name, value in values.items()
        if len(json.dumps(value)) <= (MANIFEST_LETTERS if name.startswith(PREFIX) else CARRIED_LETTERS)
    }
    return dict(list(short.items())[:MOST_VALUES])


def unpack(decoded: Decoded, folder: Path, lean: bool = False) -> None:
    """Write the store of a decoded file into an existing folder.

    A `lean` one has no proxies and no reports: they are made when they are asked for. So are most frames of many.
    """
    several = len(decoded.parts) > 1
    planes: list[tuple[NDArray[Any], Window]] = []
    rows: list[dict[str, Any]] = []
    origin = decoded.parts[0].display
    for number, part in enumerate(decoded.parts):
        window = part.data.shift(-origin.x, -origin.y)
        for name in _ordered(list(part.channels)):
            samples = part.channels[name]
            full = address(part.name, name, several)
            if any(row["name"] == full for row in rows):
                decoded.warnings.append(f"channel {full} is there twice; the second was left out")
                continue
            planes.append((samples, window))
            rows.append({"name": full, "part": number, "type": SAMPLE_TYPES[str(samples.dtype)]})
    # The picture itself comes before its layers.
    order = sorted(range(len(rows)), key=lambda index: "." in rows[index]["name"])
    rows, planes = [rows[index] for index in order], [planes[index] for index in order]
    for number, row in enumerate(rows):
        row["file"] = f"c{number:04d}"
    header = {
        "format": decoded.format,
        "alpha": decoded.alpha,
        "encoding": decoded.encoding,
        "chromaticities": decoded.chromaticities,
        "metadata": _shown(decoded.metadata),
        "attributes": _carried(decoded.attributes),
        "warnings": decoded.warnings,
        "parts": [
            {
                "name": part.name,
                "display": part.display.as_list(),
                "data": part.data.as_list(),
                "compression": part.compression,
                "channels": [
                    {"name": name, "type": SAMPLE_TYPES[str(samples.dtype)]} for name, samples in part.channels.items()
                ],
            }
            for part in decoded.parts
        ],
        "layers": _layers(
            rows,
            {row["name"]: samples for row, (samples, _) in zip(rows, planes, strict=True)},
            id_layers(decoded.attributes),
        ),
        "channels": rows,
    }
    if decoded.ink_profile:
        (folder / PROFILE).write_bytes(decoded.ink_profile)
        header["inks"] = decoded.ink_name
    write_json(folder / HEADER, header)
    samples_of = {row["name"]: samples for row, (samples, _) in zip(rows, planes, strict=True)}
    rows_of = {row["name"]: row for row in rows}
    source = StoredSource(StoredFile(folder), DefaultSpec(), "")

    def finished(names: Sequence[str]) -> None:
        if lean:
            return
        source.make_levels(names)
        for name in names:
            source.stored.make_report(name, samples_of[name])

    written: set[str] = set()
    with ThreadPoolExecutor(2) as pool:
        making = []
        for names in source.together():
            # What a group's proxies are made of lies there before: its own channels and their alphas.
            for name in with_alphas(names, source.description):
                if name not in written:
                    write_samples(folder / f"{rows_of[name]['file']}.npy", samples_of[name])
                    written.add(name)
            making.append(pool.submit(finished, names))
        for each in making:
            each.result()
    (folder / COMPLETE).write_text(STORE_VERSION, encoding="ascii")

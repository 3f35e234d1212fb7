"""Ids that are hashes of names, ranked by coverage: the open Cryptomatte convention.

Reference: J. Friedman, A. Jones, *Fully Automatic ID Mattes with Support for Motion Blur and Transparency*, SIGGRAPH
2015, and its specification 1.2. Names are hashed by MurmurHash3 (32 bit, seed 0) of their UTF-8; bits that would be no
ordinary float32 have bit 23 turned round. Layers `name00`, `name01`... hold pairs R, G and B, A of id and coverage.
"""

from __future__ import annotations

import json
import struct
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from pathlib import PurePosixPath
from typing import Any

from nexal.errors import FormatError
from nexal.formats.decoded import tagged, untagged
from nexal.picture import split_channel

PREFIX = "cryptomatte/"
_ENDS = {"r": "R", "g": "G", "b": "B", "a": "A", "red": "R", "green": "G", "blue": "B", "alpha": "A"}
_MASK = 0xFFFFFFFF


@dataclass(frozen=True)
class IdLayer:
    """A layer of hashed ids, with the bits of each name that its file tells."""

    name: str
    names: Mapping[str, int] = field(default_factory=dict)
    problem: str = ""
    """What is wrong with its manifest; empty where nothing is."""


def _turned(value: int, by: int) -> int:
    return (value << by | value >> (32 - by)) & _MASK


def murmur3(data: bytes) -> int:
    """MurmurHash3_x86_32 with seed 0."""
    state = 0
    for start in range(0, len(data) - len(data) % 4, 4):
        word = int.from_bytes(data[start : start + 4], "little")
        state ^= _turned(word * 0xCC9E2D51 & _MASK, 15) * 0x1B873593 & _MASK
        state = (_turned(state, 13) * 5 + 0xE6546B64) & _MASK
    rest = int.from_bytes(data[len(data) - len(data) % 4 :], "little")
    if len(data) % 4:
        state ^= _turned(rest * 0xCC9E2D51 & _MASK, 15) * 0x1B873593 & _MASK
    state ^= len(data)
    state = (state ^ state >> 16) * 0x85EBCA6B & _MASK
    state = (state ^ state >> 13) * 0xC2B2AE35 & _MASK
    return state ^ state >> 16


def bits_of(name: str) -> int:
    """The 32 bits that stand for a name."""
    # Halves of letters, which no file holds, are hashed as what stands for them.
    bits = murmur3(name.encode("utf-8", "replace"))
    return bits ^ 1 << 23 if bits >> 23 & 255 in (0, 255) else bits


def number_of(bits: int) -> float:
    """The float32 with these bits, which planes hold."""
    return float(struct.unpack("<f", struct.pack("<I", bits & _MASK))[0])


def id_layers(metadata: Mapping[str, Any]) -> dict[str, IdLayer]:
    """The layers of hashed ids that a file's header (`tagged` values) tells of, by name.

    A manifest that cannot be read, or whose numbers are not those of its names, is told in `problem`.
    """
    rows: dict[str, dict[str, str]] = {}
    for key, value in metadata.items():
        parts = key.split("/")
        if key.startswith(PREFIX) and len(parts) == 3:
            rows.setdefault(parts[1], {})[parts[2]] = str(untagged(value) if isinstance(value, dict) else value)
    found = {}
    for row in rows.values():
        if "name" in row:
            names, problem = _manifest(row.get("manifest", ""))
            found[row["name"]] = IdLayer(row["name"], names, problem)
    return found


def manifest_files(metadata: Mapping[str, Any]) -> dict[str, str]:
    """The files beside a picture that its header names as manifests, by their last part, with the attribute each is
    meant for; layers that bring their names along want none."""
    found = {}
    for key, value in metadata.items():
        head, _, last = key.rpartition("/")
        if key.startswith(PREFIX) and last == "manif_file" and not metadata.get(f"{head}/manifest"):
            told = str(untagged(value) if isinstance(value, dict) else value)
            file = PurePosixPath(told.replace("\\", "/")).name
            if file:
                found[file] = f"{head}/manifest"
    return found


def manifest_in(content: bytes, where: str) -> str:
    """The text of a manifest file: names with eight hex digits each. Raises FormatError for what is none."""
    try:
        given = json.loads(content.decode("utf-8-sig"))
        sound = isinstance(given, dict) and all(int(value, 16) <= _MASK for value in given.values())
    except (ValueError, TypeError, RecursionError):
        sound = False
    if not sound:
        raise FormatError(
            "is no manifest of ids", where=where, remedy="give the JSON of names and hex numbers that came with it"
        )
    return json.dumps(given, separators=(",", ":"))


def with_manifests(metadata: Mapping[str, Any], texts: Mapping[str, str]) -> dict[str, Any]:
    """Header values with the manifests that were given in files, by their names, in the place of those files."""
    found = dict(metadata)
    for file, key in manifest_files(metadata).items():
        text = next((text for name, text in texts.items() if name.lower() == file.lower()), None)
        if text is not None:
            found[key] = tagged(text)
            found.pop(f"{key.rpartition('/')[0]}/manif_file")
    return found


def _manifest(text: str) -> tuple[dict[str, int], str]:
    if not text:
        return {}, ""
    try:
        given = json.loads(text)
        names = {str(name): int(value, 16) for name, value in given.items()}
    except (ValueError, AttributeError, TypeError):
        return {}, "its manifest cannot be read"
    wrong = sum(bits_of(name) != bits for name, bits in names.items())
    if wrong:
        return names, f"{wrong} of {len(names)} names in its manifest do not match their ids"
    return names, ""


def ranked(layer: str, channels: Iterable[str]) -> list[tuple[str, str]]:
    """Channels of id and coverage of a layer, rank by rank: its layers `layer00`, `layer01`... in order."""
    ends: dict[str, dict[str, str]] = {}
    for channel in channels:
        head, last = split_channel(channel)
        if last.lower() in _ENDS and head.startswith(layer) and head[len(layer) :].isdigit():
            ends.setdefault(head, {})[_ENDS[last.lower()]] = channel
    pairs = []
    for head in sorted(ends, key=lambda name: int(name[len(layer) :])):
        for number, share in (("R", "G"), ("B", "A")):
            if number in ends[head] and share in ends[head]:
                pairs.append((ends[head][number], ends[head][share]))
    return pairs


def is_ranked(channel: str, layers: Iterable[str]) -> bool:
    """Whether a channel belongs to a layer of hashed ids."""
    return any(any(channel in pair for pair in ranked(layer, [channel, *_beside(channel)])) for layer in layers)


def _beside(channel: str) -> list[str]:
    head = split_channel(channel)[0]
    return [f"{head}.{end}" for end in "RGBA"]

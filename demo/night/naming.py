"""Names as hashed ids in the open Cryptomatte convention, written independently of the reader in the core."""

from __future__ import annotations

import json
import struct
from collections.abc import Iterable

MASK = 0xFFFFFFFF


def murmur3(data: bytes) -> int:
    """MurmurHash3, the 32 bit variant for x86, seed 0."""
    state = 0
    whole = len(data) // 4 * 4
    for (word,) in struct.iter_unpack("<I", data[:whole]):
        state = ((_turned(state ^ _mixed(word), 13)) * 5 + 0xE6546B64) & MASK
    if rest := data[whole:]:
        state ^= _mixed(int.from_bytes(rest, "little"))
    state ^= len(data)
    state = ((state ^ state >> 16) * 0x85EBCA6B) & MASK
    state = ((state ^ state >> 13) * 0xC2B2AE35) & MASK
    return state ^ state >> 16


def _turned(value: int, by: int) -> int:
    return (value << by | value >> (32 - by)) & MASK


def _mixed(word: int) -> int:
    return (_turned(word * 0xCC9E2D51 & MASK, 15) * 0x1B873593) & MASK


def hashed_bits(name: str) -> int:
    """The 32 bits that stand for a name; those that are no ordinary float32 have one of them turned round."""
    bits = murmur3(name.encode())
    return bits ^ 1 << 23 if bits >> 23 & 255 in (0, 255) else bits


def hashed_value(name: str) -> float:
    """The same bits read as float32, as the planes hold them."""
    return float(struct.unpack("<f", struct.pack("<I", hashed_bits(name)))[0])


def hashed_names(layer: str, names: Iterable[str]) -> dict[str, str]:
    """Header attributes of a layer of hashed ids, with all of its names."""
    key = f"cryptomatte/{murmur3(layer.encode()):08x}"[:19]
    manifest = {name: f"{hashed_bits(name):08x}" for name in names}
    return {
        f"{key}/name": layer,
        f"{key}/hash": "MurmurHash3_32",
        f"{key}/conversion": "uint32_to_float32",
        f"{key}/manifest": json.dumps(manifest, separators=(",", ":")),
    }

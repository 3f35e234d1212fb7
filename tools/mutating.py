"""Making sound things unsound, by chance that can be repeated: JSON values and files."""

from __future__ import annotations

import copy
import random
from typing import Any

ODD: list[Any] = [
    None,
    True,
    False,
    0,
    -1,
    1,
    2**31,
    -(2**63),
    2**70,
    1e-320,
    -1e308,
    0.5,
    "",
    "a" * 300,
    "..",
    "../../etc/passwd",
    "%0999999999d.exr",
    "a.b.c.d",
    ".",
    "moth.",
    "möth",
    "月" * 70,
    "\u0000",
    "x\ny",
    "__class__",
    "{shot}{name}",
    "<script>",
    "'; --",
    [],
    {},
    [[]],
    [0] * 1000,
    {"keys": []},
    {"keys": [[1, 2], [1, 3]]},
    {"keys": [[0, 1e308], [1, -1e308]]},
    {"from": "moth"},
    {"a": {"b": {"c": {}}}},
]


def places(data: Any, path: tuple[Any, ...] = ()) -> list[tuple[Any, ...]]:
    """Where something stands in a JSON value, by the keys that lead there."""
    found = [path] if path else []
    pairs = data.items() if isinstance(data, dict) else enumerate(data) if isinstance(data, list) else ()
    for key, value in pairs:
        found += places(value, (*path, key))
    return found


def mutated(data: Any, chance: random.Random) -> Any:
    """The value with one to four of its places changed, taken out, doubled, renamed or exchanged."""
    data = copy.deepcopy(data)
    for _ in range(chance.choice((1, 1, 1, 2, 4))):
        where = places(data)
        if not where:
            return chance.choice(ODD)
        *path, last = chance.choice(where)
        holder = data
        for key in path:
            holder = holder[key]
        match chance.randrange(6):
            case 0 | 1:
                holder[last] = copy.deepcopy(chance.choice(ODD))
            case 2:
                del holder[last]
            case 3 if isinstance(holder, list):
                holder.insert(last, copy.deepcopy(holder[last]))
            case 3 | 4 if isinstance(holder, dict):
                holder[str(chance.choice(ODD))[:80]] = holder.pop(last)
            case _:
                other = chance.choice(where)
                value: Any = data
                try:
                    for key in other:
                        value = value[key]
                except (KeyError, IndexError, TypeError):
                    value = chance.choice(ODD)
                holder[last] = copy.deepcopy(value)
    return data


def damaged(content: bytes, chance: random.Random) -> bytes:
    """A file cut off, overwritten in places, doubled in part, or with numbers in its head changed."""
    found = bytearray(content)
    for _ in range(chance.choice((1, 1, 2, 5))):
        if not found:
            break
        at = chance.randrange(len(found))
        if chance.random() < 0.6:
            at = chance.randrange(min(len(found), 600))
        match chance.randrange(7):
            case 0:
                found = found[:at]
            case 1:
                found[at] = chance.randrange(256)
            case 2:
                size = chance.choice((1, 2, 4, 8))
                word = chance.choice((0, 1, 2 ** (8 * size) - 1, 2 ** (8 * size - 1), chance.getrandbits(8 * size)))
                found[at : at + size] = word.to_bytes(size, chance.choice(("little", "big")))
            case 3:
                found[at:at] = bytes(chance.getrandbits(8) for _ in range(chance.choice((1, 16, 300))))
            case 4:
                found[at:at] = found[at : at + chance.choice((4, 64, 4096))]
            case 5:
                del found[at : at + chance.choice((1, 4, 64))]
            case _:
                found[at] ^= 1 << chance.randrange(8)
    return bytes(found)

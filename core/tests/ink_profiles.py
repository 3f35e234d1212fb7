"""Ink profiles made for tests: a press whose colours have a formula.

    colour of C, M, Y, K in linear sRGB = product over the inks of 1 - ink (1 - what passes through full ink)

Laid out by ICC.1:2001-04 (version 2): `mft2` tables from ink to Lab and back.
"""

from __future__ import annotations

import struct

import numpy as np
from numpy.typing import NDArray

Colours = NDArray[np.float64]

THROUGH = np.array([[0.05, 0.45, 0.75], [0.60, 0.05, 0.20], [0.85, 0.75, 0.06], [0.03, 0.03, 0.03]])
"""What passes through full cyan, magenta, yellow and black, in linear sRGB."""
WHITE = np.array([0.9642, 1.0, 0.8249])
"""D50."""
TO_XYZ = np.array(
    [[0.4360747, 0.3850649, 0.1430804], [0.2225045, 0.7168786, 0.0606169], [0.0139322, 0.0971045, 0.7141733]]
)
"""Linear sRGB to XYZ, adapted to D50 by Bradford's matrix."""
GRID, BACK = 9, 25


def printed(inks: Colours) -> Colours:
    """Linear sRGB of C, M, Y, K (... x 4, 1 = full ink)."""
    passing: Colours = (1 - inks[..., None] * (1 - THROUGH)).prod(axis=-2)
    return passing


def _lab(linear: Colours) -> Colours:
    ratio = linear @ TO_XYZ.T / (TO_XYZ.sum(axis=1))
    f = np.where(ratio > (6 / 29) ** 3, np.cbrt(ratio), ratio * (29 / 6) ** 2 / 3 + 4 / 29)
    return np.stack([116 * f[..., 1] - 16, 500 * (f[..., 0] - f[..., 1]), 200 * (f[..., 1] - f[..., 2])], axis=-1)


def _linear(lab: Colours) -> Colours:
    y = (lab[..., 0] + 16) / 116
    f = np.stack([y + lab[..., 1] / 500, y, y - lab[..., 2] / 200], axis=-1)
    ratio = np.where(f > 6 / 29, f**3, 3 * (6 / 29) ** 2 * (f - 4 / 29))
    return ratio * TO_XYZ.sum(axis=1) @ np.linalg.inv(TO_XYZ).T


def _separated(linear: Colours) -> Colours:
    """Cyan, magenta and yellow that print a colour, no black, by Newton's method; held within what can be printed."""
    inks = np.full(linear.shape, 0.5)
    through = THROUGH[:3]
    for _ in range(60):
        factors = 1 - inks[..., None] * (1 - through)
        error = factors.prod(axis=-2) - linear
        slopes = np.stack(
            [-(1 - through[ink]) * np.delete(factors, ink, axis=-2).prod(axis=-2) for ink in range(3)],
            axis=-1,
        )
        step = np.linalg.solve(slopes + 1e-9 * np.eye(3), error[..., None])[..., 0]
        inks = np.clip(inks - np.clip(step, -0.3, 0.3), 0, 1)
    return np.concatenate([inks, np.zeros((*inks.shape[:-1], 1))], axis=-1)


def _table(values: Colours, inputs: int, grid: int) -> bytes:
    """An `mft2` tag of a grid of values in 0..1."""
    outputs = values.shape[-1]
    head = b"mft2" + struct.pack(">I4B", 0, inputs, outputs, grid, 0)
    identity = b"".join(struct.pack(">i", round(value * 65536)) for value in np.eye(3).ravel())
    straight = struct.pack(">2H", 0, 65535)
    codes = np.clip(np.floor(values * 65535 + 0.5), 0, 65535).astype(">u2").tobytes()
    return head + identity + struct.pack(">2H", 2, 2) + straight * inputs + codes + straight * outputs


def _text(kind: bytes, text: str) -> bytes:
    if kind == b"desc":
        return b"desc" + struct.pack(">2I", 0, len(text) + 1) + text.encode() + b"\0" + bytes(79)
    return kind + bytes(4) + text.encode() + b"\0"


def _mesh(grid: int, axes: int) -> Colours:
    steps = np.linspace(0, 1, grid)
    return np.stack(np.meshgrid(*[steps] * axes, indexing="ij"), axis=-1)


def press(name: str = "Night press", space: bytes = b"CMYK", *, back: bool = True) -> bytes:
    """The bytes of the profile; without its tables from colour to ink where `back` is not set."""
    # 16 bit Lab of version 2: L 100 is 0xFF00, a and b 0 are 0x8000.
    lab = _lab(printed(_mesh(GRID, 4)))
    to_lab = (
        np.stack([lab[..., 0] / 100, (lab[..., 1] + 128) / 255, (lab[..., 2] + 128) / 255], axis=-1) * 65280 / 65535
    )
    unit = _mesh(BACK, 3) * 65535 / 65280
    there = np.stack([unit[..., 0] * 100, unit[..., 1] * 255 - 128, unit[..., 2] * 255 - 128], axis=-1)
    tags = {
        b"desc": _text(b"desc", name),
        b"cprt": _text(b"text", "made for tests"),
        b"wtpt": b"XYZ " + bytes(4) + struct.pack(">3i", *(round(value * 65536) for value in WHITE)),
        b"A2B0": _table(to_lab, 4, GRID),
    }
    shared = {b"A2B1": b"A2B0"}
    if back:
        tags[b"B2A0"] = _table(_separated(_linear(there)), 3, BACK)
        shared[b"B2A1"] = b"B2A0"
    body, places = b"", {}
    start = 128 + 4 + 12 * (len(tags) + len(shared))
    for tag, data in tags.items():
        places[tag] = (start + len(body), len(data))
        body += data + bytes(-len(data) % 4)
    places |= {tag: places[of] for tag, of in shared.items()}
    table = struct.pack(">I", len(places)) + b"".join(tag + struct.pack(">2I", *at) for tag, at in places.items())
    header = struct.pack(
        ">I4sI4s4s4s6H4s4sI4s4sQI3i4s44x",
        128 + len(table) + len(body),
        bytes(4),
        0x02400000,
        b"prtr",
        space,
        b"Lab ",
        *(2026, 11, 25, 0, 0, 0),
        b"acsp",
        bytes(4),
        0,
        bytes(4),
        bytes(4),
        0,
        1,
        *(round(value * 65536) for value in WHITE),
        bytes(4),
    )
    return header + table + body

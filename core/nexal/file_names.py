"""Names of files that every system takes."""

from __future__ import annotations

import re
from collections.abc import Callable

LONGEST = 150
"""Bytes, as disks count them."""


def plain(text: str) -> str:
    """A text as part of a file name: letters, digits, `_`, `.`, `-` and blanks, no folder, its last 150 bytes."""
    name = re.sub(r"[^\w.\- ]", "_", text).strip(". ")
    return name.encode()[-LONGEST:].decode(errors="ignore").strip(". ")


def free(stem: str, suffix: str, taken: Callable[[str], bool]) -> str:
    """`stem` and `suffix`, with a number between them where that name is taken."""
    number, name = 2, f"{stem}{suffix}"
    while taken(name):
        name = f"{stem}_{number}{suffix}"
        number += 1
    return name

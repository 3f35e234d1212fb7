"""What a layer is, by its name and its channels: light, colour, alpha, depth, position, normal, ids..."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass

from nexal.picture import is_alpha, split_channel

COLOUR_ROLES = frozenset({"colour", "light"})

_BY_WORD: tuple[tuple[str, str], ...] = (
    ("depth", r"^z$|^depth|depth$|^zdepth|^distance$"),
    ("position", r"^p$|^pos(ition)?$|position|^pworld$|^world$"),
    ("normal", r"^n$|normals?$|^nrm$"),
    ("id", r"ids?$|^object$|^matid|cryptomatte|crypto"),
    ("coverage", r"^cov(erage)?$"),
    ("motion", r"^motion|velocity|^mv$|vector$"),
    ("uv", r"^uvs?$|^st$|texcoord"),
    ("mask", r"mask|matte|^occlusion$|^ao$"),
    (
        "light",
        r"light|^key$|^fill$|^rim$|lantern|glow|emission|diffuse|specular|reflect|refract|direct|indirect|moon|sky",
    ),
)
_RGB = frozenset("RGB")


@dataclass(frozen=True)
class Role:
    """A guess with its reason."""

    role: str
    reason: str


def role_of(layer: str, channels: Iterable[str], sample_types: Iterable[str]) -> Role:
    """Role of a layer from its name (the deepest segment that says something first), channel names and types."""
    last = [split_channel(name)[1] for name in channels]
    for segment in reversed(layer.lower().split(".")) if layer else ():
        words = re.sub(r"[^a-z]+$", "", segment)
        for role, pattern in _BY_WORD:
            if re.search(pattern, words):
                return Role(role, f"the name '{segment}'")
    if set(sample_types) <= {"uint"}:
        return Role("id", "32 bit whole numbers")
    if {name.upper() for name in last} == set("CMYK"):
        return Role("ink", "channels C, M, Y, K")
    if all(is_alpha(name) for name in last):
        return Role("alpha", f"the name '{last[0]}'")
    if {name.upper() for name in last} >= _RGB:
        return Role("colour", "channels R, G, B")
    last = [name for name in last if not is_alpha(name)]
    if len(last) == 1:
        for role, pattern in _BY_WORD:
            if re.search(pattern, last[0].lower()):
                return Role(role, f"the name '{last[0]}'")
        if last[0].upper() in ("Y", "R", "G", "B"):
            return Role("colour", f"the name '{last[0]}'")
    if set(last) == {"X", "Y", "Z"}:
        return Role("position", "channels X, Y, Z")
    if {name.lower() for name in last} == {"u", "v"}:
        return Role("uv", "channels u, v")
    return Role("unknown", "nothing in the name says")


def role_of_channel(name: str, layer_role: str, sample_type: str) -> str:
    """Role of one channel inside a layer: alpha stands out, ids are whole numbers, lone data names win at the top."""
    last = split_channel(name)[1]
    if is_alpha(name):
        return "alpha"
    if sample_type == "uint":
        return "id"
    if not split_channel(name)[0] and layer_role in ("colour", "unknown") and last.upper() not in ("R", "G", "B", "Y"):
        return role_of("", [name], [sample_type]).role
    return layer_role

"""The operations, one class a row, one family a module. A family is loaded when one of its operations is asked for: to
load all of them is a fifth of what a command takes that makes one still."""

from importlib import import_module

from nexal.errors import RecipeError, nearest
from nexal.operations.base import Operation, PointOperation, Port, Scene, Settings, parse_settings, registered

__all__ = [
    "FAMILIES",
    "Operation",
    "PointOperation",
    "Port",
    "Scene",
    "Settings",
    "catalogue",
    "find",
    "parse_settings",
]

FAMILIES = {
    "channels": ("route", "copy_channel", "cross", "arithmetic", "weigh", "invert", "clamp"),
    "combining": ("logic",),
    "depths": ("depth_range", "depth_unit", "depth_edges", "depth_slice"),
    "keying": ("screen_pull", "hue_pull", "luma_pull", "difference_pull"),
    "defocusing": ("defocus",),
    "edges": ("attach_alpha", "premultiply", "unpremultiply", "stack"),
    "formulas": ("formula",),
    "moving": ("place",),
    "resizing": ("resize",),
    "framing": ("mirror", "cut_window", "fit_to"),
    "neighbourhood": ("blur", "sharpen"),
    "fringes": ("clear_backing", "edge_melt", "bleed", "recover_colour"),
    "geometry": ("position_from_depth", "depth_from_position", "normals_from_position"),
    "grading": ("grade", "despill"),
    "ids": ("id_pick",),
    "ink": ("ink_split", "ink_join"),
    "making": ("constant", "ramp", "noise"),
    "painting": ("touch_up",),
    "marking": ("mark_solve",),
    "mattes": ("stretch", "threshold", "grow", "despeckle"),
    "packing": ("bay", "pack"),
    "passes": ("sum_passes", "residual"),
    "rebuilding": ("noise_residual",),
    "refining": ("fine_edge",),
    "space": ("space_matte", "fog"),
    "relighting": ("relight",),
    "shapes": ("shape",),
    "shipping": ("mip", "blocks"),
    "solving": ("denoise", "screen_plate", "screen_solve"),
}
"""The operations of each family, in the order in which they are told of."""
_FAMILY = {name: family for family, names in FAMILIES.items() for name in names}


def find(name: str) -> Operation:
    """The operation of that name. Raises RecipeError with the nearest names."""
    if name not in _FAMILY:
        raise RecipeError(f"there is no operation '{name}'", remedy=nearest(name, _FAMILY))
    import_module(f"{__name__}.{_FAMILY[name]}")
    return registered()[name]


def catalogue() -> dict[str, Operation]:
    """All operations by their names. Written out, since a version of results follows what a module imports."""
    from nexal.operations import (  # noqa: F401
        channels,
        combining,
        defocusing,
        depths,
        edges,
        formulas,
        framing,
        fringes,
        geometry,
        grading,
        ids,
        ink,
        keying,
        making,
        marking,
        mattes,
        moving,
        neighbourhood,
        packing,
        painting,
        passes,
        rebuilding,
        refining,
        relighting,
        resizing,
        shapes,
        shipping,
        solving,
        space,
    )

    return {name: registered()[name] for name in _FAMILY}

"""Mattes from the ids of a render."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from nexal.errors import RecipeError, SettingError, nearest
from nexal.hashed_ids import IdLayer, bits_of, id_layers, number_of, ranked
from nexal.operations.base import Operation, Port, Scene, Settings, register, setting
from nexal.operations.depths import COVERAGE
from nexal.picture import PLANE_NAME, Description, Plane, Window, inside

Pick = int | float | str
MOST_PICKED = 4096


class IdPickSettings(Settings):
    pick: list[Pick] = setting(
        list, "Numbers; names or eight hex digits where ids are hashes of names", widget="ids", max_length=MOST_PICKED
    )
    layer: str = setting("", "Layer of hashed ids; the first where none is named")
    feather: float = setting(
        0.0, "Sigma that the matte is softened by", ge=0, le=200, low=0, high=20, step=0.1, unit="px"
    )
    invert: bool = setting(False, "All but what is picked")


def layer_of(description: Description, wanted: str) -> IdLayer:
    """The layer of hashed ids of a picture: the one named, else the first. Raises RecipeError or SettingError."""
    known = id_layers(description.metadata)
    # Without a header, channels that are called like one tell.
    for channel in description.channels:
        head = channel.rpartition(".")[0].rstrip("0123456789")
        if head and head not in known and len(ranked(head, description.channels)) > 1:
            known[head] = IdLayer(head)
    usable = {name: layer for name, layer in known.items() if ranked(name, description.channels)}
    if not usable:
        raise RecipeError(
            "holds no layer of hashed ids",
            where="port 'ids'",
            remedy="feed the whole source, or a single channel of whole numbers",
        )
    if not wanted:
        return next(iter(usable.values()))
    if wanted not in usable:
        raise SettingError(
            f"there is no layer of ids '{wanted}'", where="setting 'layer'", remedy=nearest(wanted, usable)
        )
    return usable[wanted]


def picked_bits(pick: Sequence[Pick], layer: IdLayer) -> list[int]:
    """The bits of what is picked: names, or hex digits of an id. Raises SettingError for names that are not there."""
    found = []
    for entry in pick:
        text = str(entry)
        if text in layer.names:
            found.append(layer.names[text])
        elif len(text) in (8, 10) and _is_hex(text):
            found.append(int(text, 16))
        elif layer.names:
            raise SettingError(
                f"there is no '{text}' among its names", where="setting 'pick'", remedy=nearest(text, layer.names)
            )
        else:
            found.append(bits_of(text))
    return found


def _is_hex(text: str) -> bool:
    try:
        return int(text, 16) >= 0
    except ValueError:
        return False


@register
class IdPick(Operation):
    """The coverage of picked ids: by number, or by name where ids are hashes of names.

    plane of numbers H x W(, coverage) -> plane of data: 1 where |v - id| < 0.5 of one that is picked, times `coverage`.
    picture with layers of hashed ids (Cryptomatte convention) -> the sum of the coverage of those picked over all
    ranks, held at 1. `feather`: softened by a Gaussian afterwards. `invert`: 1 minus all of it. Labels are never mixed:
    at smaller scales each pixel is one of the full picture.
    Raises RecipeError where ids that are hashes were stored as halves, which destroys them; SettingError for names that
    the file's manifest does not have.
    """

    name = "id_pick"
    family = "space"
    makes = "plane"
    needs = "object matte, material matte, cryptomatte, select by name"
    ports = (Port("ids", "any", "A channel of numbers, or a source with hashed ids"), COVERAGE)
    exact = ("ids",)
    nanoseconds = 30
    Settings = IdPickSettings

    def describe(self, inputs: Mapping[str, Description], settings: IdPickSettings) -> Description:
        ids = inputs["ids"]
        if _is_numbers(ids):
            wrong = [entry for entry in settings.pick if isinstance(entry, str) and not _is_number(entry)]
            if wrong:
                raise SettingError(
                    f"'{wrong[0]}' is no number, and these ids are numbers without names",
                    where="setting 'pick'",
                    remedy="pick by number, or feed a source with hashed ids",
                )
        else:
            layer = layer_of(ids, settings.layer)
            for number, _ in ranked(layer.name, ids.channels):
                if ids.trait(number).samples == "half":
                    raise RecipeError(
                        f"the ids in '{number}' were stored as halves, which can't hold them",
                        where="port 'ids'",
                        remedy="write these channels as 32 bit float, uncompressed or with a lossless compression",
                    )
            picked_bits(settings.pick, layer)
        return Description((), ids.display, ids.window, origin=ids.origin).as_plane(data=True)

    def wants(
        self, channels: object, inputs: Mapping[str, Description], settings: IdPickSettings
    ) -> dict[str, tuple[str, ...]]:
        ids = inputs["ids"]
        wanted = {"coverage": inputs["coverage"].channels} if "coverage" in inputs else {}
        if _is_numbers(ids):
            return wanted | {"ids": ids.channels}
        pairs = ranked(layer_of(ids, settings.layer).name, ids.channels)
        return wanted | {"ids": tuple(name for pair in pairs for name in pair)}

    def input_region(self, port: str, region: Window, scene: Scene, settings: IdPickSettings) -> Window:
        return region.grow(_reach(settings, scene))

    def effort(self, settings: IdPickSettings, scene: Scene) -> float:
        return self.nanoseconds + 2 * (2 * _reach(settings, scene) + 1)

    def compute(
        self, inputs: Mapping[str, Mapping[str, Plane]], channels: Sequence[str], settings: IdPickSettings, scene: Scene
    ) -> Mapping[str, Plane]:
        from nexal.kernels.filters import blur, gaussian_weights
        from nexal.kernels.picking import number_cover, ranked_cover

        ids, region = scene.descriptions["ids"], self.input_region("ids", scene.region, scene, settings)
        planes: Mapping[str, Any] = inputs["ids"]
        if _is_numbers(ids):
            numbers = np.array(sorted(float(entry) for entry in settings.pick), np.float64)
            matte = number_cover(planes[ids.channels[0]], numbers)
            # Outside of the data window there is no object, not that of number 0.
            matte = matte * inside(ids.window.scaled(scene.scale), region)
        else:
            layer = layer_of(ids, settings.layer)
            wanted = np.array(sorted(number_of(bits) for bits in picked_bits(settings.pick, layer)), np.float64)
            pairs = ranked(layer.name, ids.channels)
            matte = ranked_cover([(planes[number], planes[share]) for number, share in pairs], wanted)
        if "coverage" in inputs:
            matte = matte * inputs["coverage"][PLANE_NAME]
        sigma = scene.pixels(settings.feather)
        if sigma > 0:
            matte = blur(matte, gaussian_weights(sigma))[scene.region.within(region)]
        return {PLANE_NAME: np.float32(1) - matte if settings.invert else matte}


def _reach(settings: IdPickSettings, scene: Scene) -> int:
    """How far the feather looks, in pixels of the scene."""
    from nexal.kernels.filters import gaussian_reach

    return gaussian_reach(scene.pixels(settings.feather))


def _is_numbers(ids: Description) -> bool:
    """Whether it is one channel of numbers, by itself or as a picture of nothing else."""
    return ids.is_plane or len(ids.channels) == 1


def _is_number(text: str) -> bool:
    try:
        float(text)
    except ValueError:
        return False
    return True

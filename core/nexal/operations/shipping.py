"""What becomes of a texture on its way to the screen: smaller mip levels, compression in blocks."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from nexal.operations.base import Operation, Port, Scene, Settings, register, setting
from nexal.picture import ROLE_MASK, Description, Plane, Trait, Window, split_channel

ROWS_AT_ONCE = 256
"""Rows of packed blocks between two looks at whether they are still wanted: a whole number of blocks."""


class MipSettings(Settings):
    level: int = setting(1, "How often width and height are halved", ge=0, le=12, low=0, high=6, step=1)


@register
class Mip(Operation):
    """A smaller mip level, magnified again to the texture's own size, so that both can be compared.

    plane or picture -> the same. Every block of 2**level x 2**level pixels from the top left corner on is its mean, of
    the values as they are stored for data and of scene-linear ones for colour; alpha does not weigh in, as mip levels
    are made channel by channel. Channels of ids too: that is what would happen to them.
    """

    name = "mip"
    family = "packing"
    makes = "same"
    needs = "mip level, smaller texture from afar, bleeding between neighbours"
    ports = (Port("from", "any", "The texture"),)
    Settings = MipSettings

    def describe(self, inputs: Mapping[str, Description], settings: MipSettings) -> Description:
        return inputs["from"]

    def trait(
        self, channel: str, inputs: Mapping[str, Description], settings: MipSettings, description: Description
    ) -> Trait:
        # Means of ids are ids no more.
        return ROLE_MASK if inputs["from"].trait(channel).is_label else inputs["from"].trait(channel)

    @staticmethod
    def _edge(scene: Scene, settings: MipSettings) -> int:
        """Side of a block in pixels of the scene's scale; a proxy is a mean already."""
        return max(1, 2**settings.level // scene.scale.denominator)

    def input_region(self, port: str, region: Window, scene: Scene, settings: MipSettings) -> Window:
        edge = self._edge(scene, settings)
        display = scene.descriptions["from"].display.scaled(scene.scale)
        x, y = region.x // edge * edge, region.y // edge * edge
        right, bottom = -(-region.right // edge) * edge, -(-region.bottom // edge) * edge
        blocks = Window(x, y, right - x, bottom - y)
        inside = blocks.intersect(display)
        return inside if inside.contains(region) else blocks

    def compute(
        self, inputs: Mapping[str, Mapping[str, Plane]], channels: Sequence[str], settings: MipSettings, scene: Scene
    ) -> Mapping[str, Plane]:
        from nexal.kernels.blocks import block_means

        edge = self._edge(scene, settings)
        reach = self.input_region("from", scene.region, scene, settings)
        cut = scene.region.within(reach)
        offset = (reach.y % edge, reach.x % edge)
        planes = inputs["from"]
        return {
            name: planes[name][cut] if edge == 1 else block_means(planes[name], edge, offset)[cut] for name in channels
        }


@register
class Blocks(Operation):
    """A texture as it comes out of compression in blocks of 4 x 4 texels with two endpoints.

    plane or picture -> the same. Values are held in 0..1. R, G and B of a layer share a line of four colours between
    two endpoints of 5:6:5 bits in each block (BC1), so that a channel can pull at its neighbours; every other channel
    has eight values between two of 8 bits for itself (BC4). Computed in full resolution, whatever is looked at.
    References: Khronos, *Data Format Specification* 1.3, S3TC and RGTC.
    """

    name = "blocks"
    family = "packing"
    makes = "same"
    needs = "block compression preview, texture compression artefacts, bleeding between channels"
    ports = (Port("from", "any", "The texture"),)
    slow = True
    whole = True
    nanoseconds = 60
    scratch_bytes = 6

    def describe(self, inputs: Mapping[str, Description], settings: Settings) -> Description:
        return inputs["from"]

    @staticmethod
    def _triple(name: str, description: Description) -> tuple[str, ...]:
        """The channels that share their blocks with one: R, G and B of its layer, else itself alone."""
        layer, last = split_channel(name)
        prefix = f"{layer}." if layer else ""
        names = tuple(f"{prefix}{other}" for other in "RGB")
        return names if last in ("R", "G", "B") and all(other in description.channels for other in names) else (name,)

    def wants(
        self, channels: Sequence[str], inputs: Mapping[str, Description], settings: Settings
    ) -> dict[str, tuple[str, ...]]:
        given = inputs["from"]
        sharing = {other for name in channels for other in self._triple(name, given)}
        return {"from": tuple(name for name in given.channels if name in sharing)}

    def compute(
        self, inputs: Mapping[str, Mapping[str, Plane]], channels: Sequence[str], settings: Settings, scene: Scene
    ) -> Mapping[str, Plane]:
        from nexal.kernels.blocks import packed_rows

        given = scene.descriptions["from"]
        groups = list(dict.fromkeys(self._triple(name, given) for name in channels))
        height = scene.region.height
        result: dict[str, Plane] = {}
        for index, names in enumerate(groups):
            planes = np.stack([inputs["from"][name] for name in names])
            packed = np.empty_like(planes)
            for top in range(0, height, ROWS_AT_ONCE):
                scene.work.check()
                scene.work.report((index + top / height) / len(groups))
                packed_rows(planes, top, min(top + ROWS_AT_ONCE, height), packed)
            result |= dict(zip(names, packed, strict=True))
        return {name: result[name] for name in channels}

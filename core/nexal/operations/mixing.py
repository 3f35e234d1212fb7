"""What averages neighbouring pixels: the operation gives the average of one plane, the rule is kept here."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from functools import partial
from typing import Any, ClassVar, final

from nexal.kernels.mixing import mixed, with_alphas
from nexal.operations.base import Operation, Scene
from nexal.picture import ALPHA_NAME, Alpha, Description, Plane, Trait, inside


class MixingOperation(Operation):
    """An operation that averages neighbours of one input (`mixes`).

    A subclass says how one plane is averaged, and how single samples of it are taken, and never sees which plane it
    is: colour comes as premultiplied scene-linear light and goes back to the state it had, alpha as coverage, data
    that may be empty with what is empty left out, ids as single samples. See `kernels/mixing.py`.
    """

    mixes: ClassVar[str]

    def affects(self, channel: str, description: Description, settings: Any, scene: Scene) -> bool:
        """Whether a channel of the input is averaged at all; others are sampled singly, exactly."""
        return True

    def gains_alpha(self, description: Description) -> bool:
        """Whether the input, opaque so far, gets an alpha: because it is moved away from where it covered all."""
        return False

    def prepared(self, inputs: Mapping[str, Mapping[str, Plane]], settings: Any, scene: Scene) -> Any:
        """What is worth making once for all planes, of other inputs or of the alpha of the picture."""
        return None

    def average(self, plane: Plane, settings: Any, scene: Scene, prepared: Any) -> Plane:
        """The averaged plane over `scene.region`; linear. `plane` covers the `input_region` of the mixed input."""
        raise NotImplementedError

    def single(self, plane: Plane, settings: Any, scene: Scene) -> Plane:
        """Single samples of the plane over `scene.region`, in its own type."""
        raise NotImplementedError

    def finished(self, samples: Callable[[], Plane], averaged: Plane, settings: Any) -> Plane:
        """What becomes of a channel's single samples, made when asked for, and their average: the average, unless an
        operation says otherwise."""
        return averaged

    def beside(self, channels: Sequence[str], inputs: Mapping[str, Description], settings: Any) -> dict[str, Any]:
        """Channels wanted of the other inputs, and of the mixed one besides those that are averaged."""
        return {}

    @final
    def wants(
        self, channels: Sequence[str], inputs: Mapping[str, Description], settings: Any
    ) -> dict[str, tuple[str, ...]]:
        given = inputs[self.mixes]
        wanted = self.beside(channels, inputs, settings)
        mixes = with_alphas(
            [name for name in given.channels if name in (*channels, *wanted.get(self.mixes, ()))], given
        )
        # A picture that gets its alpha here is asked for nothing by the alpha alone.
        return wanted | ({self.mixes: mixes} if mixes else {})

    def trait(self, channel: str, inputs: Mapping[str, Description], settings: Any, description: Description) -> Trait:
        given = inputs[self.mixes]
        if channel not in given.channels:
            return super().trait(channel, inputs, settings, description)
        trait = given.trait(channel)
        return trait if trait.is_label else Trait(trait.role, trait.unit, "", trait.span)

    @final
    def compute(
        self, inputs: Mapping[str, Mapping[str, Plane]], channels: Sequence[str], settings: Any, scene: Scene
    ) -> Mapping[str, Plane]:
        given = scene.descriptions[self.mixes]
        planes = dict(inputs.get(self.mixes, {}))
        prepared = self.prepared(inputs, settings, scene)
        reach = self.input_region(self.mixes, scene.region, scene, settings)
        window = given.window.scaled(scene.scale)
        if self.gains_alpha(given):
            planes[ALPHA_NAME] = inside(window, reach)
            given = given.changed(channels=(*given.channels, ALPHA_NAME), alpha=Alpha.STRAIGHT)

        def single(plane: Plane) -> Plane:
            return self.single(plane, settings, scene)

        changed = [name for name in channels if self.affects(name, given, settings, scene)]
        staying = {
            alpha
            for name in changed
            if (alpha := given.alpha_of(name)) and not self.affects(alpha, given, settings, scene)
        }
        # Where there is something matters to what may be empty alone.
        asks = any(given.trait(name).may_be_empty for name in changed)
        result = mixed(
            planes,
            changed,
            given,
            lambda plane: self.average(plane, settings, scene, prepared),
            single,
            staying=staying,
            inside=inside(window, reach) if asks else None,
        )
        result = {name: self.finished(partial(single, planes[name]), plane, settings) for name, plane in result.items()}
        return result | {name: single(planes[name]) for name in channels if name not in result}

"""What an operation is: ports, settings, and how its result follows from its inputs."""

from __future__ import annotations

import copy
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from fractions import Fraction
from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from nexal.code_version import version_of
from nexal.errors import NexalError, RecipeError, SettingError
from nexal.faults import faults_of, worded
from nexal.kernels.mixing import with_alphas
from nexal.kernels.pointmath import Value, unpremultiplied, where
from nexal.keyed import Moved, rounded
from nexal.picture import ROLE_ALPHA, ROLE_COLOUR, ROLE_MASK, Alpha, Description, Plane, Trait, Window, is_alpha
from nexal.work import Work

Kind = Literal["plane", "picture", "any"]
Made = Literal["plane", "picture", "same"]
"""What a step makes as it is added: `same` what its first port is fed with."""
Domain = Literal["display", "scene"]
Channels = Mapping[str, Value]


_ROLES = {
    "depth": "depth",
    "position": "position",
    "normals": "normal",
    "ids": "id",
    **dict.fromkeys(("matte", "mattes", "alpha", "alpha_from", "coverage", "keep", "drop", "spared"), "matte"),
    **dict.fromkeys(("spill", "texture"), "made"),
}
"""What ports of these names are meant to be fed with."""


@dataclass(frozen=True, slots=True)
class Port:
    """An input: a plane, a picture, or either; with `many` a list of such, fed as `name.0`, `name.1` and so on.

    `role` says what feeds it by itself when a step is added. `depth`, `position`, `normal` and `id` stand for a channel
    or a layer of that role; `matte` for a matte, or a channel of alpha, coverage or a mask; `colour` for a picture with
    colour; `made` for what is made for it and nothing else; an empty one for anything of its kind. Where none is given,
    name and kind of the port say it.
    """

    name: str
    kind: Kind
    text: str = ""
    required: bool = True
    many: bool = False
    role: str | None = None

    @property
    def fed_with(self) -> str:
        """The role that holds for it."""
        if self.role is not None:
            return self.role
        by_name = _ROLES.get(self.name, "")
        if by_name and not (by_name == "matte" and self.kind != "plane"):
            return by_name
        return "colour" if self.kind == "picture" else ""


class Settings(BaseModel):
    """Base of every operation's settings; unknown names are refused."""

    # Built when first used: a recipe uses a few of them, and building all takes a third of a command's start.
    model_config = ConfigDict(extra="forbid", allow_inf_nan=False, defer_build=True)


def setting(default: Any, text: str, **hints: Any) -> Any:
    """A setting's default, text and hints for its control.

    `ge`, `le` are hard limits; `low`, `high` the ends of a slider; `step` its fine step; `unit` what stands behind
    the number; `widget` names a special control (colour, channels, matrix...); `beside` names the setting without
    which (at its default) this one does nothing.
    """
    limits = {name: hints.pop(name) for name in ("ge", "le", "gt", "lt", "max_length") if name in hints}
    factory = default if callable(default) else None
    extra = hints or None
    if factory:
        return Field(default_factory=factory, description=text, json_schema_extra=extra, **limits)
    return Field(default, description=text, json_schema_extra=extra, **limits)


@dataclass(frozen=True)
class Scene:
    """Where a computation takes place: frame, proxy scale, the region, its pixel centres in full-resolution pixels."""

    frame: int
    scale: Fraction
    region: Window
    descriptions: Mapping[str, Description] = field(default_factory=dict)
    work: Work = field(default_factory=Work)

    def pixels(self, length: float) -> float:
        """A length of full-resolution pixels, in pixels of this scale."""
        return length * float(self.scale)

    @property
    def x(self) -> Plane:
        step = 1 / float(self.scale)
        return ((np.arange(self.region.width, dtype=np.float32) + self.region.x + 0.5) * step)[None, :]

    @property
    def y(self) -> Plane:
        step = 1 / float(self.scale)
        return ((np.arange(self.region.height, dtype=np.float32) + self.region.y + 0.5) * step)[:, None]


@dataclass(frozen=True, slots=True)
class Size:
    """A size that an input is resampled to, and how: see the operation `resize`."""

    width: int
    height: int
    filter: str = "auto"
    overshoot: bool = True

    def fits(self, description: Description) -> bool:
        return (self.width, self.height) == (description.display.width, description.display.height)


class Operation:
    """One row of the operation table.

    A subclass names its ports and settings, describes its result, says which channels and region of its inputs it
    needs, and either expresses it point by point (`PointOperation`) or computes it over arrays.
    """

    name: ClassVar[str]
    family: ClassVar[str]
    needs: ClassVar[str] = ""
    ports: ClassVar[tuple[Port, ...]] = ()
    makes: ClassVar[Made] = "picture"
    free_ports: ClassVar[Kind | None] = None
    """Kind of further ports that a step may name as it likes; None where there are none."""
    exact: ClassVar[tuple[str, ...]] = ()
    """Ports whose ids come with all their digits, though the result holds none."""
    whole: ClassVar[bool] = False
    """Whether a part can only be had by computing all: the engine then computes the whole data window, and keeps it."""
    slow: ClassVar[bool] = False
    """Whether it takes so long that a server computes it in the background; it must look at `scene.work`."""
    roughly: ClassVar[bool] = False
    """Whether what a slow one makes of a proxy may be looked at until the true result is there."""
    nanoseconds: ClassVar[float] = 12.0
    scratch_bytes: ClassVar[float] = 8.0
    Settings: ClassVar[type[Settings]] = Settings

    @property
    def version(self) -> str:
        """Changes whenever the code of the operation, or anything that it uses, changes."""
        return version_of(type(self).__module__)

    def at_frame(self, settings: Any, frame: int) -> Any:
        """The settings with everything that is keyed inside of them as it is at a frame."""
        return settings

    def timed(self, settings: Any) -> bool:
        """Whether the result depends on the number of the frame beyond keyed settings."""
        return False

    def unfold(self, settings: Any) -> Sequence[Any]:
        """The settings as a series, each applied to the result of the one before (at the first port).

        Long lists of small changes are computed and kept in parts that way: a change of the last leaves the rest.
        """
        return (settings,)

    def references(self, settings: Any) -> dict[str, str]:
        """Further inputs that stand in the settings: a port name for each address."""
        return {}

    def referenced_kind(self, port: str) -> Kind:
        return "plane"

    def sizes(self, inputs: Mapping[str, Description], settings: Any) -> dict[str, Size]:
        """The inputs, by port, that are to be resampled before they come in, and to which size."""
        return {}

    def describe(self, inputs: Mapping[str, Description], settings: Any) -> Description:
        """Channels, windows and alpha state of the result. Raises SettingError or RecipeError."""
        raise NotImplementedError

    def wants(
        self, channels: Sequence[str], inputs: Mapping[str, Description], settings: Any
    ) -> dict[str, tuple[str, ...]]:
        """Channels of each input that the named channels of the result depend on."""
        return {
            port: description.channels
            if description.is_plane
            else tuple(name for name in description.channels if name in channels)
            for port, description in inputs.items()
        }

    def needed(
        self, channels: Sequence[str], inputs: Mapping[str, Description], settings: Any
    ) -> dict[str, tuple[str, ...]]:
        """What the engine fetches: what the operation wants, and what its kind needs beside."""
        return self.wants(channels, inputs, settings)

    def untouched(self, channel: str, inputs: Mapping[str, Description], settings: Any) -> tuple[str, str] | None:
        """Port and channel of an input that a channel of the result is, sample for sample; None where it is made anew.

        What comes through untouched all the way from a source is delivered in the source's own sample type.
        """
        return None

    def trait(self, channel: str, inputs: Mapping[str, Description], settings: Any, description: Description) -> Trait:
        """What a channel of the result holds; `description` is that of the result.

        What comes through untouched stays what it is; what is made anew is colour, alpha, or a matte, unless an
        operation says otherwise.
        """
        found = self.untouched(channel, inputs, settings)
        if found is not None:
            return inputs[found[0]].trait(found[1])
        if is_alpha(channel) and not description.is_plane:
            return ROLE_ALPHA
        return ROLE_MASK if channel in description.data else ROLE_COLOUR

    def input_region(self, port: str, region: Window, scene: Scene, settings: Any) -> Window:
        """Region of an input, at the scene's scale, that a region of the result depends on."""
        return region

    def effort(self, settings: Any, scene: Scene) -> float:
        """Nanoseconds of one core that a sample of the result takes, within a factor of two: measured by
        `benchmarks/costs.py`. Decides what is refused, cut up, or queued, never what comes out."""
        return self.nanoseconds

    def scratch(self, settings: Any, scene: Scene) -> float:
        """Bytes that computing takes for each sample of the result, besides inputs and result."""
        return self.scratch_bytes

    def compute(
        self, inputs: Mapping[str, Mapping[str, Plane]], channels: Sequence[str], settings: Any, scene: Scene
    ) -> Mapping[str, Plane]:
        """The named channels over `scene.region`. Each input covers its `input_region`, 0 outside its window."""
        raise NotImplementedError


class PointOperation(Operation):
    """An operation whose every pixel depends on the same pixel of its inputs alone."""

    judges: ClassVar[tuple[str, ...]] = ()
    """Ports whose colour is looked at by itself, without its alpha: premultiplied colour is divided by alpha before
    (where alpha > 0), and that of a premultiplied result multiplied again. All other ports get what is stored."""

    def needed(
        self, channels: Sequence[str], inputs: Mapping[str, Description], settings: Any
    ) -> dict[str, tuple[str, ...]]:
        wanted = self.wants(channels, inputs, settings)
        for port in self.judges:
            if port in wanted and inputs[port].alpha is Alpha.PREMULTIPLIED:
                wanted[port] = with_alphas(wanted[port], inputs[port])
        return wanted

    def applied(self, values: Mapping[str, Channels], settings: Any, scene: Scene) -> Channels:
        """What `express` makes of the values, given the colour that it judges."""
        judged = [
            port for port in self.judges if port in values and scene.descriptions[port].alpha is Alpha.PREMULTIPLIED
        ]
        if not judged:
            return self.express(values, settings, scene)
        straight = {port: _straight(values[port], scene.descriptions[port]) for port in judged}
        described = {port: scene.descriptions[port].changed(alpha=Alpha.STRAIGHT) for port in judged}
        inner = replace(scene, descriptions={**scene.descriptions, **described})
        made = self.express({**values, **straight}, settings, inner)
        given, before = scene.descriptions[judged[0]], values[judged[0]]
        result = dict(made)
        for name in made:
            alpha = given.alpha_of(name) if name in given.colour else None
            if alpha is not None and name in before:
                result[name] = where(before[alpha] > 0, made[name] * before[alpha], before[name])
        return result

    def express(self, values: Mapping[str, Channels], settings: Any, scene: Scene) -> Channels:
        """Channels of the result; `scene.descriptions` holds those of the inputs, by port."""
        raise NotImplementedError


_REGISTRY: dict[str, Operation] = {}


def register(operation: type[Operation]) -> type[Operation]:
    """Class decorator that puts an operation into the catalogue; `operations.FAMILIES` names it too."""
    _REGISTRY[operation.name] = operation()
    return operation


def registered() -> Mapping[str, Operation]:
    """The operations of the families that were loaded; see `operations.find` and `operations.catalogue`."""
    return _REGISTRY


def parse_settings(operation: Operation, values: Mapping[str, Any]) -> Settings:
    """Checked settings. Raises SettingError that names the setting and what it accepts, and tells of further faults."""
    try:
        return operation.Settings.model_validate(dict(values))
    except ValidationError as error:
        whole = _whole_numbers(values, error)
        if whole is not None:
            return parse_settings(operation, whole)
        told: list[NexalError] = []
        for fault in faults_of(error, operation.Settings):
            message = fault.message
            if len(fault.path) == 1 and message.endswith("is not a known key"):
                message = f"'{operation.name}' has no setting '{fault.path[0]}'"
            told.append(SettingError(message, where=f"setting '{worded(fault.path)}'", remedy=fault.remedy))
        raise told[0].with_others(told[1:]) from None


def _whole_numbers(values: Mapping[str, Any], error: ValidationError) -> dict[str, Any] | None:
    """The values with those that move and have to be whole numbers rounded; None where there are none."""
    found = [
        row["loc"]
        for row in error.errors(include_url=False)
        if row["type"] in ("int_from_float", "int_type") and isinstance(row["input"], Moved)
    ]
    if not found:
        return None
    result = copy.deepcopy(dict(values))
    try:
        for place in found:
            inner: Any = result
            for part in place[:-1]:
                inner = inner[part]
            inner[place[-1]] = rounded(inner[place[-1]])
    except (KeyError, IndexError, TypeError):
        # A place in a choice of several kinds of value is told with the kind in its way.
        return None
    return result


def no_alpha(port: str) -> RecipeError:
    """The fault of a picture without alpha at a port that needs one."""
    return RecipeError("the picture has no alpha", where=f"port '{port}'", remedy="give it one with attach_alpha first")


def _straight(values: Channels, description: Description) -> Channels:
    result = dict(values)
    for name in values:
        alpha = description.alpha_of(name) if name in description.colour else None
        if alpha is not None:
            result[name] = unpremultiplied(values[name], values[alpha])
    return result


def joined_window(inputs: Mapping[str, Description]) -> Window:
    """The window that holds those of all inputs."""
    window = Window(0, 0, 0, 0)
    for description in inputs.values():
        window = window.union(description.window)
    return window


def without_alpha(description: Description) -> Description:
    """The description with an alpha state that fits: none where there is no alpha channel."""
    if description.has_alpha:
        return description
    return description.changed(alpha=Alpha.NONE)

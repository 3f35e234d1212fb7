"""The formula operation."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
from pydantic import field_validator

from nexal.errors import SettingError, nearest
from nexal.kernels.formulas import Formula, FormulaError, parse_formula
from nexal.kernels.pointmath import Value, decode
from nexal.operations.base import Channels, Domain, PointOperation, Scene, Settings, joined_window, register, setting
from nexal.operations.channels import in_domain
from nexal.picture import PLANE_NAME, Alpha, Description, is_alpha, named_as_colour

PLACES = ("x", "y", "width", "height", "frame")


class FormulaSettings(Settings):
    expressions: dict[str, str] = setting(
        lambda: {"Y": "0.5"}, "A formula for each channel of the result", widget="expressions"
    )
    domain: Domain = setting("scene", "Compute with light (scene) or with colour as it is seen (display)")

    @field_validator("expressions")
    @classmethod
    def _understood(cls, value: dict[str, str]) -> dict[str, str]:
        if not value:
            raise ValueError("at least one channel is wanted")
        for name in value:
            if not name or name != name.strip() or any(not part for part in name.split(".")):
                raise ValueError(f"'{name}' is not a channel name")
        return value

    def parsed(self) -> dict[str, Formula]:
        """Raises SettingError at the channel and the character."""
        found = {}
        for name, text in self.expressions.items():
            try:
                found[name] = parse_formula(text)
            except FormulaError as error:
                raise fault(name, text, error.position, error.message, error.remedy) from None
        return found


def fault(channel: str, text: str, position: int, message: str, remedy: str) -> SettingError:
    """An error that marks its place in the formula."""
    start = max(0, position - 20)
    shown = f"{text[start:position]}▸{text[position : position + 20]}"
    return SettingError(
        f"{message}, at character {position + 1}: {shown}", where=f"setting 'expressions.{channel}'", remedy=remedy
    )


@register
class FormulaOperation(PointOperation):
    """Compute channels by formulas.

    any ports, of any name -> plane of data where one formula is given and its channel is not R, G, B or A, else
    picture. A formula is an expression over the channels of its ports: `a.r` (R of port a, letter case aside, or the
    full name in the file), `depth` (a port that holds a plane), `x`, `y` (pixel centres in full-resolution pixels),
    `width`, `height` (of the display window), `frame`; with + - * / ** and unary -, comparisons (1 or 0),
    `p if c else q`, and abs min max clamp(v, low, high) mix(a, b, t) step(edge, v) smoothstep(low, high, v) sqrt exp
    log sin cos pow. Windows: those of all ports; outside its own a channel is 0. In the display domain colour is
    encoded before, and channels R, G, B of a picture are decoded after.
    Raises SettingError that marks the place of what is not understood.
    """

    name = "formula"
    family = "channels"
    makes = "plane"
    needs = "expression, own calculation, mathematics on channels"
    free_ports = "any"
    Settings = FormulaSettings

    def _reads(
        self, formulas: Mapping[str, Formula], inputs: Mapping[str, Description], settings: FormulaSettings
    ) -> dict[str, dict[str, tuple[str, str]]]:
        """For each formula, the port and channel behind every name that is not a place."""
        result: dict[str, dict[str, tuple[str, str]]] = {}
        for channel, formula in formulas.items():
            result[channel] = {}
            for name, position in formula.names.items():
                port, _, rest = name.partition(".")
                if port not in inputs and name in PLACES:
                    continue
                text = settings.expressions[channel]
                if port not in inputs:
                    known = [*inputs, *PLACES]
                    raise fault(channel, text, position, f"there is no '{port}'", nearest(port, known))
                found = self._channel(inputs[port], rest)
                if found is None:
                    names = [f"{port}.{own.lower()}" for own in inputs[port].channels]
                    message = f"port '{port}' has no '{rest}'" if rest else f"port '{port}' is a picture"
                    raise fault(channel, text, position, message, nearest(name, names))
                result[channel][name] = (port, found)
        return result

    @staticmethod
    def _channel(description: Description, rest: str) -> str | None:
        if not rest:
            return description.channels[0] if len(description.channels) == 1 else None
        exact = [name for name in description.channels if name == rest]
        return next(iter(exact or [name for name in description.channels if name.lower() == rest.lower()]), None)

    def _is_plane(self, settings: FormulaSettings) -> bool:
        return len(settings.expressions) == 1 and not {*settings.expressions} & {"R", "G", "B", "A"}

    def describe(self, inputs: Mapping[str, Description], settings: FormulaSettings) -> Description:
        formulas = settings.parsed()
        if not inputs:
            raise SettingError(
                "nothing gives the result a size", where="ports", remedy="feed a picture or channel to any port"
            )
        for name in inputs:
            if name in PLACES:
                raise SettingError(
                    f"'{name}' already means the place", where=f"port '{name}'", remedy="give the port another name"
                )
        self._reads(formulas, inputs, settings)
        first = next(iter(inputs.values())).changed(window=joined_window(inputs))
        if self._is_plane(settings):
            return first.as_plane(data=True)
        channels = tuple(settings.expressions)
        data = frozenset(name for name in channels if is_alpha(name) or not named_as_colour(name))
        state = first.alpha if first.alpha is not Alpha.NONE else Alpha.STRAIGHT
        return first.changed(
            channels=channels, data=data, is_plane=False, alpha=state if "A" in channels else Alpha.NONE
        )

    def timed(self, settings: FormulaSettings) -> bool:
        return any("frame" in text for text in settings.expressions.values())

    def effort(self, settings: FormulaSettings, scene: Scene) -> float:
        # Every sign of a formula is a pass at the most; all are computed whichever are asked for.
        return 2 + sum(len(text) for text in settings.expressions.values())

    def wants(
        self, channels: Sequence[str], inputs: Mapping[str, Description], settings: FormulaSettings
    ) -> dict[str, tuple[str, ...]]:
        reads = self._reads(settings.parsed(), inputs, settings)
        if self._is_plane(settings):
            channels = tuple(settings.expressions)
        wanted: dict[str, set[str]] = {}
        for channel in channels:
            for port, name in reads[channel].values():
                wanted.setdefault(port, set()).add(name)
        return {port: tuple(name for name in inputs[port].channels if name in names) for port, names in wanted.items()}

    def express(self, values: Mapping[str, Channels], settings: FormulaSettings, scene: Scene) -> Channels:
        formulas, inputs = settings.parsed(), scene.descriptions
        reads = self._reads(formulas, inputs, settings)
        display = next(iter(inputs.values())).display
        places: dict[str, Value] = {
            "x": scene.x,
            "y": scene.y,
            "width": np.float32(display.width),
            "height": np.float32(display.height),
            "frame": np.float32(scene.frame),
        }
        result = {}
        plane = self._is_plane(settings)
        for channel, formula in formulas.items():
            scene.work.check()
            found = reads[channel]
            if any(name not in values.get(port, {}) for port, name in found.values()):
                continue
            named = places | {
                written: self._seen(values[port][name], name, inputs[port], settings)
                for written, (port, name) in found.items()
            }
            with np.errstate(all="ignore"):
                value = formula.evaluate(named)
                if settings.domain == "display" and not plane and named_as_colour(channel):
                    value = decode(value)
            result[PLANE_NAME if plane else channel] = value
        return result

    @staticmethod
    def _seen(value: Value, name: str, description: Description, settings: FormulaSettings) -> Value:
        single = description.as_plane(data=name in description.data)
        return in_domain(value, single, settings.domain)

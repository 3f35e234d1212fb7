"""Addresses: `item`, `item.channel`, `item.layer`, `item.layer.channel`."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Any

from nexal.errors import AddressError, nearest
from nexal.picture import split_channel

ITEM_NAME = re.compile(r"[a-z][a-z0-9_]{0,62}")
ADDRESS_KEYS = frozenset({"from", "times", "mask"})
"""Keys inside of settings that hold addresses."""


def split_address(address: str) -> tuple[str, str]:
    """Item and rest of an address; the first dot splits, since items hold none.

    Raises AddressError where the item part is not a valid name.
    """
    item, _, rest = address.partition(".")
    if not ITEM_NAME.fullmatch(item):
        raise AddressError(
            f"'{address}' is not an address",
            remedy="write item, item.channel or item.layer; items are lower case letters, digits and _",
        )
    return item, rest


def select(rest: str, channels: Sequence[str], item: str) -> dict[str, str]:
    """Channels that `rest` names in an item: the result's names mapped to the item's own.

    An exact channel name wins; else a layer, whose channels keep their last segment (a layer that only holds
    deeper layers keeps the names below it). Raises AddressError with the nearest names.
    """
    if not rest:
        return {name: name for name in channels}
    if rest in channels:
        return {split_channel(rest)[1]: rest}
    own = {split_channel(name)[1]: name for name in channels if split_channel(name)[0] == rest}
    if own:
        return own
    below = {name[len(rest) + 1 :]: name for name in channels if name.startswith(f"{rest}.")}
    if below:
        return below
    layers = dict.fromkeys(layer for name in channels if (layer := split_channel(name)[0]))
    raise AddressError(
        f"'{item}' has no channel or layer '{rest}'",
        where=f"{item}.{rest}",
        remedy=nearest(rest, [*channels, *layers]),
    )


def renamed_address(address: str, names: Mapping[str, str]) -> str:
    """An address of an item or of a channel of it, with the item's new name where it has one."""
    item, dot, rest = address.partition(".")
    return names.get(item, item) + dot + rest


def readdressed(step: Mapping[str, Any], names: Mapping[str, str]) -> dict[str, Any]:
    """A step of a recipe file with the items that feed it by their new names: in its ports and its settings."""
    ports = {port: _renamed(fed, names) for port, fed in step.get("in", {}).items()}
    settings = _in_settings(step.get("set", {}), names)
    return {**step, **({"in": ports} if ports else {}), **({"set": settings} if settings else {})}


def _renamed(fed: str | Sequence[str], names: Mapping[str, str]) -> str | list[str]:
    return renamed_address(fed, names) if isinstance(fed, str) else [renamed_address(address, names) for address in fed]


def _in_settings(value: Any, names: Mapping[str, str], key: str = "") -> Any:
    if key in ADDRESS_KEYS and isinstance(value, str):
        return renamed_address(value, names)
    if isinstance(value, list):
        return [_in_settings(inner, names) for inner in value]
    if isinstance(value, dict):
        return {name: _in_settings(inner, names, name) for name, inner in value.items()}
    return value

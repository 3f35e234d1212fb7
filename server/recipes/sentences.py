"""What changed between two recipes, in a sentence."""

import json
from typing import Any

Recipe = dict[str, Any]


def sentence(before: Recipe, after: Recipe) -> str:
    """One sentence; the most telling change first, others counted."""
    changes = sentences(before, after)
    if not changes:
        return "No change"
    more = f", and {len(changes) - 1} more" if len(changes) > 1 else ""
    return (changes[0][:260] + more)[:300]


def sentences(before: Recipe, after: Recipe) -> list[str]:
    """Everything that changed, a sentence each, sources first."""
    return [*_sources(before, after), *_steps(before, after)]


def renamed(before: Recipe, after: Recipe) -> dict[str, str]:
    """New names of a source and a step by their old ones, where exactly one of them has another name and no more."""
    sources = before.get("sources", {}), after.get("sources", {})
    steps = _named(before), _named(after)
    names = {}
    for old, new in (sources, steps):
        gone, come = _gone(old, new), _gone(new, old)
        if len(gone) == len(come) == 1 and {**old[gone[0]], "name": ""} == {**new[come[0]], "name": ""}:
            names[gone[0]] = come[0]
    return names


def _named(recipe: Recipe) -> dict[str, Any]:
    return {step["name"]: step for step in recipe.get("steps", [])}


def _gone(old: dict[str, Any], new: dict[str, Any]) -> list[str]:
    return [name for name in old if name not in new]


def _sources(before: Recipe, after: Recipe) -> list[str]:
    old, new = before.get("sources", {}), after.get("sources", {})
    gone, come = _gone(old, new), _gone(new, old)
    names = renamed(before, after)
    if any(name in names for name in gone):
        return [f"Source {name} renamed {names[name]}" for name in gone]
    changes = [f"Source {name} added" for name in come] + [f"Source {name} removed" for name in gone]
    return changes + [f"Source {name} read differently" for name in new if name in old and old[name] != new[name]]


def _steps(before: Recipe, after: Recipe) -> list[str]:
    old, new = _named(before), _named(after)
    gone, come = _gone(old, new), _gone(new, old)
    names = renamed(before, after)
    changes = []
    if any(name in names for name in gone):
        changes += [f"{name} renamed {names[name]}" for name in gone]
    else:
        changes += [f"{name} added ({new[name]['op']})" for name in come]
        changes += [f"{name} deleted" for name in gone]
    instead = dict(zip(gone, come, strict=True)) if len(gone) == len(come) == 1 else {}
    for name, step in new.items():
        if name in old:
            changes += _step(name, old[name], step, instead)
    kept_old, kept_new = [name for name in old if name in new], [name for name in new if name in old]
    if kept_old != kept_new:
        moved = next(a for a, b in zip(kept_new, kept_old, strict=True) if a != b)
        changes.append(f"{moved} moved")
    return changes


def _step(name: str, old: dict[str, Any], new: dict[str, Any], instead: dict[str, str]) -> list[str]:
    changes = []
    if old.get("on", True) != new.get("on", True):
        changes.append(f"{name} turned {'on' if new.get('on', True) else 'off'}")
    settings_old, settings_new = old.get("set", {}), new.get("set", {})
    for key in dict.fromkeys([*settings_old, *settings_new]):
        a, b = settings_old.get(key), settings_new.get(key)
        if a != b:
            changes.append(f"{name}: {_setting(key, a, b)}")
    for port in dict.fromkeys([*old.get("in", {}), *new.get("in", {})]):
        a, b = old.get("in", {}).get(port), new.get("in", {}).get(port)
        follows = isinstance(a, str) and isinstance(b, str) and a.split(".")[0] in instead
        if a != b and not follows:
            changes.append(f"{name}: {port} fed from {b}" if b else f"{name}: {port} no longer fed")
    if old.get("note", "") != new.get("note", ""):
        changes.append(f"{name} noted")
    if old.get("op") != new.get("op"):
        changes.append(f"{name} is now {new.get('op')}")
    return changes


def _setting(key: str, old: Any, new: Any) -> str:
    """What became of a setting; of its keys, where it moves."""
    keys_old, keys_new = _keys(old), _keys(new)
    if keys_old is None and keys_new is None:
        return f"{key} {_value(old)} to {_value(new)}"
    if keys_new is None:
        return f"{key} stands still at {_value(new)}"
    come = [frame for frame in keys_new if frame not in (keys_old or {})]
    gone = [frame for frame in keys_old or {} if frame not in keys_new]
    if keys_old is None:
        return f"{key} moves, a key at {_frames(come)}"
    if come and gone:
        return f"{key}, the key at {_frames(gone)} moved to {_frames(come)}"
    if come or gone:
        return f"{key}, key at {_frames(come or gone)} {'added' if come else 'taken away'}"
    return f"{key}, key at {_frames([frame for frame in keys_new if keys_new[frame] != keys_old[frame]])} changed"


def _keys(value: Any) -> dict[float, Any] | None:
    """The keys of a setting that moves, by frame."""
    if not isinstance(value, dict) or set(value) != {"keys"} or not isinstance(value["keys"], list):
        return None
    return {key[0]: key[1:] for key in value["keys"]}


def _frames(frames: list[float]) -> str:
    return ", ".join(f"{frame:g}" for frame in frames[:3]) + (f" and {len(frames) - 3} more" if len(frames) > 3 else "")


def _value(value: Any) -> str:
    if value is None:
        return "its default"
    if isinstance(value, float):
        return f"{value:.4g}"
    text = value if isinstance(value, str) else json.dumps(value)
    return text if len(text) <= 40 else text[:37] + "..."

"""What changed between two recipes, in a sentence."""

import json
from typing import Any

from nexal.addresses import readdressed

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
    """New names of sources and steps by their old ones: of those that are the same but for names, and no others are.

    What they are fed from may have another name too.
    """
    kinds = [(before.get("sources", {}), after.get("sources", {})), (_named(before), _named(after))]
    names: dict[str, str] = {}
    found = True
    while found:
        found = False
        for old, new in kinds:
            gone = [name for name in _gone(old, new) if name not in names]
            come = [name for name in _gone(new, old) if name not in names.values()]
            like_old, like_new = (
                _by_content({name: rows[name] for name in chosen}, fed)
                for rows, chosen, fed in ((old, gone, names), (new, come, {}))
            )
            for content, alike in like_old.items():
                if len(alike) == len(like_new.get(content, [])) == 1:
                    names[alike[0]] = like_new[content][0]
                    found = True
    return names


def _by_content(rows: dict[str, Any], names: dict[str, str]) -> dict[str, list[str]]:
    """Names of rows by what is the same whatever they are called, with what feeds them by its new names."""
    found: dict[str, list[str]] = {}
    for name, row in rows.items():
        content = json.dumps({**readdressed(row, names), "name": ""}, sort_keys=True)
        found.setdefault(content, []).append(name)
    return found


def _named(recipe: Recipe) -> dict[str, Any]:
    return {step["name"]: step for step in recipe.get("steps", [])}


def _gone(old: dict[str, Any], new: dict[str, Any]) -> list[str]:
    return [name for name in old if name not in new]


def _sources(before: Recipe, after: Recipe) -> list[str]:
    old, new = before.get("sources", {}), after.get("sources", {})
    gone, come = _gone(old, new), _gone(new, old)
    names = renamed(before, after)
    changes = [f"Source {name} renamed {names[name]}" for name in gone if name in names]
    changes += [f"Source {name} added" for name in come if name not in names.values()]
    changes += [f"Source {name} removed" for name in gone if name not in names]
    return changes + [f"Source {name} read differently" for name in new if name in old and old[name] != new[name]]


def _steps(before: Recipe, after: Recipe) -> list[str]:
    old, new = _named(before), _named(after)
    gone, come = _gone(old, new), _gone(new, old)
    names = renamed(before, after)
    changes = [f"{name} renamed {names[name]}" for name in gone if name in names]
    gone, come = [name for name in gone if name not in names], [name for name in come if name not in names.values()]
    changes += [f"{name} added ({new[name]['op']})" for name in come]
    changes += [f"{name} deleted" for name in gone]
    # What took another's place is fed to what that fed.
    followed = names | (dict(zip(gone, come, strict=True)) if len(gone) == len(come) == 1 else {})
    for name, step in new.items():
        if name in old and old[name] != step:
            changes += _step(name, readdressed(old[name], followed), step)
    kept_old, kept_new = [name for name in old if name in new], [name for name in new if name in old]
    if kept_old != kept_new:
        moved = next(a for a, b in zip(kept_new, kept_old, strict=True) if a != b)
        changes.append(f"{moved} moved")
    return changes


def _step(name: str, old: dict[str, Any], new: dict[str, Any]) -> list[str]:
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
        if a != b:
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

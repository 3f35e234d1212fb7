"""OpenEXR files: every channel in its own sample type, header values carried along."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nexal.errors import FormatError
from nexal.formats.decoded import untagged
from nexal.formats.exr import OWN_ATTRIBUTES
from nexal.formats.targets import Target
from nexal.kernels.halves import to_halves
from nexal.picture import Picture, Plane, Window


def write_exr(
    picture: Picture,
    planes: Mapping[str, Plane],
    target: Target,
    path: Path,
    notes: Mapping[str, str],
    own: Mapping[str, NDArray[Any]],
) -> None:
    import OpenEXR

    x, y = (int(part * picture.scale) for part in picture.description.origin)
    display = picture.description.display.scaled(picture.scale)

    def box(window: Window) -> tuple[NDArray[Any], NDArray[Any]]:
        moved = window.shift(x, y)
        return np.array([moved.x, moved.y], np.int32), np.array([moved.right - 1, moved.bottom - 1], np.int32)

    kind = f"{(target.compression or 'zip').upper()}_COMPRESSION".replace("NONE_", "NO_")
    header = {
        "compression": getattr(OpenEXR, kind),
        "type": OpenEXR.scanlineimage,
        "dataWindow": box(picture.region),
        "displayWindow": box(display),
        **_kept_attributes(picture),
        **notes,
    }
    # The library writes arrays that are not contiguous wrongly and without an error.
    channels = {
        name: np.ascontiguousarray(
            own[name]
            if name in own
            else _id_samples(plane)
            if picture.description.trait(name).is_label
            else to_halves(plane)
            if target.depth == "half"
            else plane.astype(np.float32)
        )
        for name, plane in planes.items()
    }
    try:
        OpenEXR.set_global_thread_count(2)
        with OpenEXR.File(header, channels) as file:
            file.write(str(path))
    except (RuntimeError, ValueError, TypeError) as error:
        raise FormatError(f"cannot be written ({error})", where=path.name, remedy="check the channel names") from None


def _id_samples(plane: Plane) -> NDArray[Any]:
    """Ids with all their digits: whole numbers as uint, hashed ones as the floats that they are."""
    whole = np.isfinite(plane).all() and np.all((plane >= 0) & (plane < 2**32) & (plane == np.floor(plane)))
    return plane.astype(np.uint32 if whole else np.float32)


def _kept_attributes(picture: Picture) -> dict[str, Any]:
    """Header values of the first source that mean the same in the new file, in their own types."""
    kept = {}
    for name, value in picture.description.metadata.items():
        # A file of another format may call something else by a name that means the storage of this one.
        if name.startswith("nexal.") or ":" in name or name in OWN_ATTRIBUTES | {"ImageDescription", "Software"}:
            continue
        kept[name] = untagged(value)
    return kept

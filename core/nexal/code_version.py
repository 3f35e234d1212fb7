"""Versions of results: they change whenever the code that makes them changes.

Results that outlive the program (kept on disk, or by a browser as immutable) are keyed by them, so that none survives
an upgrade with old pixels. A version is a digest of a module's source and of all of this program's modules that it
uses, directly or through others, also by imports inside of functions; and of the versions of the libraries that they
use.
"""

from __future__ import annotations

import hashlib
import os
import re
from functools import cache
from pathlib import Path

ROOT = Path(__file__).resolve().parent
PACKAGE = ROOT.name

_IMPORT = re.compile(
    r"^[ \t]*(?:from[ \t]+(?P<module>[\w.]+)[ \t]+import[ \t]+(?P<names>\([^)]*\)|[^\n]+)"
    r"|import[ \t]+(?P<whole>[\w.]+))",
    re.MULTILINE,
)


LIBRARIES = {
    "OpenEXR": "OpenEXR",
    "OpenImageIO": "OpenImageIO",
    "PIL": "pillow",
    "PyOpenColorIO": "opencolorio",
    "av": "av",
    "cv2": "opencv-python-headless",
    "imagecodecs": "imagecodecs",
    "llvmlite": "llvmlite",
    "numba": "numba",
    "numpy": "numpy",
    "pymatting": "PyMatting",
    "scipy": "scipy",
    "tifffile": "tifffile",
}
"""Libraries that compute or read, by the names that they are imported by: what they are called where they come from."""


@cache
def version_of(module: str, root: Path = ROOT) -> str:
    """16 hexadecimal digits for a module of this package (by its dotted name) and everything that it uses."""
    digest = hashlib.blake2b(digest_size=8)
    libraries: set[str] = set()
    for name in sorted(closure(module, root)):
        digest.update(name.encode() + b"\0" + _source(name, root).encode() + b"\0")
        libraries.update(_libraries(name, root))
    for library in sorted(libraries):
        digest.update(f"{library} {library_version(library)}\0".encode())
    return digest.hexdigest()


@cache
def library_version(name: str) -> str:
    """The version of a library, by the name that it is imported by; empty where it is not installed."""
    from importlib.metadata import PackageNotFoundError, version

    try:
        return version(LIBRARIES[name])
    except PackageNotFoundError:
        return ""


@cache
def _libraries(module: str, root: Path) -> frozenset[str]:
    """The libraries that a module imports."""
    names = {(match["module"] or match["whole"]).partition(".")[0] for match in _IMPORT.finditer(_source(module, root))}
    return frozenset(names & LIBRARIES.keys())


@cache
def closure(module: str, root: Path = ROOT) -> frozenset[str]:
    """The module and every module of the package that it uses."""
    found: set[str] = set()
    waiting = [module]
    while waiting:
        name = waiting.pop()
        if name not in found and _path(name, root) is not None:
            found.add(name)
            waiting += _imports(name, root)
    return frozenset(found)


@cache
def _imports(module: str, root: Path) -> tuple[str, ...]:
    found: list[str] = []
    for match in _IMPORT.finditer(_source(module, root)):
        base = match["module"] or match["whole"]
        if base != PACKAGE and not base.startswith(f"{PACKAGE}."):
            continue
        found.append(base)
        # What is imported of a package may be a module of it.
        found += [f"{base}.{name}" for name in re.findall(r"(\w+)(?:[ \t]+as[ \t]+\w+)?", match["names"] or "")]
    return tuple(found)


@cache
def _source(module: str, root: Path) -> str:
    path = _path(module, root)
    return Path(path).read_text(encoding="utf-8") if path else ""


@cache
def _path(module: str, root: Path) -> str | None:
    # Every command begins with it: texts, since a `Path` takes longer to be made than the disk to be asked.
    place = "/".join([str(root), *module.split(".")[1:]])
    for path in (f"{place}.py", f"{place}/__init__.py"):
        if "." in module and os.path.isfile(path):
            return path
    return None

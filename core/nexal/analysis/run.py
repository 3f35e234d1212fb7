"""Whole recipes and whole files, from disk to disk."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np

from nexal.analysis.compare import compare
from nexal.engine import Engine, Plan, Reader
from nexal.engine.plan import Feed
from nexal.errors import FormatError, NexalError, RecipeError, nearest
from nexal.formats.channel_files import Given, read_manifest, reassemble
from nexal.formats.reading import StoredSource
from nexal.formats.store import fingerprint
from nexal.formats.targets import target_of
from nexal.picture import ALPHA_NAME, Window
from nexal.recipe import Recipe, SourceSpec, is_numbered, parse_recipe
from nexal.session import Session, check_outputs, frames_of, output_path, render_output, source_files, sources_behind


def run_recipe(
    recipe: Recipe,
    folder: Path,
    given: Mapping[str, str],
    out: Path,
    *,
    frames: Sequence[int] | None = None,
    scale: Fraction = Fraction(1),
    region: Window | None = None,
    only: Sequence[str] = (),
    shot: str = "",
    warn: Callable[[str], None] = lambda text: None,
) -> list[Path]:
    """Write the outputs of a recipe (all, or `only` some) for each frame; returns the files. Raises NexalError.

    `folder` is the recipe's, to which the paths in it are relative; `given` replaces the files of sources by name;
    `shot` is what stands for `{shot}` in file names.
    """
    chosen = _chosen(recipe, only)
    addresses = [address for output in chosen.values() for address in output.addresses]
    needed = sources_behind(recipe, addresses)
    files = {name: path for name, path in source_files(recipe, folder, given).items() if name in needed}
    numbers = list(frames) if frames else frames_of(files, recipe.sources)
    for name, output in chosen.items():
        try:
            target_of(output)
        except NexalError as error:
            raise error.at(f"output '{name}'") from None
        if len(numbers) > 1 and not is_numbered(output.file):
            raise RecipeError(
                f"{len(numbers)} frames would be written to one file",
                where=f"output '{name}', 'file'",
                remedy="put a number into its name, such as %04d, or choose one frame",
            )
    written = []
    with Session(warn=warn) as session:
        for frame in numbers:
            readers = session.readers(recipe, files, frame, needed)
            fingerprints = {
                source: reader.fingerprint for source, reader in readers.items() if isinstance(reader, StoredSource)
            }
            plan = Plan(recipe, frame, readers)
            check_outputs(plan, chosen)
            for name, output in chosen.items():
                try:
                    path = output_path(plan, name, output, out, shot)
                    written += render_output(
                        session.engine, plan, output, path, fingerprints, scale=scale, region=region
                    )
                except NexalError as error:
                    raise (
                        error if error.where.startswith(("step", "source")) else error.at(f"output '{name}'")
                    ) from None
    return written


def _chosen(recipe: Recipe, only: Sequence[str]) -> dict[str, Any]:
    if not recipe.outputs:
        raise RecipeError("names no output", where="recipe", remedy='add "outputs"')
    for name in only:
        if name not in recipe.outputs:
            raise RecipeError("there is no such output", where=f"output '{name}'", remedy=nearest(name, recipe.outputs))
    return {name: output for name, output in recipe.outputs.items() if not only or name in only}


def compare_files(a: Path, b: Path, warn: Callable[[str], None] = lambda text: None) -> dict[str, dict[str, Any]]:
    """Differences of the channels of two files over their display windows.

    As stored where both hold the same encoding, else both in linear light. Raises FormatError where the sizes differ
    or no channel is common.
    """
    with Session(warn=warn) as session:
        opened = [session.open(path) for path in (a, b)]
        if opened[0].space == opened[1].space:
            opened = [session.open(path, SourceSpec(colour="data")) for path in (a, b)]
        windows = [source.description.display for source in opened]
        if windows[0] != windows[1]:
            sizes = " and ".join(f"{window.width} x {window.height}" for window in windows)
            raise FormatError(f"the pictures are {sizes} pixels", where=b.name, remedy="compare pictures of one size")
        area = windows[0].union(opened[0].description.window).union(opened[1].description.window)
        common = [name for name in opened[0].description.channels if name in opened[1].description.channels]
        if not common:
            raise FormatError("the files have no channel in common", where=b.name, remedy="compare one picture's files")
        for source, path in zip(opened, (a, b), strict=True):
            extra = [name for name in source.description.channels if name not in common]
            if extra:
                warn(f"{path.name}: only here, not compared: {', '.join(extra[:8])}")
        planes = [dict(source.read(common, Fraction(1), area)) for source in opened]
        return compare(*planes)


def split_file(path: Path, out: Path, warn: Callable[[str], None] = lambda text: None) -> list[Path]:
    """Write every channel of a picture file as a file of its own beside a manifest, each in its own sample type.

    Whole numbers of 8 and 16 bit become PNG, everything else EXR. Returns the files, the manifest last.
    Raises NexalError.
    """
    with Session(warn=warn) as session:
        source = session.open(path)
        whole = all(row["type"] in ("uint8", "uint16") for row in source.stored.channels.values())
        name = f"{path.stem}.{'png' if whole else 'exr'}"
        alpha = source.description.alpha
        spec = {"from": "picture", "file": name, "split": True, "alpha": alpha.value}
        recipe = parse_recipe({"nexal": 1, "sources": {"picture": {"files": path.name}}, "outputs": {"split": spec}})
        plan = Plan(recipe, 1, {"picture": source})
        try:
            return render_output(session.engine, plan, recipe.outputs["split"], out / name, {})
        except NexalError as error:
            raise error.at(path.name) from None


def reassemble_files(
    manifest: Path, out: Path, warn: Callable[[str], None] = lambda text: None
) -> tuple[Path, list[str]]:
    """Put the files of a manifest, which lie beside it, together again; what is worth telling comes with it.

    A file that was renamed is looked for among all files of the folder. Raises NexalError.
    """
    try:
        text = manifest.read_bytes()
    except OSError as error:
        raise FormatError(f"cannot be read ({error.strerror})", where=str(manifest), remedy="check the path") from None
    listing = read_manifest(text, manifest.name)
    with Session(warn=warn) as session:
        wanted = {row.file for row in listing.channels}
        prints = {row.fingerprint for row in listing.channels}
        missing = any(not (manifest.parent / name).is_file() for name in wanted)
        files = []
        for file in sorted(manifest.parent.iterdir()):
            if file == manifest or not file.is_file():
                continue
            if file.name in wanted or (missing and fingerprint(file) in prints):
                source = session.open(file)
                files.append(Given(file.name, source.stored, source.fingerprint))
        return reassemble(listing, files, out)


def scout_file(
    path: Path,
    *,
    subject: Sequence[Window],
    background: Sequence[Window],
    ink: bool,
    rows: int,
    warn: Callable[[str], None] = lambda text: None,
) -> dict[str, Any]:
    """What `scout` answers for a picture file and marked rectangles. Raises NexalError."""
    from nexal.analysis.scout import scout

    return _of_file(
        path,
        warn,
        lambda engine, plan, feed: scout(engine, plan, feed, subject, background, ink=ink, rows=rows),
    )


def audit_file(path: Path, full: str, warn: Callable[[str], None] = lambda text: None) -> dict[str, Any]:
    """What `audit` answers for a picture file. Raises NexalError."""
    from nexal.analysis.audit import audit

    answer = _of_file(path, warn, lambda engine, plan, feed: audit(engine, plan, feed, full))
    # In one file a channel says it all.
    alpha = answer["alpha"].partition(".")[2] if answer["alpha"] else None
    return {name: value for name, value in answer.items() if name != "addresses"} | {"alpha": alpha}


def diagnose_file(path: Path, alpha: Path | None, warn: Callable[[str], None] = lambda text: None) -> dict[str, Any]:
    """What `diagnose` answers for a picture file, where asked for with its alpha in a file of its own.

    An alpha file is read as data: its channel A, else its only one, else R where red, green and blue are the same.
    Raises NexalError.
    """
    from nexal.analysis.diagnose import diagnose

    files = {"picture": path} | ({"alpha": alpha} if alpha else {})
    recipe = parse_recipe({"nexal": 1, "sources": {name: {"files": file.name} for name, file in files.items()}})
    with Session(warn=warn) as session:
        readers: dict[str, Reader] = {"picture": session.open(path)}
        try:
            if alpha is None:
                plan = Plan(recipe, 1, readers)
                return diagnose(session.engine, plan, plan.feed("picture"))
            source = session.open(alpha, SourceSpec(colour="data"))
            plan = Plan(recipe, 1, readers | {"alpha": source})
            return diagnose(session.engine, plan, plan.feed("picture"), plan.feed(_alpha_address(source)))
        except NexalError as error:
            raise error.at(path.name) from None


def _alpha_address(source: StoredSource) -> str:
    names = source.description.channels
    if ALPHA_NAME in names or len(names) == 1:
        return f"alpha.{ALPHA_NAME if ALPHA_NAME in names else names[0]}"
    if set(names) == {"R", "G", "B"}:
        window = source.description.window
        planes = list(source.read(names, Fraction(1), window).values())
        if all(np.array_equal(plane, planes[0]) for plane in planes[1:]):
            return "alpha.R"
    raise RecipeError("holds several channels and no alpha", where="--alpha", remedy="give a grey picture of the alpha")


def _of_file(
    path: Path, warn: Callable[[str], None], work: Callable[[Engine, Plan, Feed], dict[str, Any]]
) -> dict[str, Any]:
    """An analysis of a picture file as it stands."""
    recipe = parse_recipe({"nexal": 1, "sources": {"picture": {"files": path.name}}})
    with Session(warn=warn) as session:
        plan = Plan(recipe, 1, {"picture": session.open(path)})
        try:
            return work(session.engine, plan, plan.feed("picture"))
        except NexalError as error:
            raise error.at(path.name) from None

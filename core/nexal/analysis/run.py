"""Whole recipes and whole files, from disk to disk.

What only one of them needs is imported where it is used: a command starts with little.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from fractions import Fraction
from functools import lru_cache
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from nexal.analysis.frames import FrameDone, FrameTask, render_frames
from nexal.engine import Engine, Plan, Reader
from nexal.engine.plan import Feed
from nexal.errors import FormatError, NexalError, RecipeError, nearest
from nexal.formats.reading import StoredSource
from nexal.formats.store import fingerprint
from nexal.formats.targets import target_of
from nexal.picture import ALPHA_NAME, Window
from nexal.recipe import Recipe, SourceSpec, is_numbered, parse_recipe
from nexal.session import Session, frames_of, render_output, source_files, sources_behind

if TYPE_CHECKING:
    from nexal.kernels.following import Model


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
    workers: int = 1,
    scheduler: str = "",
    resume: bool = False,
    warn: Callable[[str], None] = lambda text: None,
) -> list[Path]:
    """Write the outputs of a recipe (all, or `only` some) for each frame; returns the files. Raises NexalError.

    `folder` is the recipe's, to which the paths in it are relative; `given` replaces the files of sources by name;
    `shot` is what stands for `{shot}` in file names. Frames are made by `workers` processes, or by those of a Dask
    `scheduler` (tcp://host:port), which see the same paths; with `resume` files that are there and whole stay.
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
    tasks = [
        FrameTask(
            recipe.as_json(),
            {name: str(Path(path).absolute()) for name, path in files.items()},
            tuple(needed),
            tuple(chosen),
            str(out.absolute() if scheduler else out),
            frame,
            str(scale),
            None if region is None else (region.x, region.y, region.width, region.height),
            shot,
            resume,
            len(numbers) > 1,
        )
        for frame in numbers
    ]
    done: dict[int, FrameDone] = {}
    told: set[str] = set()
    with Session() as session:
        for each in render_frames(tasks, workers, scheduler, session):
            done[each.frame] = each
            for text in each.told:
                if text not in told:
                    told.add(text)
                    warn(text)
            for file in each.kept:
                warn(f"{Path(file).name} is there and whole; it stays")
    return [Path(file) for frame in numbers for file in done[frame].files]


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
    from nexal.analysis.compare import compare

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
    from nexal.formats.channel_files import Given, read_manifest, reassemble

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


def depth_file(
    path: Path, layer: str | None = None, warn: Callable[[str], None] = lambda text: None
) -> list[dict[str, Any]]:
    """What the depth channels of a picture file hold: `DepthReport` as JSON, each with its `sentences`.

    Raises NexalError.
    """
    from nexal.analysis.depth import reports_of, sentences

    with Session(warn=warn) as session:
        source = session.open(path)
        try:
            found = reports_of(source, layer)
        except NexalError as error:
            raise error.at(path.name) from None
        return [report.as_json() | {"sentences": sentences(report)} for report in found]


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


ENDS = {"before": "error", "after": "error", "missing": "error"}
"""A source that holds nothing where it has no frame: nothing can be followed there."""


def follow_file(
    source: str,
    region: Window,
    frames: Sequence[int],
    start: int | None = None,
    model: Model = "similarity",
    *,
    search: bool = False,
    warn: Callable[[str], None] = lambda text: None,
) -> dict[str, Any]:
    """Where what a region of a numbered source holds at frame `start` (the first of `frames` by default) lies at the
    frames, forward and back from there. Raises NexalError."""
    from nexal.analysis.follow import Followed, follow, outline_of, seen_through

    first = frames[0] if start is None else start
    recipe = parse_recipe({"nexal": 1, "sources": {"source": {"files": source} | ENDS}})
    rows: list[Followed] = []
    with Session(warn=warn) as session:
        plans = _plans(session, recipe, {"source": source})
        seen = seen_through(session.engine, plans, "source")
        outline = outline_of(region)
        for direction in (
            [frame for frame in sorted(frames) if frame > first],
            [frame for frame in sorted(frames, reverse=True) if frame < first],
        ):
            rows += follow(seen, outline, first, direction, model, search=search)
    if first in frames:
        rows.append(Followed(first, np.eye(3), 1.0, np.zeros((0, 2))))
    rows.sort(key=lambda row: row.frame)
    reached = {row.frame for row in rows if row.matrix is not None}
    return {
        "from": first,
        "model": model,
        "frames": [row.row() for row in rows if row.matrix is not None],
        "lost": [frame for frame in sorted(frames) if frame not in reached],
    }


def steady_recipe(
    recipe: Recipe,
    folder: Path,
    given: Mapping[str, str],
    step: str,
    frames: Sequence[int] | None = None,
    warn: Callable[[str], None] = lambda text: None,
) -> dict[str, Any]:
    """How a matte of a recipe changes over frames where its picture does not. Raises NexalError."""
    from nexal.analysis.steady import steady, summary

    files = source_files(recipe, folder, given)
    needed = sources_behind(recipe, [step])
    numbers = list(frames) if frames else frames_of({name: files[name] for name in needed}, recipe.sources)
    with Session(warn=warn) as session:
        return summary(list(steady(session.engine, _plans(session, recipe, files, needed), step, numbers)))


def _plans(
    session: Session, recipe: Recipe, files: Mapping[str, str], needed: Sequence[str] | None = None
) -> Callable[[int], Plan]:
    @lru_cache(4)
    def plan(frame: int) -> Plan:
        return Plan(recipe, frame, session.readers(recipe, files, frame, needed or list(recipe.sources)))

    return plan

"""A frame of a recipe as one task: the same function for the command line, other processes and other machines.

A task holds paths, the recipe and a number; files come out whole or not at all. It needs no database and keeps
nothing but the session of its process.
"""

from __future__ import annotations

import atexit
import os
import threading
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor, as_completed
from contextlib import suppress
from dataclasses import dataclass, field, replace
from fractions import Fraction
from multiprocessing import get_context
from pathlib import Path
from typing import Any

import nexal
from nexal.code_version import version_of
from nexal.engine import Engine, Plan
from nexal.errors import NexalError, RenderError
from nexal.formats.reading import BlackSource, StoredSource
from nexal.picture import Window
from nexal.recipe import parse_recipe
from nexal.session import Session, check_outputs, made_of, output_feed, output_path, render_output

SCHEDULER_SECONDS = 10


@dataclass(frozen=True)
class FrameTask:
    """One frame of a recipe's outputs, in what every process understands."""

    recipe: dict[str, Any]
    files: dict[str, str]
    needed: tuple[str, ...]
    outputs: tuple[str, ...]
    out: str
    frame: int
    scale: str = "1"
    region: tuple[int, int, int, int] | None = None
    shot: str = ""
    resume: bool = False
    many: bool = False
    black: tuple[str, ...] = ()
    """Sources that hold nothing at this frame: `files` names one of their size."""
    manifests: dict[str, dict[str, str]] = field(default_factory=dict)
    """Names of ids of sources that have some, by the files that their headers ask for."""
    threads: int = 0


@dataclass(frozen=True)
class FrameDone:
    """What came of a frame: its files, those that were there already, and what was told."""

    frame: int
    files: tuple[str, ...]
    kept: tuple[str, ...] = ()
    told: tuple[str, ...] = field(default=())
    seconds: float = 0.0
    made: dict[str, str] = field(default_factory=dict)
    """What the files of each output are made of; see `session.made_of`."""


_session: Session | None = None
_making = threading.Lock()


def session_of_process(threads: int = 0) -> Session:
    """The one session of this process; decoded planes of earlier frames stay in it within its budget."""
    global _session
    with _making:
        if _session is None:
            _session = Session(engine=Engine(threads=threads or None))
            atexit.register(_session.__exit__)
        return _session


def render_frame(task: FrameTask, session: Session | None = None) -> FrameDone:
    """Write the outputs of one frame. Raises NexalError that names the frame."""
    session = session or session_of_process(task.threads)
    told: list[str] = []
    began = time.monotonic()
    with session.telling(told.append):
        try:
            files, kept, made = _render(task, session)
        except NexalError as error:
            if task.many:
                error.message += f", at frame {task.frame}"
            raise
        except OSError as error:
            # A disk that fails, or a file that is gone: the fault of this frame, and of no other.
            at = f" at frame {task.frame}" if task.many else ""
            raise RenderError(
                f"could not be read or written{at} ({error.strerror or type(error).__name__})",
                where=str(error.filename or "output"),
                remedy="check the disk, then render it again",
            ) from None
    return FrameDone(task.frame, tuple(files), tuple(kept), tuple(told), time.monotonic() - began, made)


def _render(task: FrameTask, session: Session) -> tuple[list[str], list[str], dict[str, str]]:
    """Files that were written, those that stay, and what those of each output are made of."""
    recipe = parse_recipe(task.recipe)
    readers = session.readers(recipe, task.files, task.frame, task.needed, task.manifests)
    for name in task.black:
        like = readers[name]
        assert isinstance(like, StoredSource)
        readers[name] = BlackSource(like)
    plan = Plan(recipe, task.frame, readers)
    chosen = {name: recipe.outputs[name] for name in task.outputs}
    check_outputs(plan, chosen)
    prints = {
        name: reader.fingerprint for name, reader in readers.items() if isinstance(reader, StoredSource | BlackSource)
    }
    region = Window(*task.region) if task.region else None
    files: list[str] = []
    kept: list[str] = []
    made: dict[str, str] = {}
    for name, output in chosen.items():
        try:
            path = output_path(plan, name, output, Path(task.out), task.shot)
            made[name] = made_of(output_feed(plan, output), output, Fraction(task.scale), region)
            if task.resume and not output.split and session.made_note(path) == made[name]:
                kept.append(str(path))
                continue
            written = render_output(
                session.engine, plan, output, path, prints, scale=Fraction(task.scale), region=region
            )
        except NexalError as error:
            raise (error if error.where.startswith(("step", "source")) else error.at(f"output '{name}'")) from None
        files += [str(file) for file in written]
    return files, kept, made


def render_frames(
    tasks: Sequence[FrameTask], workers: int = 1, scheduler: str = "", session: Session | None = None
) -> Iterator[FrameDone]:
    """Frames as they are done: here, by processes of their own, or by the workers of a scheduler.

    Raises the error of the first frame that fails; what was done stays.
    """
    if scheduler:
        yield from _by_scheduler(tasks, scheduler)
    elif workers <= 1 or len(tasks) <= 1:
        for task in tasks:
            yield render_frame(task, session)
    else:
        yield from _by_processes(tasks, min(workers, len(tasks)))


def _by_processes(tasks: Sequence[FrameTask], workers: int) -> Iterator[FrameDone]:
    threads = max(1, (os.cpu_count() or 1) // workers)
    # Spawned, not forked: threads of compiled code do not survive a fork.
    with ProcessPoolExecutor(workers, mp_context=get_context("spawn")) as pool:
        futures = [pool.submit(render_frame, replace(task, threads=threads)) for task in tasks]
        try:
            yield from (future.result() for future in as_completed(futures))
        finally:
            for future in futures:
                future.cancel()


def code_of_frames() -> str:
    """Equal where two processes run the same Nexal: its version, and a digest of all the code that makes a frame."""
    return f"{nexal.__version__}/{version_of(__name__)}"


def _by_scheduler(tasks: Sequence[FrameTask], address: str) -> Iterator[FrameDone]:
    with connected(address) as client:
        yield from submitted(client, render_frame, tasks)


def connected(address: str) -> Any:
    """A client of a scheduler whose workers run this very Nexal. Raises RenderError that says what is wrong."""
    import distributed

    client_of: Any = distributed.Client
    where = f"scheduler {address}"
    try:
        client = client_of(address, timeout=SCHEDULER_SECONDS, set_as_default=False)
    except (OSError, TimeoutError, ValueError) as error:
        raise RenderError(
            f"does not answer ({type(error).__name__})", where=where, remedy="check its address, and that it runs"
        ) from None
    try:
        versions = client.run(code_of_frames)
    except Exception as error:  # whatever goes wrong on another machine
        client.close()
        raise RenderError(
            f"its workers can't run Nexal ({type(error).__name__}: {error})",
            where=where,
            remedy="install Nexal on each",
        ) from None
    other = sorted(worker for worker, version in versions.items() if version != code_of_frames())
    if not versions or other:
        client.close()
        what = f"worker {other[0]} runs another version of Nexal" if other else "it has no workers"
        raise RenderError(what, where=where, remedy="start workers with the same version on each machine")
    return client


def submitted(client: Any, work: Callable[[Any], Any], tasks: Iterable[Any]) -> Iterator[Any]:
    """Results of work on a scheduler's workers as they come; tried again where a worker is lost."""
    import distributed

    completed: Any = distributed.as_completed
    futures = client.map(work, list(tasks), pure=False, retries=3)
    try:
        for future in completed(futures, loop=client.loop):
            yield future.result()
    finally:
        with suppress(Exception):
            client.cancel(futures)

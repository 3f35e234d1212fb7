"""Frames rendered by the workers of a Dask scheduler, which see the same folders; the rows stay the truth.

Without another scheduler it is one of this server's own: a process for each core, made when it is first needed.
"""

import atexit
import logging
import os
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

from django.conf import settings

from deliveries.models import UNFINISHED, Render, RenderedFrame, RenderState
from deliveries.services import asked_for, needed, render_folder
from nexal.analysis.frames import FrameDone, FrameTask, connected, render_frame
from nexal.errors import NexalError, RenderError
from nexal.session import sources_behind
from sources.sequences import FileAtFrame
from sources.services import manifests_of

AHEAD = 2
"""Frames for each worker that are handed out at a time: what is paused is soon at rest."""
LOOK_SECONDS = 0.03
IDLE_SECONDS = 120.0
"""How long the workers of this server's own cluster wait for more before they are sent home."""
LOCAL, HERE = "", "here"
"""What NEXAL_SCHEDULER may say instead of an address: a cluster of this server's own; the server itself."""
MANY = 8
"""Frames of one render from which on it is worth while to have workers start."""
log = logging.getLogger("nexal.deliveries")
Settle = Callable[[RenderedFrame, list[Path] | Exception, float, Sequence[str]], bool]


class _Own:
    """This server's own cluster: made by who needs it first, closed when nobody has needed it for a while."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._cluster: Any = None
        self._users = 0
        self._closing: threading.Timer | None = None

    @contextmanager
    def address(self) -> Iterator[str]:
        with self._lock:
            if self._closing:
                self._closing.cancel()
            if self._cluster is None:
                self._cluster = _made()
            self._users += 1
            address = str(self._cluster.scheduler_address)
        try:
            yield address
        finally:
            with self._lock:
                self._users -= 1
                if not self._users:
                    self._closing = threading.Timer(IDLE_SECONDS, self.close)
                    self._closing.daemon = True
                    self._closing.start()

    def close(self) -> None:
        """End its processes, unless somebody needs them."""
        with self._lock:
            if self._cluster is not None and not self._users:
                with suppress(Exception):
                    self._cluster.close()
                self._cluster = None


_own = _Own()


def _made() -> Any:
    """One process for each core of this server, spawned, with the memory of jobs shared out among them.

    A worker that takes more is ended and its frame tried again; all end with this process, however it ends.
    """
    import distributed

    workers = max(1, (os.cpu_count() or 1) // settings.NEXAL_PROCESSES)
    made: Any = distributed.LocalCluster
    try:
        cluster = made(
            n_workers=workers,
            threads_per_worker=1,
            processes=True,
            memory_limit=settings.NEXAL_JOB_BYTES // workers,
            local_directory=str(settings.VAR / "workers"),
            dashboard_address=None,
            silence_logs=logging.ERROR,
        )
    except (OSError, TimeoutError, RuntimeError) as error:
        log.exception("no workers for frames")
        raise RenderError(
            f"the server's workers don't start ({type(error).__name__})",
            remedy="render again; set NEXAL_SCHEDULER=here to do without them",
        ) from None
    atexit.register(_own.close)
    return cluster


@contextmanager
def _address() -> Iterator[str]:
    if settings.NEXAL_SCHEDULER != LOCAL:
        yield settings.NEXAL_SCHEDULER
        return
    with _own.address() as address:
        yield address


def wanted(frames: int) -> bool:
    """Whether so many frames are for workers, and not for the server itself."""
    return settings.NEXAL_SCHEDULER not in (LOCAL, HERE) or (settings.NEXAL_SCHEDULER == LOCAL and frames >= MANY)


def render_frames(render: Render, settle: Settle) -> None:
    """Render the frames of a render that are waiting, until it is stopped; `settle` keeps what came of each.

    A frame that is handed out twice, because a process was killed, gives the same file. Raises NexalError where the
    scheduler does not answer.
    """
    with _address() as address, connected(address) as client:
        most = AHEAD * max(1, len(client.scheduler_info()["workers"]))
        out: dict[Any, RenderedFrame] = {}
        while True:
            going = Render.objects.filter(pk=render.pk, state=RenderState.RENDERING).exists()
            held = {frame.pk for frame in out.values()}
            waiting = render.frames.filter(state__in=UNFINISHED).exclude(pk__in=held)
            for frame in waiting[: most - len(out)] if going else ():
                try:
                    task = _task(render, frame.frame)
                except NexalError as error:
                    settle(frame, error, 0.0, ())
                    continue
                out[client.submit(render_frame, task, pure=False, retries=3)] = frame
            if not out:
                return
            for future in _finished(list(out)):
                frame = out.pop(future)
                fault = future.exception()
                done = FrameDone(frame.frame, ()) if fault else future.result()
                files = [Path(file) for file in done.files]
                if not settle(frame, _fault(fault) if fault else files, done.seconds, done.told):
                    client.cancel(list(out))
                    return


def _finished(futures: list[Any]) -> list[Any]:
    """Those that are done, as soon as one is."""
    while True:
        done = [future for future in futures if future.done()]
        if done:
            return done
        time.sleep(LOOK_SECONDS)


def _task(render: Render, frame: int) -> FrameTask:
    """A frame in what every machine understands: paths of originals, the recipe, where the file goes."""
    recipe, output = asked_for(render)
    shot = render.deliverable.shot
    files: dict[str, str] = {}
    manifests: dict[str, dict[str, str]] = {}
    black = []
    for name, found in needed(shot, recipe, output, frame).items():
        if not isinstance(found, FileAtFrame):
            raise found.at(f"source '{name}'")
        files[name] = found.kept.original.path
        if texts := manifests_of(found.kept):
            manifests[name] = texts
        black += [name] if found.black else []
    return FrameTask(
        recipe.as_json(),
        files,
        tuple(sources_behind(recipe, output.addresses)),
        tuple(recipe.outputs),
        str(render_folder(render.pk)),
        frame,
        shot=shot.name,
        black=tuple(black),
        manifests=manifests,
    )


def _fault(fault: BaseException) -> NexalError | OSError:
    """What went wrong with one frame; what is no error of ours is the worker's, and leaves the other frames alone."""
    if isinstance(fault, NexalError | OSError):
        return fault
    return RenderError(f"its worker gave it up ({type(fault).__name__})", remedy="render it again, or see its log")

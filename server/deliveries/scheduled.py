"""Frames rendered by the workers of a Dask scheduler, which see the same folders; the rows stay the truth."""

import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from django.conf import settings

from deliveries.models import UNFINISHED, Render, RenderedFrame, RenderState
from deliveries.services import asked_for, needed, render_folder
from nexal.analysis.frames import FrameTask, connected, render_frame
from nexal.errors import NexalError, RenderError
from nexal.session import sources_behind
from sources.sequences import Standing

AHEAD = 2
"""Frames for each worker that are handed out at a time: what is paused is soon at rest."""
LOOK_SECONDS = 0.03
Settle = Callable[[RenderedFrame, list[Path] | Exception, float], bool]


def render_frames(render: Render, settle: Settle) -> None:
    """Render the frames of a render that are waiting, until it is stopped; `settle` keeps what came of each.

    A frame that is handed out twice, because a process was killed, gives the same file. Raises NexalError where the
    scheduler does not answer.
    """
    with connected(settings.NEXAL_SCHEDULER) as client:
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
                    settle(frame, error, 0.0)
                    continue
                out[client.submit(_timed, task, pure=False, retries=3)] = frame
            if not out:
                return
            for future in _finished(list(out)):
                frame = out.pop(future)
                fault = future.exception()
                files, seconds = ([], 0.0) if fault else future.result()
                if not settle(frame, _fault(fault) if fault else [Path(file) for file in files], seconds):
                    client.cancel(list(out))
                    return


def _finished(futures: list[Any]) -> list[Any]:
    """Those that are done, as soon as one is."""
    while True:
        done = [future for future in futures if future.done()]
        if done:
            return done
        time.sleep(LOOK_SECONDS)


def _timed(task: FrameTask) -> tuple[list[str], float]:
    began = time.monotonic()
    return list(render_frame(task).files), time.monotonic() - began


def _task(render: Render, frame: int) -> FrameTask:
    """A frame in what every machine understands: paths of originals, the recipe, where the file goes."""
    recipe, output = asked_for(render)
    shot = render.deliverable.shot
    files: dict[str, str] = {}
    black = []
    for name, found in needed(shot, recipe, output, frame).items():
        if not isinstance(found, Standing):
            raise found.at(f"source '{name}'")
        files[name] = found.kept.original.path
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
    )


def _fault(fault: BaseException) -> NexalError | OSError:
    """What went wrong with one frame; what is no error of ours is the worker's, and leaves the other frames alone."""
    if isinstance(fault, NexalError | OSError):
        return fault
    return RenderError(f"its worker gave it up ({type(fault).__name__})", remedy="render it again, or see its log")

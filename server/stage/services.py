"""The server's one engine, and what the stage asks of it."""

import fcntl
import gc
import threading
from functools import cache
from pathlib import Path

from django.conf import settings

from config.rows import rows
from nexal.engine import Engine, Kept, Plan, Reader
from nexal.errors import NexalError, SourceError
from nexal.formats.reading import BlackSource, reading
from nexal.recipe import Recipe
from projects.models import Shot
from sources.models import Source, SourceState
from sources.sequences import files_at
from sources.services import manifests_of, used


@cache
def engine() -> Engine:
    return Engine(settings.NEXAL_CACHE_BYTES, kept=Kept(settings.NEXAL_KEPT, settings.NEXAL_KEPT_BYTES))


def wait_for_compiler() -> None:
    """Wait until another process that compiles the kernels for all is done (`run` holds the lock for it): what it keeps
    on the disk is only loaded then. What is needed before that is compiled where it is needed."""
    path = Path(settings.VAR) / "compiling.lock"
    if path.exists():
        with path.open("rb") as lock:
            fcntl.flock(lock, fcntl.LOCK_SH)


def warm_up() -> None:
    """Compile and load kernels in the background, so that the first drag does not wait for them."""

    def work() -> None:
        from nexal.kernels.warm import warm
        from nexal.operations import catalogue

        catalogue()
        wait_for_compiler()
        warm()
        # What is loaded stays: looked through for garbage again and again, it would stop everybody for a fifth of a
        # second once in some hundred requests.
        gc.collect()
        gc.freeze()

    threading.Thread(target=work, name="nexal-warm-up", daemon=True).start()


def source_rows(shot: Shot, recipe: Recipe) -> dict[str, Source]:
    """The shot's imports by the recipe's names for them; they are found among its own and nowhere else."""
    wanted = list({spec.files for spec in recipe.sources.values()})
    if not wanted:
        return {}
    names = ", ".join(["%s"] * len(wanted))
    query = f"FROM sources_source WHERE shot_id = %s AND files IN ({names})"
    found: dict[str, Source] = {source.files: source for (source,) in rows(query, [shot.pk, *wanted], Source)}
    return {name: found[spec.files] for name, spec in recipe.sources.items() if spec.files in found}


def plan(shot: Shot, recipe: Recipe, frame: int) -> Plan:
    """The recipe's nodes at a frame. What is not there is told with the reason; what was dropped is unpacked again."""
    readers: dict[str, Reader] = {}
    absent: dict[str, NexalError] = {}
    for name, chosen in files_at(source_rows(shot, recipe), recipe.sources, frame):
        if isinstance(chosen, NexalError):
            absent[name] = chosen
            continue
        row = chosen.kept
        file = used(row) if row.state != SourceState.FAILED else None
        if file is not None and file.started:
            try:
                names = manifests_of(row, file)
                reader = reading(file, recipe.sources[name], row.fingerprint, chosen.number, names)
            except NexalError as error:
                raise error.at(f"source '{name}'") from None
            readers[name] = BlackSource(reader) if chosen.black else reader
        elif row.state == SourceState.FAILED:
            problem = row.problem
            absent[name] = SourceError(
                (problem.get("message") or "could not be read")
                + ("" if chosen.number is None else f", in its frame {chosen.number}"),
                remedy=problem.get("remedy") or "import its file again",
            )
        else:
            which = "is" if chosen.number is None else f"frame {chosen.number} is"
            absent[name] = SourceError(f"{which} being unpacked", remedy="wait until it is done")
    return Plan(recipe, frame, readers, absent)

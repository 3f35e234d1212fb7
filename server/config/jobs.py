"""Work that outlives its request, in threads of the server's own process.

Every job can be started again from its database row: what a stopped server left unfinished is taken up by `resume`.
"""

import logging
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from functools import cache
from typing import Any

from django.conf import settings
from django.db import close_old_connections, connection

log = logging.getLogger("nexal.jobs")


@cache
def _pool() -> ThreadPoolExecutor:
    return ThreadPoolExecutor(2, thread_name_prefix="nexal-job")


def _guarded(work: Callable[..., None], arguments: tuple[Any, ...]) -> None:
    close_old_connections()
    try:
        work(*arguments)
    except Exception:
        log.exception("job %s%r failed", work.__name__, arguments)
    finally:
        connection.close()


def submit(work: Callable[..., None], *arguments: Any) -> None:
    """Run `work` soon in another thread; at once, in this one, where NEXAL_JOBS is `inline` (tests)."""
    if settings.NEXAL_JOBS == "inline":
        work(*arguments)
    else:
        _pool().submit(_guarded, work, arguments)


def resume() -> None:
    """Take up imports and renders that were not finished."""
    from deliveries.services import resume_renders
    from sources.services import resume_imports

    resume_imports()
    resume_renders()

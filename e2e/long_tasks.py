"""Guards the main thread of pages: a task that computes for long freezes whatever its person does.

Wall time says little on a busy machine, so each task is judged by the processor time that its thread used meanwhile.
The system tells that of a thread, and is asked some times a second: a trace of the browser tells it too, and made all
tests a fifth slower.
"""

from __future__ import annotations

import os
import time
from bisect import bisect_left
from collections import deque
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from threading import Lock, Thread

from patience import wait_until
from playwright.sync_api import Browser, BrowserContext

MOST_MS = 500
"""Milliseconds of processor time that one task may take, on a machine that needs `REFERENCE_MS` for the reference."""
DOUBT = 1.6
"""How much more than that is seen before it is believed: where many programs take turns, the same task was seen to use
twice the time of a moment before."""
REFERENCE_MS = 270
REFERENCES = 4
MOST_SLOWNESS = 4
"""What is slower than this by that much tells nothing about the page."""
PERIOD = 0.04
"""Seconds between two looks at what the threads have used."""
_KEPT = 15000
_OBSERVE = """(() => {
  const observer = new PerformanceObserver((list) => {
    for (const entry of list.getEntries()) {
      const start = performance.timeOrigin + entry.startTime;
      if (entry.duration > %d) window.reportLongTask([start, start + entry.duration]);
    }
  });
  observer.observe({ type: "longtask", buffered: true });
})()"""
_REFERENCE = """() => new Promise((done) => setTimeout(() => {
  const start = performance.timeOrigin + performance.now();
  let rows = [];
  for (let round = 0; round < 12; round++) {
    rows = [];
    for (let i = 0; i < 20000; i++) rows.push({ name: `row ${(i * 7919) % 20011}`, at: i });
    rows.sort((a, b) => (a.name < b.name ? -1 : 1));
  }
  done([start, performance.timeOrigin + performance.now(), rows.length]);
}))"""


@dataclass(frozen=True)
class LongTask:
    """Milliseconds of a task on the main thread of a page: processor time, and time by the clock."""

    processor: float
    clock: float


class Renderers:
    """What the main threads of a browser's pages have used of the processors, looked at all the while."""

    def __init__(self, browser: int) -> None:
        """`browser`: the number of its process."""
        self._browser = browser
        self._pages: dict[int, bool] = {}
        self._looks: deque[tuple[float, dict[int, float]]] = deque(maxlen=_KEPT)
        self._lock = Lock()
        Thread(target=self._look_on, daemon=True).start()

    def used(self, start: float, end: float) -> float:
        """The most milliseconds that one of the threads used between two times, in milliseconds since 1970."""
        wait_until(lambda: self._looks and self._looks[-1][0] >= end, "the threads were looked at after the task")
        with self._lock:
            looks = list(self._looks)
        pages = {page for _, used in looks for page in used}
        return max((_used_by(page, looks, end) - _used_by(page, looks, start) for page in pages), default=0.0)

    def _look_on(self) -> None:
        turn = 0
        while True:
            if turn % 5 == 0:
                self._find()
            turn += 1
            used = {}
            for page in [page for page, renders in self._pages.items() if renders]:
                with suppress(OSError):
                    used[page] = int(Path(f"/proc/{page}/task/{page}/schedstat").read_text().split()[0]) / 1e6
            with self._lock:
                self._looks.append((time.time() * 1000, used))
            time.sleep(PERIOD)

    def _find(self) -> None:
        found: dict[int, bool] = {}
        wanted = [self._browser]
        while wanted:
            process = wanted.pop()
            renders = self._pages.get(process)
            if not renders:
                # What is forked off becomes a renderer a moment later.
                with suppress(OSError):
                    renders = b"--type=renderer" in Path(f"/proc/{process}/cmdline").read_bytes()
            found[process] = bool(renders)
            wanted += _children(process)
        self._pages = found


def _children(process: int) -> list[int]:
    """Processes that a process started; of one that has gone meanwhile, none."""
    found: list[int] = []
    with suppress(OSError):
        for task in os.listdir(f"/proc/{process}/task"):
            with suppress(OSError):
                found += map(int, Path(f"/proc/{process}/task/{task}/children").read_text().split())
    return found


def _used_by(page: int, looks: list[tuple[float, dict[int, float]]], at: float) -> float:
    """Milliseconds of processor time until a moment, as if used evenly between two looks."""
    known = [(when, used[page]) for when, used in looks if page in used]
    place = bisect_left(known, (at,))
    if place == 0:
        return 0.0 if not known else known[0][1]
    if place == len(known):
        return known[-1][1]
    (before, less), (after, more) = known[place - 1], known[place]
    return less + (more - less) * (at - before) / (after - before)


class LongTasks:
    """The long tasks of all pages of a browser since they were asked for last."""

    def __init__(self, browser: Browser) -> None:
        self._browser = browser
        session = browser.new_browser_cdp_session()
        processes = session.send("SystemInfo.getProcessInfo")["processInfo"]
        session.detach()
        self._renderers = Renderers(next(process["id"] for process in processes if process["type"] == "browser"))
        self._reported: list[tuple[float, float]] = []

    def watch(self, context: BrowserContext) -> None:
        """Every page of a context from now on."""
        context.expose_binding("reportLongTask", lambda _, span: self._reported.append(tuple(span)))
        context.add_init_script(_OBSERVE % MOST_MS)

    def take(self) -> list[LongTask]:
        """Tasks that were long by the clock, the longest in processor time first."""
        reported, self._reported = self._reported, []
        tasks = [LongTask(self._renderers.used(start, end), end - start) for start, end in reported]
        return sorted(tasks, key=lambda task: -task.processor)

    def most(self) -> float:
        """Milliseconds of processor time that a task may take on this machine at this time.

        On one that is shared the same takes sometimes twice as long as a moment before: the slowest of a few counts.
        """
        context = self._browser.new_context()
        try:
            page = context.new_page()
            runs = [page.evaluate(_REFERENCE) for _ in range(REFERENCES)]
        finally:
            context.close()
        slowest = max(self._renderers.used(start, end) for start, end, _ in runs)
        return MOST_MS * DOUBT * min(max(slowest / REFERENCE_MS, 1.0), MOST_SLOWNESS)

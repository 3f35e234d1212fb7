"""Guards the main thread of pages: a task that computes for long freezes whatever its person does.

Wall time says little on a busy machine, so each task is judged by the processor time that its thread used, which only
Chromium's tracing tells. Tracing goes on all the while into a ring of memory, and is read only where a page reported a
task that was long by the clock.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from patience import wait_until
from playwright.sync_api import Browser, BrowserContext

MOST_MS = 500
"""Milliseconds of processor time that one task may take."""
CATEGORY = "disabled-by-default-devtools.timeline"
_OBSERVE = """(() => {
  const observer = new PerformanceObserver((list) => {
    for (const entry of list.getEntries()) if (entry.duration > %d) window.reportLongTask(entry.duration);
  });
  observer.observe({ type: "longtask", buffered: true });
})()"""


@dataclass(frozen=True)
class LongTask:
    """Milliseconds of a task on the main thread of a page: processor time, and time by the clock."""

    processor: float
    clock: float


class LongTasks:
    """The long tasks of all pages of a browser since they were asked for last."""

    def __init__(self, browser: Browser) -> None:
        self._session = browser.new_browser_cdp_session()
        self._events: list[dict[str, Any]] = []
        self._complete = 0
        self._session.on("Tracing.dataCollected", lambda data: self._events.extend(data["value"]))
        self._session.on("Tracing.tracingComplete", lambda _: self._count())
        self._reported: list[float] = []
        self._start()

    def watch(self, context: BrowserContext) -> None:
        """Every page of a context from now on."""
        context.expose_binding("reportLongTask", lambda _, milliseconds: self._reported.append(milliseconds))
        context.add_init_script(_OBSERVE % MOST_MS)

    def take(self) -> list[LongTask]:
        """Tasks that were long by the clock, the longest in processor time first."""
        if not self._reported:
            return []
        self._reported.clear()
        before = self._complete
        self._session.send("Tracing.end")
        try:
            # What the browser sends is heard while it is asked something.
            wait_until(
                lambda: self._complete > before,
                "the trace has come",
                pause=lambda: self._session.send("Browser.getVersion"),
            )
            return _tasks(self._events)
        finally:
            self._events = []
            self._start()

    def _count(self) -> None:
        self._complete += 1

    def _start(self) -> None:
        self._session.send(
            "Tracing.start",
            {
                "transferMode": "ReportEvents",
                "traceConfig": {
                    "includedCategories": [CATEGORY],
                    "excludedCategories": ["*"],
                    "recordMode": "recordContinuously",
                },
            },
        )


def _tasks(events: list[dict[str, Any]]) -> list[LongTask]:
    main_threads = {
        (event["pid"], event["tid"])
        for event in events
        if event.get("name") == "thread_name" and event["args"].get("name") == "CrRendererMain"
    }
    tasks = [
        LongTask(event["tdur"] / 1000, event["dur"] / 1000)
        for event in events
        if event.get("name") == "RunTask"
        and event.get("dur", 0) > 1000 * MOST_MS
        and (event["pid"], event["tid"]) in main_threads
        and "tdur" in event
    ]
    return sorted(tasks, key=lambda task: -task.processor)

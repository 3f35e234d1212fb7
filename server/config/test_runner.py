"""The test runner: Django's own, with settings that only tests want."""

import json
import logging
import os
import sys
import time
import unittest
from importlib import import_module
from pathlib import Path
from typing import Any

from django.conf import settings
from django.test.runner import DiscoverRunner, ParallelTestSuite, RemoteTestResult, RemoteTestRunner

_LONGEST = 25


def _times() -> Path:
    return Path(settings.VAR) / "test_times.jsonl"


def _note(kind: str, name: str, began: float) -> None:
    """One line of what ran how long, appended whole, by whichever process ran it."""
    line = json.dumps({"kind": kind, "name": name, "at": began, "seconds": time.time() - began, "by": os.getpid()})
    with _times().open("a") as file:
        file.write(line + "\n")


class _TimedResult(RemoteTestResult):
    """A worker's result, which notes how long each test ran."""

    def startTest(self, test: Any) -> None:  # noqa: N802
        self._began = time.time()
        super().startTest(test)

    def stopTest(self, test: Any) -> None:  # noqa: N802
        super().stopTest(test)
        _note("test", test.id(), self._began)

    def addSubTest(self, test: Any, subtest: Any, err: Any) -> None:  # noqa: N802
        """A failure of the test itself, that says of what: what a test holds can't all be sent to another process, and
        where it can't, the whole run ends."""
        if err is None:
            return
        kind, error, trace = err
        told = AssertionError(f"{subtest._subDescription()}: {error!r}")
        (self.addFailure if issubclass(kind, test.failureException) else self.addError)(
            test, (AssertionError, told, trace)
        )


class _TimedRunner(RemoteTestRunner):
    resultclass = _TimedResult


def _run_timed(args: Any) -> Any:
    """One class of tests in a worker, with what its set-up and tear-down cost."""
    began = time.time()
    runner_class, index, suite, failfast, buffer = args
    name = next(iter(suite)).id().rpartition(".")[0]
    events = runner_class(failfast=failfast, buffer=buffer).run(suite).events
    _note("class", name, began)
    return index, events


class _TimedSuite(ParallelTestSuite):
    run_subsuite = _run_timed
    runner_class = _TimedRunner


def _longest() -> str:
    """What a run that wants to be shorter looks at first: the longest tests, and how evenly the workers were used."""
    rows = [json.loads(line) for line in _times().read_text().splitlines()]
    told = [
        f"worker {by}: {sum(r['seconds'] for r in rows if r['kind'] == 'class' and r['by'] == by):.0f} s"
        for by in sorted({row["by"] for row in rows})
    ]
    tests = sorted((row for row in rows if row["kind"] == "test"), key=lambda row: -row["seconds"])
    told += [f"{row['seconds']:6.1f} s  {row['name']}" for row in tests[:_LONGEST]]
    return "\n".join(told)


class NexalRunner(DiscoverRunner):
    """Cheap password hashes, quiet refusals, the folders of the tests' shared helpers on the path, and at the end what
    failed in few lines, since logs are cut, and what took longest."""

    parallel_test_suite = _TimedSuite

    def setup_test_environment(self, **kwargs: Any) -> None:
        super().setup_test_environment(**kwargs)
        settings.PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]
        # Tests run side by side in processes that may have no children of their own.
        settings.NEXAL_SCHEDULER = "here"
        logging.getLogger("django.request").setLevel(logging.CRITICAL)
        for folder in ("core/tests", "server/tests"):
            sys.path.insert(0, str(Path(settings.ROOT) / folder))
        # Before any test is read: how properties are tried is settled where they are written.
        import_module("patience")

    def run_suite(self, suite: unittest.TestSuite, **kwargs: Any) -> Any:
        _times().unlink(missing_ok=True)
        result = super().run_suite(suite, **kwargs)
        if _times().exists():
            self.log(_longest())
        return result

    def suite_result(self, suite: unittest.TestSuite, result: Any, **kwargs: Any) -> int:
        here = f'File "{settings.ROOT}/'
        for test, trace in [*result.errors, *result.failures]:
            lines = [line.strip() for line in trace.strip().splitlines()]
            own = next((line for line in reversed(lines) if line.startswith(here) and "/.venv/" not in line), "")
            said = next((line for line in lines if "Error: " in line), lines[-1])
            print(f"failed: {test.id()}\n  {own.replace(here, '')}\n  {said[:300]}", file=sys.stderr)
        return super().suite_result(suite, result, **kwargs)

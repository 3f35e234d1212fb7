"""The test runner: Django's own, with settings that only tests want."""

import logging
import sys
import unittest
from pathlib import Path
from typing import Any

from django.conf import settings
from django.test.runner import DiscoverRunner


class NexalRunner(DiscoverRunner):
    """Cheap password hashes, quiet refusals, the folders of the tests' shared helpers on the path, and at the end what
    failed in few lines, since logs are cut."""

    def setup_test_environment(self, **kwargs: Any) -> None:
        super().setup_test_environment(**kwargs)
        settings.PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]
        # Tests run side by side in processes that may have no children of their own.
        settings.NEXAL_SCHEDULER = "here"
        logging.getLogger("django.request").setLevel(logging.CRITICAL)
        for folder in ("core/tests", "server/tests"):
            sys.path.insert(0, str(Path(settings.ROOT) / folder))

    def suite_result(self, suite: unittest.TestSuite, result: Any, **kwargs: Any) -> int:
        here = f'File "{settings.ROOT}/'
        for test, trace in [*result.errors, *result.failures]:
            lines = [line.strip() for line in trace.strip().splitlines()]
            own = next((line for line in reversed(lines) if line.startswith(here) and "/.venv/" not in line), "")
            said = next((line for line in lines if "Error: " in line), lines[-1])
            print(f"failed: {test.id()}\n  {own.replace(here, '')}\n  {said[:300]}", file=sys.stderr)
        return super().suite_result(suite, result, **kwargs)

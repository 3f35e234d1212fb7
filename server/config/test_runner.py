"""The test runner: Django's own, with settings that only tests want."""

import logging
import sys
from pathlib import Path
from typing import Any

from django.conf import settings
from django.test.runner import DiscoverRunner


class NexalRunner(DiscoverRunner):
    """Cheap password hashes, quiet refusals, and the folders of the tests' shared helpers on the path."""

    def setup_test_environment(self, **kwargs: Any) -> None:
        super().setup_test_environment(**kwargs)
        settings.PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]
        # Tests run side by side in processes that may have no children of their own.
        settings.NEXAL_SCHEDULER = "here"
        logging.getLogger("django.request").setLevel(logging.CRITICAL)
        for folder in ("core/tests", "server/tests"):
            sys.path.insert(0, str(Path(settings.ROOT) / folder))

"""A database, a person and a shot of their own, to be asked as the browser asks."""

from __future__ import annotations

import os
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np


@dataclass
class Served:
    """Somebody who is signed in, and what they work in."""

    client: Any
    api: Any
    project: Any
    user: Any

    def shot(self, name: str, width: int, height: int) -> int:
        """A shot of one picture of grain, `moth`, unpacked."""
        from django.core.files.base import ContentFile
        from server_support import exr_bytes

        from projects.models import Shot
        from recipes.services import first_revision
        from sources.services import import_file

        shot = Shot.objects.create(project=self.project, name=name)
        first_revision(shot, self.user.pk)
        random = np.random.default_rng(1)
        content = exr_bytes({channel: random.random((height, width)).astype(np.float16) for channel in "RGB"})
        import_file(shot, "moth.exr", ContentFile(content, name="moth.exr"))
        return int(shot.pk)


def ready() -> None:
    """Make the server's code and what its tests share importable here."""
    root = Path(__file__).resolve().parent.parent
    sys.path[:0] = [str(root / "server"), str(root / "server" / "tests")]
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "config.settings")
    import django

    django.setup()


@contextmanager
def served() -> Iterator[Served]:
    ready()
    from django.conf import settings
    from django.test import Client
    from django.test.utils import get_runner, setup_test_environment, teardown_test_environment

    setup_test_environment()
    runner = get_runner(settings)(verbosity=0, interactive=False)
    databases = runner.setup_databases()
    try:
        with tempfile.TemporaryDirectory() as folder:
            settings.MEDIA_ROOT, settings.NEXAL_STORE = Path(folder) / "media", Path(folder) / "store"
            settings.NEXAL_JOBS = "inline"
            from server_support import Api

            from accounts.models import User
            from projects.models import Membership, Project, Role

            user = User.objects.create_user("bench", password="x")
            project = Project.objects.create(name="bench")
            Membership.objects.create(project=project, user=user, role=Role.OWNER)
            client = Client()
            client.force_login(user)
            yield Served(client, Api(client), project, user)
    finally:
        runner.teardown_databases(databases)
        teardown_test_environment()

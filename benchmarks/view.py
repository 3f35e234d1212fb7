"""A view request: 1280 x 720 of a 4K source, five steps, the last setting changed, against a plain fetch."""

import os
import sys
import tempfile
import time
from pathlib import Path
from types import ModuleType

import numpy as np

from benchmarks.measure import report

REQUESTS = 100


def main() -> None:
    root = Path(__file__).resolve().parent.parent
    sys.path[:0] = [str(root / "server"), str(root / "server" / "tests")]
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "config.settings")
    import django
    from django.conf import settings

    django.setup()
    from django.test.utils import get_runner, setup_test_environment, teardown_test_environment

    setup_test_environment()
    runner = get_runner(settings)(verbosity=0, interactive=False)
    databases = runner.setup_databases()
    try:
        with tempfile.TemporaryDirectory() as folder:
            settings.MEDIA_ROOT, settings.NEXAL_STORE = Path(folder) / "media", Path(folder) / "store"
            settings.NEXAL_JOBS = "inline"
            _measure()
    finally:
        runner.teardown_databases(databases)
        teardown_test_environment()


def _measure() -> None:
    from django.core.files.base import ContentFile
    from django.http import HttpResponse
    from django.test import Client, override_settings
    from django.urls import path
    from server_support import Api, exr_bytes

    from accounts.models import User
    from projects.models import Membership, Project, Role, Shot
    from recipes.services import first_revision
    from sources.services import import_file

    user = User.objects.create_user("bench", password="x")
    project = Project.objects.create(name="bench")
    Membership.objects.create(project=project, user=user, role=Role.OWNER)
    shot = Shot.objects.create(project=project, name="bench")
    first_revision(shot, user.pk)
    random = np.random.default_rng(1)
    content = exr_bytes({name: random.random((2160, 4096)).astype(np.float16) for name in "RGB"})
    import_file(shot, "moth.exr", ContentFile(content, name="moth.exr"))
    client = Client()
    client.force_login(user)
    api = Api(client)
    steps = [
        {"name": "others", "op": "cross", "in": {"a": "moth.R", "b": "moth.B"}, "set": {"mode": "lighten"}},
        {"name": "pull", "op": "cross", "in": {"a": "moth.G", "b": "others"}, "set": {"mode": "subtract"}},
        {"name": "core", "op": "stretch", "in": {"from": "pull"}, "set": {"black": 0.02, "white": 0.3}},
        {"name": "matte", "op": "invert", "in": {"from": "core"}},
        {
            "name": "cut",
            "op": "attach_alpha",
            "in": {"picture": "moth", "alpha": "matte"},
            "set": {"state": "premultiply"},
        },
    ]

    def ask(number: int) -> float:
        steps[2]["set"]["white"] = 0.3 + number / 1000
        recipe = {"nexal": 1, "sources": {"moth": {"files": "moth.exr"}}, "steps": steps}
        body = {"recipe": recipe, "address": "cut", "scale": 1, "region": [1200, 600, 1280, 720], "view": "bench"}
        start = time.perf_counter()
        response = api.post(f"/api/shots/{shot.pk}/view", body)
        seconds = time.perf_counter() - start
        assert response.status_code == 200, response.content
        assert len(response.content) == 1280 * 720 * 4 * 2
        return seconds

    ask(0)
    plain = bytes(1280 * 720 * 4 * 2)
    urls = ModuleType("plain_urls")
    urls.urlpatterns = [path("plain", lambda request: HttpResponse(plain))]  # type: ignore[attr-defined]

    def fetch() -> float:
        start = time.perf_counter()
        assert len(client.get("/plain").content) == len(plain)
        return time.perf_counter() - start

    times = np.array([ask(number + 1) for number in range(REQUESTS)])
    with override_settings(ROOT_URLCONF=urls):
        fetches = np.array([fetch() for _ in range(REQUESTS)])
    p50, p95 = np.percentile(times, [50, 95])
    report(
        "view request, 1280 x 720 of 4096 x 2160 in four channels, third of five steps changed, 100 times",
        [
            f"p50 {p50 / np.median(fetches):.1f}, p95 {p95 / np.median(fetches):.1f} plain answers of the same bytes",
            f"here: p50 {p50 * 1e3:.0f} ms, p95 {p95 * 1e3:.0f} ms of server time (aim: p95 at most 60 ms, idle)",
        ],
    )

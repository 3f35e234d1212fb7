"""What the server's tests share: people, a project with a shot and small pictures, a client that speaks JSON."""

from __future__ import annotations

import atexit
import json
import shutil
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
from django.conf import settings
from django.core.files.uploadedfile import SimpleUploadedFile
from django.http import HttpResponse
from django.test import Client, SimpleTestCase, TestCase, override_settings

from accounts.models import User
from projects.models import Membership, Project, Role, Shot
from recipes.services import first_revision
from sources import services as source_services
from stage.pace import Pace

PASSWORD = "fern-frond-lantern"


@cache
def _shared_store() -> Path:
    folder = tempfile.TemporaryDirectory(prefix="nexal-store-")
    atexit.register(folder.cleanup)
    return Path(folder.name)


# What slow work leaves behind belongs to the tests alone; the server's engine takes the folder once. The store of
# planes is not touched here: each process of parallel tests has to make its own.
settings.NEXAL_KEPT = Path(tempfile.mkdtemp(prefix="nexal-kept-"))
atexit.register(shutil.rmtree, settings.NEXAL_KEPT, ignore_errors=True)
settings.CACHES["pictures"]["LOCATION"] = tempfile.mkdtemp(prefix="nexal-pictures-")
atexit.register(shutil.rmtree, settings.CACHES["pictures"]["LOCATION"], ignore_errors=True)


def exr_bytes(
    planes: dict[str, Any], header: dict[str, Any] | None = None, **windows: tuple[int, int, int, int]
) -> bytes:
    """A file of planes; `display` and `data` are its windows (x, y, width, height) where they are not the planes'.

    `header`: further attributes.
    """
    import OpenEXR

    with tempfile.NamedTemporaryFile(suffix=".exr") as file:
        header = {"type": OpenEXR.scanlineimage, "compression": OpenEXR.ZIP_COMPRESSION} | (header or {})
        for name, (x, y, width, height) in windows.items():
            corners = np.array([x, y], np.int32), np.array([x + width - 1, y + height - 1], np.int32)
            header[f"{name}Window"] = corners
        with OpenEXR.File(header, {name: np.ascontiguousarray(plane) for name, plane in planes.items()}) as exr:
            exr.write(file.name)
        return Path(file.name).read_bytes()


def plate(width: int = 64, height: int = 48) -> dict[str, np.ndarray]:
    """A small green-backed plate: the subject is a disc."""
    y, x = np.mgrid[0:height, 0:width]
    disc = np.hypot(x - width / 2, y - height / 2) < height / 3
    colours = {"R": (0.8, 0.1), "G": (0.5, 0.6), "B": (0.2, 0.15)}
    return {name: np.where(disc, inside, outside).astype(np.float16) for name, (inside, outside) in colours.items()}


class Served(SimpleTestCase):
    """A clean media folder, jobs done at once. Decoded planes are shared between tests unless `own_store` is set."""

    own_store = False

    def setUp(self) -> None:
        super().setUp()
        folder = Path(tempfile.mkdtemp(prefix="nexal-server-"))
        self.addCleanup(shutil.rmtree, folder, ignore_errors=True)
        store = folder / "store" if self.own_store else _shared_store()
        overridden = override_settings(MEDIA_ROOT=folder / "media", NEXAL_STORE=store, NEXAL_JOBS="inline")
        overridden.enable()
        self.addCleanup(overridden.disable)
        source_services.library.cache_clear()
        self.addCleanup(source_services.library.cache_clear)
        self.addCleanup(lambda: source_services.library().close())
        self.owner, self.viewer, self.stranger = (
            User.objects.create_user(name, password=PASSWORD) for name in ("owner", "viewer", "stranger")
        )
        self.project = Project.objects.create(name="Night Conservatory")
        Membership.objects.create(project=self.project, user=self.owner, role=Role.OWNER)
        Membership.objects.create(project=self.project, user=self.viewer, role=Role.VIEWER)
        self.shot = Shot.objects.create(project=self.project, name="040 moth")
        first_revision(self.shot, self.owner.pk)
        self.api = self.as_user(self.owner)

    def as_user(self, user: User | None) -> Api:
        client = Client(raise_request_exception=False)
        if user:
            client.force_login(user)
        return Api(client)

    def upload(self, name: str = "moth.exr", content: bytes | None = None) -> dict[str, Any]:
        answer = self.api.upload(self.shot.pk, name, content if content is not None else exr_bytes(plate()))
        self.assertEqual(answer.status_code, 200, answer.content)
        return answer.json()

    def story(self) -> dict[str, Any]:
        """A recipe over the uploaded moth."""
        return {
            "nexal": 1,
            "sources": {"moth": {"files": "moth.exr"}},
            "steps": [
                {
                    "name": "pull",
                    "op": "cross",
                    "in": {"a": "moth.G", "b": "moth.R"},
                    "set": {"mode": "subtract", "domain": "scene"},
                },
                {"name": "core", "op": "stretch", "in": {"from": "pull"}, "set": {"black": 0.1, "white": 0.4}},
                {"name": "matte", "op": "invert", "in": {"from": "core"}},
                {"name": "cut", "op": "attach_alpha", "in": {"picture": "moth", "alpha": "matte"}},
            ],
        }

    def save(self, recipe: dict[str, Any], parent: int | None = None) -> HttpResponse:
        self.shot.refresh_from_db()
        assert self.shot.head
        body = {"parent": self.shot.head.number if parent is None else parent, "recipe": recipe}
        return self.api.post(f"/api/shots/{self.shot.pk}/revisions", body)


class ServerTest(Served, TestCase):
    """All in one transaction, which is undone."""


class Api:
    """Django's test client with JSON bodies."""

    def __init__(self, client: Client) -> None:
        self.client = client

    def get(self, path: str, **more: Any) -> HttpResponse:
        return self.client.get(path, **more)

    def send(self, method: str, path: str, body: Any = None) -> HttpResponse:
        return self.client.generic(method, path, _json(body), content_type="application/json")

    def put(self, path: str, body: Any) -> HttpResponse:
        return self.send("PUT", path, body)

    def delete(self, path: str) -> HttpResponse:
        return self.send("DELETE", path, None)

    def post(self, path: str, body: Any = None) -> HttpResponse:
        return self.send("POST", path, body if body is not None else {})

    def upload(self, shot: int, name: str, content: bytes) -> HttpResponse:
        return self.client.post(f"/api/shots/{shot}/sources", {"file": SimpleUploadedFile(name, content)})


def _json(body: Any) -> bytes:
    return b"" if body is None else json.dumps(body).encode()


def planes_of(response: HttpResponse) -> dict[str, np.ndarray]:
    """The half-float planes of a view, by channel."""
    about = json.loads(response["X-Nexal-View"])
    _, _, width, height = about["region"]
    samples = np.frombuffer(response.content, np.float16)
    planes = samples.reshape(len(about["channels"]), height, width)
    return dict(zip(about["channels"], planes, strict=True))


@contextmanager
def crowded(seconds: float) -> Iterator[None]:
    """A server where somebody else follows something, and nobody's turn comes before so many seconds."""
    one = Pace(lambda: 100.0, lambda: 0.0)
    with one.answering("somebody") as turn:
        turn()
    one._free = 100.0 + seconds
    with mock.patch("stage.pace.pace", return_value=one):
        yield

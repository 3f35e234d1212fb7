"""Routes of the Space bench: what depth there is, the scene from the side, what lies at a point."""

import base64
from collections.abc import Iterable
from dataclasses import asdict
from typing import Literal

from django.http import HttpRequest
from ninja import Field, Router, Schema

from nexal.analysis.depth import reports_of, sentences
from nexal.analysis.elevation import elevation as core_elevation
from nexal.analysis.elevation import located, outline_of
from nexal.camera import camera_of
from nexal.engine import Plan
from nexal.errors import NexalError
from nexal.formats.reading import StoredSource
from nexal.hashed_ids import id_layers
from nexal.picture import ALPHA_NAME, Description, split_channel
from projects.access import seen_shot
from stage.requests import Ask, Position, plan_of
from stage.services import engine

router = Router()

Depth = float
MOST_NAMES = 5_000
"""Names of ids that are listed; others can be picked on the stage."""


class DepthRow(Schema):
    """What one depth channel holds, in words and figures."""

    channel: str
    kind: str
    likely: bool
    near_is: Literal["small", "large"]
    range: tuple[float, float]
    unit: float | None = Field(description="World units that 1 of it is, where that is known")
    averaged: float
    sentences: list[str]
    warnings: list[str]


class IdRow(Schema):
    """A layer of ids: of hashed names, or a channel of numbers."""

    address: str
    layer: str
    names: list[str]
    problem: str


class SpaceRow(Schema):
    """What a source knows of its space; addresses of passes, empty where there is none."""

    source: str
    depths: list[DepthRow]
    position: str
    normals: str
    albedo: str
    alpha: str
    ids: list[IdRow]
    camera: list[float] | None = Field(
        description="3 x 4 by rows, world to pixels of the full picture; of the file's header"
    )


class ElevationAsk(Ask):
    address: str
    columns: int = Field(512, ge=16, le=2048)
    rows: int = Field(128, ge=16, le=1024)
    side: Literal["side", "above"] = "side"
    inverse: bool = False
    span: tuple[Depth, Depth] | None = None


class ElevationRow(Schema):
    """Density of what is seen, `rows` x `columns` bytes from the top left, as base64."""

    columns: int
    rows: int
    low: float
    high: float
    all_low: float
    all_high: float
    density: str


class LocateAsk(Ask):
    """Addresses of what is asked at a point."""

    x: Position
    y: Position
    depth: str | None = None
    position: str | None = None
    ids: str | None = None
    outline: bool = Field(False, description="Whether the outline of the uppermost id is wanted")


class FoundId(Schema):
    """A number or eight hex digits, its name where that is known, and its coverage."""

    id: str
    name: str
    coverage: float


class LocatedRow(Schema):
    depth: float | None
    position: tuple[float, float, float] | None
    ids: list[FoundId]
    outline: list[list[tuple[float, float]]] = Field([], description="Closed lines, in full-resolution pixels")


def _layers(description: Description, role: str) -> Iterable[str]:
    """Layers of a role, by name, whose channels are all of it."""
    return dict.fromkeys(
        split_channel(name)[0] for name in description.channels if description.trait(name).role == role
    )


def _layer(source: str, description: Description, role: str) -> str:
    found = next(iter(_layers(description, role)), None)
    return "" if found is None else f"{source}.{found}" if found else source


def _known(name: str, source: StoredSource) -> SpaceRow | None:
    description = source.description
    hashed = id_layers(description.metadata)
    ids = [
        IdRow(address=name, layer=layer.name, names=sorted(layer.names)[:MOST_NAMES], problem=layer.problem)
        for layer in hashed.values()
    ]
    if not hashed:
        labels = [channel for channel in description.channels if description.trait(channel).is_label]
        ids += [IdRow(address=f"{name}.{channel}", layer="", names=[], problem="") for channel in labels]
    try:
        depths = [DepthRow(**report.as_json(), sentences=sentences(report)) for report in reports_of(source)]
    except NexalError:
        depths = []
    position, normals = _layer(name, description, "position"), _layer(name, description, "normal")
    if not (depths or position or normals or ids):
        return None
    albedo = next((layer for layer in _layers(description, "light") if layer.endswith("albedo")), "")
    return SpaceRow(
        source=name,
        depths=depths,
        position=position,
        normals=normals,
        albedo=f"{name}.{albedo}" if albedo else "",
        alpha=f"{name}.{ALPHA_NAME}" if description.has_alpha else "",
        ids=ids,
        camera=_camera(description),
    )


def _camera(description: Description) -> list[float] | None:
    try:
        found = camera_of(description)
    except NexalError:
        return None  # told in the report of its depth
    return [float(value) for row in found.matrix for value in row] if found else None


def _sources(planned: Plan) -> Iterable[tuple[str, StoredSource]]:
    for name, reader in planned.readers.items():
        if isinstance(reader, StoredSource):
            yield name, reader


@router.post("/shots/{shot_id}/space", response=list[SpaceRow])
def space(request: HttpRequest, shot_id: int, ask: Ask) -> list[SpaceRow]:
    """What the sources of a recipe know of their space, at a frame."""
    rows = (_known(name, source) for name, source in _sources(plan_of(seen_shot(request, shot_id), ask)))
    return [row for row in rows if row is not None]


@router.post("/shots/{shot_id}/elevation", response=ElevationRow)
def elevation(request: HttpRequest, shot_id: int, ask: ElevationAsk) -> ElevationRow:
    """The scene of a depth plane from the side or from above, as a plot of density."""
    planned = plan_of(seen_shot(request, shot_id), ask)
    found = core_elevation(
        engine(), planned, planned.feed(ask.address), columns=ask.columns, rows=ask.rows, side=ask.side,
        inverse=ask.inverse, span=ask.span,
    )  # fmt: skip
    figures = asdict(found)
    density = figures.pop("density")
    return ElevationRow(
        columns=ask.columns, rows=ask.rows, density=base64.b64encode(density.tobytes()).decode(), **figures
    )


@router.post("/shots/{shot_id}/locate", response=LocatedRow)
def locate(request: HttpRequest, shot_id: int, ask: LocateAsk) -> LocatedRow:
    """Depth, place in the world and ids at a point of the picture."""
    planned = plan_of(seen_shot(request, shot_id), ask)
    wanted = {"depth": ask.depth, "position": ask.position, "ids": ask.ids}
    feeds = {name: planned.feed(address) for name, address in wanted.items() if address}
    found = located(engine(), planned, feeds, ask.x, ask.y)
    return LocatedRow(
        depth=found.depth,
        position=found.position,
        outline=outline_of(engine(), planned, feeds["ids"], found.ids[0][0]) if ask.outline and found.ids else [],
        ids=[FoundId(id=number, name=name, coverage=cover) for number, name, cover in found.ids],
    )

"""Routes: pictures, numbers and histograms of any item of a saved or draft recipe."""

from fractions import Fraction
from typing import Any, Literal

from django.http import Http404, HttpRequest, HttpResponse
from ninja import Field, Router, Schema

from config.errors import Problem, problem_of
from nexal.analysis.edge_view import DiagnosedState, evidence, fringe
from nexal.analysis.view import ViewPlanes, shown
from nexal.analysis.view import histogram as core_histogram
from nexal.analysis.view import probe as core_probe
from nexal.engine import Node, Plan
from nexal.engine.plan import Feed, addresses_of
from nexal.errors import NexalError, RecipeError
from nexal.picture import ALPHA_NAME, Window, main_channels
from projects.access import get_shot
from stage.answers import respond
from stage.requests import Ask, Light, Marks, plan_of, sides
from stage.services import engine
from stage.superseding import newest

router = Router()

MAX_VIEW_PIXELS = 34_000_000


class DiagnosedAs(Schema):
    """What a picture was diagnosed to be; `backing` in the values of `domain`."""

    verdict: Literal["straight", "premultiplied", "matted"]
    domain: Literal["scene", "display"] | None = None
    backing: tuple[Light, Light, Light] = (0.0, 0.0, 0.0)


class ViewAsk(Ask):
    address: str
    scale: int = Field(1, description="Denominator of the proxy scale: 1, 2, 4 or 8")
    region: tuple[int, int, int, int] | None = Field(None, description="x, y, width, height at that scale")
    channels: list[str] | None = None
    fringe: DiagnosedAs | None = Field(None, description="Show where the soft band departs from this state")
    evidence: Literal["brighter", "under"] | None = Field(None, description="Show what speaks for a diagnosis")
    alpha: str | None = Field(None, description="With `evidence`, an alpha that came apart from the picture")
    view: str = Field("", description="Name of the asking view; its next request supersedes this one")


class ProbeAsk(Ask):
    addresses: list[str] = Field(max_length=8)
    x: int
    y: int
    size: int = Field(1, ge=1, le=65)


class HistogramAsk(Ask, Marks):
    address: str
    domain: str = "display"
    bins: int = Field(128, ge=2, le=1024)
    low: float = Field(0.0, ge=-1e9, le=1e9)
    high: float = Field(1.0, ge=-1e9, le=1e9)


class Item(Schema):
    """What an item is, or what is wrong with it. Windows are x, y, width, height, relative to the display window.

    `inks` is the name of the ICC profile that it carries.
    """

    name: str
    digest: str = ""
    display: list[int] | None = None
    window: list[int] | None = None
    channels: list[str] = []
    data: list[str] = []
    alpha: str = "none"
    plane: bool = False
    inks: str | None = None
    inputs: list[str] = []
    problem: Problem | None = None


class ProbedChannel(Schema):
    name: str
    value: float | None
    encoded: float | None
    colour: bool
    non_finite: int


class Probed(Schema):
    address: str
    inside: bool
    alpha: str
    channels: list[ProbedChannel]


class HistogramRow(Schema):
    min: float | None
    max: float | None
    low: float
    high: float
    counts: list[int]
    below: int
    above: int
    total: int
    subject: list[int] | None = Field(None, description="Counts of the marked subject alone")
    background: list[int] | None = Field(None, description="Counts of the marked background alone")


def _plan(request: HttpRequest, shot_id: int, ask: Ask) -> Plan:
    return plan_of(get_shot(request, shot_id), ask)


@router.post("/shots/{shot_id}/inspect", response=list[Item])
def inspect(request: HttpRequest, shot_id: int, ask: Ask) -> list[Item]:
    """Every item of a recipe: channels, windows, alpha state and digest, or its fault."""
    planned = _plan(request, shot_id, ask)
    found = planned.inspect()
    return [_item(planned, name, found[name]) for name in planned.recipe.items()]


def _item(planned: Plan, name: str, found: Node | NexalError) -> Item:
    step = planned.recipe.step(name)
    inputs = list(dict.fromkeys(address.partition(".")[0] for address in addresses_of(step))) if step else []
    if isinstance(found, NexalError):
        return Item(name=name, inputs=inputs, problem=problem_of(found))
    description = found.description
    return Item(
        name=name,
        digest=found.digest,
        display=description.display.as_list(),
        window=description.window.as_list(),
        channels=list(description.channels),
        data=[channel for channel in description.channels if channel in description.data],
        alpha=description.alpha.value if description.has_alpha else "none",
        plane=description.is_plane,
        inks=description.inks.name if description.inks else None,
        inputs=inputs,
    )


@router.post("/shots/{shot_id}/view")
def view(request: HttpRequest, shot_id: int, ask: ViewAsk) -> HttpResponse:
    """Half-float planes of an item, one after the other; what they are stands in X-Nexal-View as JSON.

    `ranges` are the values of data planes to be shown as black and white. Ids, fringe and evidence come `finished`:
    three planes of display values, to be shown as they are.
    """
    planned = _plan(request, shot_id, ask)
    cancellation = newest(request.session.session_key, shot_id, ask.view) if ask.view else None
    return _picture(request, planned, planned.feed(ask.address), ask, cancellation)


@router.get("/shots/{shot_id}/revisions/{number}/view/{address}")
def revision_view(
    request: HttpRequest, shot_id: int, number: int, address: str, scale: int = 8, frame: int = 1
) -> HttpResponse:
    """The whole of an item of a saved revision: revisions never change, so the answer may be kept for good."""
    shot = get_shot(request, shot_id)
    revision = shot.revisions.filter(number=number).first()
    if revision is None:
        raise Http404
    planned = plan_of(shot, Ask(recipe=revision.recipe, frame=frame))
    feed = planned.feed(address)
    tag = f'"{feed.node.digest}-{address}-{scale}"'
    if request.headers.get("If-None-Match") == tag:
        return HttpResponse(status=304)
    ask = ViewAsk.model_validate({"address": address, "scale": scale, "frame": frame})
    response = _picture(request, planned, feed, ask, None)
    response["ETag"] = tag
    response["Cache-Control"] = "private, max-age=31536000, immutable"
    return response


def _chosen(feed: Feed, asked: list[str] | None) -> list[str]:
    """At most four channels to show: those asked for, else colour and alpha of the picture itself."""
    names = feed.description.channels
    if asked:
        unknown = [name for name in asked if name not in names]
        if unknown:
            raise RecipeError(f"there is no channel '{unknown[0]}'", where="channels", remedy="choose among the item's")
        return asked[:4]
    main = main_channels(feed.description)
    colour = [name for name in main if name.rpartition(".")[2] in ("R", "G", "B")]
    shown = colour if len(colour) == 3 else [name for name in main if name != ALPHA_NAME][:3]
    alpha = [name for name in main if name.rpartition(".")[2] == ALPHA_NAME][:1]
    return [*shown, *alpha]


def _picture(request: HttpRequest, planned: Plan, feed: Feed, ask: ViewAsk, cancellation: Any) -> HttpResponse:
    description = feed.description
    scale = Fraction(1, ask.scale) if ask.scale in (1, 2, 4, 8) else Fraction(0)
    whole = description.display.scaled(scale) if scale else Window(0, 0, 0, 0)
    region = Window(*ask.region) if ask.region else whole
    if scale and (region.empty or region.area > MAX_VIEW_PIXELS):
        raise RecipeError(
            f"a view of {region.width} x {region.height} pixels cannot be made",
            where="region",
            remedy="ask for a part, or for a smaller scale",
        )
    names = _chosen(feed, ask.channels)
    if ask.fringe:
        told = DiagnosedState(**ask.fringe.dict())
        colours = fringe(engine(), planned, feed, scale, region, told, cancellation)
        seen = ViewPlanes(colours, [None] * 3, finished=True)
    elif ask.evidence:
        apart = planned.feed(ask.alpha) if ask.alpha else None
        picture = evidence(engine(), planned, feed, ask.evidence, scale, region, apart)
        seen = ViewPlanes(picture, [None] * 3, finished=True)
    else:
        seen = shown(engine(), planned, feed, names, scale, region, cancellation)
    data = [seen.finished or name in description.data for name in seen.picture.planes]
    alpha = description.alpha.value if description.has_alpha and not seen.finished else "none"
    return respond(request, seen, data, alpha, region, ask.scale, description.display, feed.node.digest)


@router.post("/shots/{shot_id}/probe", response=list[Probed])
def probe(request: HttpRequest, shot_id: int, ask: ProbeAsk) -> list[Probed]:
    """Exact values under a pixel (or averaged over a square round it) of several items."""
    planned = _plan(request, shot_id, ask)
    rows = []
    for address in ask.addresses:
        feed = planned.feed(address)
        rows.append(Probed(address=address, **core_probe(engine(), planned, feed, ask.x, ask.y, ask.size)))
    return rows


@router.post("/shots/{shot_id}/histogram", response=HistogramRow)
def histogram(request: HttpRequest, shot_id: int, ask: HistogramAsk) -> dict[str, Any]:
    """Histogram of an item over 0 to 1 in a domain."""
    planned = _plan(request, shot_id, ask)
    feed = planned.feed(ask.address)
    return core_histogram(engine(), planned, feed, ask.domain, ask.bins, **sides(ask.marks), low=ask.low, high=ask.high)

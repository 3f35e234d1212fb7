"""Routes: the stage's picture of any item of a saved or draft recipe."""

from fractions import Fraction
from typing import Any, Literal

from django.http import HttpRequest, HttpResponse
from ninja import Field, Router, Schema

from nexal.analysis.edge_view import DiagnosedState, evidence, fringe
from nexal.analysis.view import ViewPlanes, shown
from nexal.engine import Plan
from nexal.engine.plan import Feed
from nexal.errors import RecipeError
from nexal.picture import ALPHA_NAME, Alpha, Window, main_channels
from projects.access import seen_shot
from stage.answers import Answer, answer_of, respond
from stage.pace import followed
from stage.requests import Ask, Light, Pixel, plan_of
from stage.services import engine

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
    region: tuple[Pixel, Pixel, Pixel, Pixel] | None = Field(None, description="x, y, width, height at that scale")
    channels: list[str] | None = None
    fringe: DiagnosedAs | None = Field(None, description="Show where the soft band departs from this state")
    evidence: Literal["brighter", "under"] | None = Field(None, description="Show what speaks for a diagnosis")
    alpha: str | None = Field(None, description="With `evidence`, an alpha that came apart from the picture")
    rough: bool = Field(False, description="Let what a slow step makes of a small proxy stand in until it is computed")
    exposure: float | None = Field(
        None, ge=-24, le=24, description="Bytes do that tell what is seen at this exposure, in stops, and no more"
    )
    view: str = Field("", description="Name of the asking view; its next request supersedes this one")


@router.post("/shots/{shot_id}/view")
def view(request: HttpRequest, shot_id: int, ask: ViewAsk) -> HttpResponse:
    """Half-float planes of an item, one after the other; what they are stands in X-Nexal-View as JSON.

    `ranges` are the values of data planes to be shown as black and white. Ids, fringe and evidence come `finished`:
    three planes of display values, to be shown as they are. Where `ends` are told, planes come in bytes, 0 to 255 from
    one end to the other, or along the display curve at `exposure`. `pending` is what a `rough` answer, at a scale of
    its own, stands in for.
    """
    with followed(request, shot_id, ask.view) as turn:
        planned = plan_of(seen_shot(request, shot_id), ask)
        answer = answer_for(planned, planned.feed(ask.address), ask, turn.cancellation)
        return respond(request, answer, turn.next())


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


def answer_for(planned: Plan, feed: Feed, ask: ViewAsk, cancellation: Any = None) -> Answer:
    """The planes that are asked for. Raises NexalError; Pending where a slow step is not computed yet."""
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
        seen = shown(engine(), planned, feed, names, scale, region, cancellation, rough=ask.rough)
    data = [seen.finished or name in description.data for name in seen.picture.planes]
    alpha = description.alpha if description.has_alpha and not seen.finished else Alpha.NONE
    return answer_of(seen, data, alpha, description.display, feed.node.digest, ask.exposure)

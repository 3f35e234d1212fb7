"""Routes of the Packing bench: the lit object, the proof of a texture, and what smaller and packed versions cost."""

from collections.abc import Callable
from typing import Annotated, Any, Literal, TypeVar

from django.http import HttpRequest, HttpResponse
from ninja import Field, Router, Schema

from nexal.analysis.lit import ObjectPose, Textures
from nexal.analysis.lit import lit as core_lit
from nexal.analysis.proof import checked_target, losses, round_trip
from nexal.analysis.proof import proof as core_proof
from nexal.engine import Cancellation
from nexal.formats.targets import FORMATS
from nexal.picture import Alpha
from projects.access import seen_shot
from stage.answers import answer_of, respond
from stage.pace import followed
from stage.requests import Ask, plan_of
from stage.services import engine
from stage.superseding import newest

router = Router()

Answer = TypeVar("Answer")
Degrees = Annotated[float, Field(ge=-36_000, le=36_000)]
Place = Annotated[float, Field(ge=-1, le=1)]
"""In the unit circle: a direction as seen from the eye."""


class LitAsk(Ask):
    """A texture on an object. Left out, the base colour is a plain grey."""

    packed: str | None = None
    base: str | None = None
    normal: str | None = None
    object: Literal["tin", "sphere", "panel"] = "tin"
    turn: tuple[Degrees, Degrees] = (0.0, 8.0)
    key: tuple[Place, Place] = (-0.55, -0.45)
    fill: tuple[Place, Place] = (0.75, 0.1)
    size: int = Field(640, ge=16, le=1280)
    view: str = Field("", description="Name of the asking view; its next request supersedes this one")


class ProofAsk(Ask):
    address: str
    format: Literal["png", "tga", "tiff", "exr"] = "png"
    depth: str | None = None
    dither: Literal["none", "ordered", "diffusion"] = "none"

    @property
    def spec(self) -> dict[str, Any]:
        return {"format": self.format, "depth": self.depth, "dither": self.dither}


class ProofRow(Schema):
    """A channel: what is meant, what is delivered (codes of whole numbers), and how far they are apart."""

    name: str
    low: float | None
    high: float | None
    first: float | None
    last: float | None
    most: int | None
    largest: float
    mean: float
    clipped: float
    bits: int
    unused: int | None
    bent: list[str] = Field(description="What is behind it and read as encoded colour, where its numbers are meant")


class ReadBack(Schema):
    name: str
    wrong: int
    read_as: str


class Written(Schema):
    channels: list[ReadBack]
    bytes: int


class LossAsk(Ask):
    address: str
    seen: str = Field(description="What is made of it, such as a `mip` or `blocks` step of the asked recipe")


class LossRow(Schema):
    name: str
    max: float | None
    mean: float | None
    psnr: float | None


@router.post("/shots/{shot_id}/lit")
def lit(request: HttpRequest, shot_id: int, ask: LitAsk) -> HttpResponse:
    """The lit object as finished planes, in the form of a view."""
    pose = ObjectPose(ask.object, ask.turn, ask.key, ask.fill, ask.size)
    with followed(request, shot_id, ask.view) as turn:
        planned = plan_of(seen_shot(request, shot_id), ask)
        base, packed, normal = (planned.feed(each) if each else None for each in (ask.base, ask.packed, ask.normal))
        seen = core_lit(engine(), planned, Textures(base, packed, normal), pose, turn.cancellation)
        digest = "-".join(feed.node.digest for feed in (base, packed, normal) if feed)
        answer = answer_of(seen, [True] * 3, Alpha.NONE, seen.picture.description.display, digest)
        return respond(request, answer, turn.next())


@router.post("/shots/{shot_id}/proof", response=list[ProofRow])
def proof(request: HttpRequest, shot_id: int, ask: ProofAsk) -> list[dict[str, Any]]:
    """What a texture's channels would hold in a file, against what is meant."""
    planned = plan_of(seen_shot(request, shot_id), ask)
    feed = planned.feed(ask.address)
    target = checked_target(feed, ask.spec)
    return _superseded(request, shot_id, "proof", lambda flag: core_proof(engine(), planned, feed, target, flag))


@router.post("/shots/{shot_id}/proof/written", response=Written)
def written(request: HttpRequest, shot_id: int, ask: ProofAsk) -> dict[str, Any]:
    """The texture written, read back and compared sample by sample."""
    planned = plan_of(seen_shot(request, shot_id), ask)
    feed = planned.feed(ask.address)
    target = checked_target(feed, ask.spec)
    suffix = FORMATS[target.format].suffixes[0]
    return _superseded(
        request, shot_id, "written", lambda flag: round_trip(engine(), planned, feed, target, suffix, flag)
    )


@router.post("/shots/{shot_id}/losses", response=list[LossRow])
def loss(request: HttpRequest, shot_id: int, ask: LossAsk) -> list[dict[str, Any]]:
    """What a smaller mip level or compression in blocks takes from each channel."""
    planned = plan_of(seen_shot(request, shot_id), ask)
    meant, seen = planned.feed(ask.address), planned.feed(ask.seen)
    return _superseded(request, shot_id, "losses", lambda flag: losses(engine(), planned, meant, seen, flag))


def _superseded(request: HttpRequest, shot_id: int, view: str, work: Callable[[Cancellation], Answer]) -> Answer:
    """A computation that gives up once the same page asks the same thing of the same shot anew."""
    return work(newest(request, shot_id, view))

"""Routes: the layouts and finishes of a project, beside those that come with the program."""

from typing import Any

from django.http import HttpRequest
from ninja import Router, Schema

from config.errors import Refused
from nexal.layouts import FINISHES, LAYOUTS, Finish, Layout, checked
from projects.access import get_project

router = Router()

MOST = 100


class OwnLayout(Layout):
    """A layout, and whether it belongs to the project."""

    own: bool


class OwnFinish(Finish):
    """A finish, and whether it belongs to the project."""

    own: bool


class PackingRow(Schema):
    layouts: list[OwnLayout]
    finishes: list[OwnFinish]


class NewPacking(Schema):
    """The project's own layouts and finishes, all of them."""

    layouts: list[dict[str, Any]]
    finishes: list[dict[str, Any]]


@router.get("/projects/{project_id}/packing", response=PackingRow)
def packing(request: HttpRequest, project_id: int) -> PackingRow:
    """Every layout and finish that shots of the project can use."""
    project = get_project(request, project_id)
    return PackingRow(
        layouts=[
            *(OwnLayout(**each.model_dump(), own=False) for each in LAYOUTS),
            *(OwnLayout(**each, own=True) for each in project.layouts),
        ],
        finishes=[
            *(OwnFinish(**each.model_dump(), own=False) for each in FINISHES),
            *(OwnFinish(**each, own=True) for each in project.finishes),
        ],
    )


@router.put("/projects/{project_id}/packing", response=PackingRow)
def change_packing(request: HttpRequest, project_id: int, new: NewPacking) -> PackingRow:
    """Put other layouts and finishes in the place of the project's own. Packed textures keep the meanings they have."""
    project = get_project(request, project_id, write=True)
    if len(new.layouts) > MOST or len(new.finishes) > MOST:
        raise Refused(422, "too_many", f"a project keeps {MOST} of each at most", remedy="take some out")
    project.layouts = [each.model_dump(mode="json") for each in checked(Layout, new.layouts, LAYOUTS)]
    project.finishes = [each.model_dump(mode="json") for each in checked(Finish, new.finishes, FINISHES)]
    project.save(update_fields=["layouts", "finishes"])
    return packing(request, project_id)

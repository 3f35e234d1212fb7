"""The whole interface between server and browser."""

from ninja import NinjaAPI
from ninja.security import SessionAuth

from config import errors
from config.bodies import StrictParser

api = NinjaAPI(
    title="Nexal",
    version="1",
    auth=SessionAuth(),
    docs_url=None,
    openapi_url=None,
    urls_namespace="api",
    parser=StrictParser(),
)
errors.install(api)

from accounts.api import router as accounts  # noqa: E402
from accounts.people import router as people  # noqa: E402
from chains.api import router as chains  # noqa: E402
from deliveries.api import router as deliveries  # noqa: E402
from notes.api import router as notes  # noqa: E402
from projects.members import router as members  # noqa: E402
from projects.packing import router as project_packing  # noqa: E402
from recipes.catalogue import router as catalogue  # noqa: E402
from recipes.history import router as history  # noqa: E402
from sources.api import router as sources  # noqa: E402
from stage.advice import router as advice  # noqa: E402
from stage.edges import router as edges  # noqa: E402
from stage.items import router as items  # noqa: E402
from stage.mattes import router as mattes  # noqa: E402
from stage.numbers import router as numbers  # noqa: E402
from stage.packing import router as packing  # noqa: E402
from stage.passes import router as passes  # noqa: E402
from stage.pictures import router as pictures  # noqa: E402
from stage.space import router as space  # noqa: E402
from stage.time import router as time  # noqa: E402
from stage.views import router as views  # noqa: E402
from stage.work import as_request_work  # noqa: E402
from wall.api import router as shots  # noqa: E402
from wall.projects import router as projects  # noqa: E402

api.add_decorator(as_request_work)

for router, tag in (
    # Django looks for a route in this order: what is asked for most comes first.
    (views, "stage"),
    (pictures, "stage"),
    (numbers, "stage"),
    (items, "stage"),
    (accounts, "accounts"),
    (people, "accounts"),
    (projects, "projects"),
    (members, "projects"),
    (project_packing, "projects"),
    (sources, "sources"),
    (catalogue, "recipes"),
    (shots, "recipes"),
    (history, "recipes"),
    (notes, "notes"),
    (chains, "chains"),
    (time, "time"),
    (advice, "advice"),
    (mattes, "mattes"),
    (passes, "passes"),
    (space, "space"),
    (edges, "edges"),
    (packing, "packing"),
    (deliveries, "deliveries"),
):
    api.add_router("", router, tags=[tag])

"""The WSGI application; on start it takes up what an earlier server left unfinished."""

import os
import sys
from pathlib import Path

root = Path(__file__).resolve().parent.parent.parent
sys.path[:0] = [str(root / "core"), str(root), str(root / "server")]
os.environ.setdefault("DJANGO_SETTINGS_MODULE", "config.settings")

from django.core.wsgi import get_wsgi_application  # noqa: E402

from config.secret import check_secret  # noqa: E402

check_secret()

application = get_wsgi_application()

from jobs import chores  # noqa: E402
from jobs.services import resume  # noqa: E402
from stage.services import warm_up  # noqa: E402

resume()
chores.begin()
warm_up()

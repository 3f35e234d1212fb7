"""`python -m benchmarks [NAME ...]`: all of them by default."""

import sys

from benchmarks import (
    chain,
    edges,
    importing,
    looking,
    mattes,
    moving,
    neighbourhood,
    opening,
    packing,
    passes,
    playing,
    points,
    space,
    starting,
    view,
)

ALL = {
    "chain": chain.main,
    "edges": edges.main,
    "mattes": mattes.main,
    "moving": moving.main,
    "neighbourhood": neighbourhood.main,
    "opening": opening.main,
    "packing": packing.main,
    "passes": passes.main,
    "points": points.main,
    "space": space.main,
    "starting": starting.main,
    "view": view.main,
    "import": importing.main,
}

ASKED = {"looking": looking.main, "playing": playing.main}
"""Those that need a running server, only by name."""

if __name__ == "__main__":
    for name in sys.argv[1:] or ALL:
        (ALL | ASKED)[name]()

"""`python -m benchmarks [chain] [edges] [mattes] [packing] [passes] [view] [import]`: all of them by default."""

import sys

from benchmarks import chain, edges, importing, mattes, packing, passes, view

ALL = {
    "chain": chain.main,
    "edges": edges.main,
    "mattes": mattes.main,
    "packing": packing.main,
    "passes": passes.main,
    "view": view.main,
    "import": importing.main,
}

if __name__ == "__main__":
    for name in sys.argv[1:] or ALL:
        ALL[name]()

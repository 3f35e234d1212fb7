"""`python -m benchmarks [chain] [mattes] [view] [import]`: all of them by default."""

import sys

from benchmarks import chain, importing, mattes, view

ALL = {"chain": chain.main, "mattes": mattes.main, "view": view.main, "import": importing.main}

if __name__ == "__main__":
    for name in sys.argv[1:] or ALL:
        ALL[name]()

"""Nexal's computation core: pictures, recipes, operations and the engine that evaluates them."""

import os

__version__ = "0.1.0"

# Said before either is loaded. Every matrix here is small: threads for them only turn idly, each start of a command or
# worker beside the other. Nobody extends the recipe's models: who might is looked for in all that is installed.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")

"""`python -m nexal`."""

import sys

from nexal.cli import main

sys.exit(main())

"""``python -m plainfall``: the same as the ``plainfall`` command."""

import sys

from plainfall.cli import main

sys.exit(main())

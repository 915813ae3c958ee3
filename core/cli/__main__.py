"""``python -m core.cli``."""

import sys

from core.cli import main

sys.exit(main())

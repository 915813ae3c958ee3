"""``python -m studio``: the command line, where no script is at hand."""

import sys

from studio.command_line import main

sys.exit(main())

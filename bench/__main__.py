"""``make bench``: quality and speed of the tracker, then the page. ``python -m bench page`` or ``tracker`` alone."""

import sys
import tempfile
from pathlib import Path

from bench import page, takes, tracker


def main() -> None:
    wanted = sys.argv[1:] or ["tracker", "page"]
    if "tracker" in wanted:
        with tempfile.TemporaryDirectory() as folder:
            found = takes.practice()
            if not found:
                print("(no practice folder beside the project: our own demos only)")
            tracker.run(takes.demos(Path(folder)) + found)
    if "page" in wanted:
        page.run()


main()

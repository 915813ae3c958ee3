"""``make bench``: quality of the tracker, speed of the analysis, then the page; or one of
``python -m bench tracker``, ``speed``, ``reshaping``, ``delivery``, ``page``, ``repairs`` (how many commands put maps right;
``--help`` for more)."""

import sys
import tempfile
from pathlib import Path

from bench import delivery, oracle, page, reshaping, speed, takes, tracker


def main() -> None:
    wanted = sys.argv[1:] or ["tracker", "speed", "reshaping", "delivery", "page", "repairs"]
    if "tracker" in wanted:
        with tempfile.TemporaryDirectory() as folder:
            found = takes.practice()
            if not found:
                print("(no practice folder beside the project: our own demos only)")
            tracker.run(takes.demos(Path(folder)) + found)
    if "speed" in wanted:
        speed.run()
    if "reshaping" in wanted:
        reshaping.main()
    if "delivery" in wanted:
        delivery.main()
    if "page" in wanted:
        page.run()
    if "repairs" in wanted and (wanted[0] == "repairs" or takes.practice()):
        oracle.main(wanted[1:] if wanted[0] == "repairs" else [])


main()

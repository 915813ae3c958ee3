"""Says in a sentence what is missing on this machine, before anything is installed. Runs on any Python, alone."""

import argparse
import shutil
import socket
import sys

OLDEST, NEWEST = (3, 11), (3, 14)


def missing(port=None):
    """What keeps Diachron from being set up here; an empty list where nothing does."""
    found = []
    if not OLDEST <= sys.version_info[:2] <= NEWEST:
        found.append(
            "Diachron needs Python 3.11 to 3.14; this is {}.{}. Name another one: make demo PYTHON=python3.12".format(
                *sys.version_info[:2]
            )
        )
    try:
        import ensurepip  # noqa: F401
        import venv  # noqa: F401
    except ImportError:
        found.append("This Python cannot make environments. On Debian and Ubuntu: apt install python3-venv")
    if shutil.which("npm") is None:
        found.append("npm is missing; it fetches the page's styles and fonts. On Debian and Ubuntu: apt install npm")
    if port is not None and _taken(port):
        found.append("Port {} is in use on this machine. Choose another: make demo PORT={}".format(port, port + 1))
    return found


def _taken(port):
    probe = socket.socket(socket.AF_INET, socket.SOCK_STREAM)
    probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        probe.bind(("127.0.0.1", port))
    except (OSError, OverflowError):
        return True
    finally:
        probe.close()
    return False


if __name__ == "__main__":
    ask = argparse.ArgumentParser(description=__doc__)
    ask.add_argument("--port", type=int)
    words = missing(ask.parse_args().port)
    for sentence in words:
        print(sentence)
    sys.exit(1 if words else 0)

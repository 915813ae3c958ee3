"""Servers for browser tests, forked from a process that has loaded what they all load: a start costs a quarter.

``python -m tests.browser.forked`` is that process. It reads a line of JSON for each server (``arguments`` of manage.py,
``environment``, ``log``) and answers with its process id. What depends on the settings is loaded by each server itself.
"""

import json
import os
import pkgutil
import runpy
import signal
import subprocess
import sys
import traceback
from functools import cache
from importlib import import_module
from multiprocessing.util import Finalize

import psutil

import core
from tests.shared import ROOT


@cache
def _loaded():
    """The one of this test process."""
    command = [sys.executable, "-m", "tests.browser.forked"]
    process = subprocess.Popen(command, cwd=ROOT, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)

    def end():
        process.stdin.close()
        process.wait()
        process.stdout.close()

    Finalize(None, end, exitpriority=5)  # test processes are forked: they know no atexit
    return process


def start(arguments, environment, log) -> psutil.Process:
    """``manage.py`` with these arguments in a process of its own, which writes to ``log``."""
    source = _loaded()
    request = {"arguments": arguments, "environment": environment, "log": str(log)}
    source.stdin.write(json.dumps(request) + "\n")
    source.stdin.flush()
    return psutil.Process(int(source.stdout.readline()))  # it is no child of ours


def _load():
    for module in pkgutil.walk_packages(core.__path__, "core."):
        if not module.name.endswith("__main__"):
            import_module(module.name)
    # what the first request would load: see studio/server/warming.py
    import numpy as np
    import scipy.signal  # noqa: F401
    import waitress  # noqa: F401
    from django.core.management import execute_from_command_line  # noqa: F401
    from django.db import models  # noqa: F401

    from core.tracking.decoder import decode

    decode(np.eye(1, 800, 50)[0], 100, 140, 120, pins=np.array([0, 750]))


def _be_server(request):
    signal.signal(signal.SIGCHLD, signal.SIG_DFL)  # it waits for its workers
    os.environ.update(request["environment"])
    log = os.open(request["log"], os.O_WRONLY | os.O_CREAT | os.O_APPEND)
    os.dup2(os.open(os.devnull, os.O_RDONLY), 0)
    os.dup2(log, 1)
    os.dup2(log, 2)
    sys.argv = ["manage.py", *request["arguments"]]
    runpy.run_path("manage.py", run_name="__main__")


def main():
    _load()
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)  # those that end are not kept
    servers = []
    for line in sys.stdin:
        pid = os.fork()
        if pid == 0:
            try:
                _be_server(json.loads(line))
            except Exception:
                traceback.print_exc()
            finally:
                sys.stdout.flush()
                os._exit(0)
        servers.append(psutil.Process(pid))
        print(pid, flush=True)
    for server in servers:  # the tests were ended from outside
        if server.is_running():
            server.terminate()


if __name__ == "__main__":
    main()

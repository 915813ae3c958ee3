"""Runs a batch in a process of its own, and kills one of its workers after the first take: ``pool`` or ``cluster``.
Prints what was told and what came of it, as JSON. Processes of the test runner may have no children themselves."""

import json
import os
import signal
import sys
from pathlib import Path

from core.batch import rules, running, takes, work


def main(kind: str, folder: str, out: str) -> None:
    found = takes.find([Path(folder)], rules.Rules())
    told: list[str] = []
    killed: list[int] = []

    def run(make, workers, victims, send=False):
        def watch(done, total, left, outcome):
            told.append(outcome.name)
            if not killed:
                killed.append(victims()[0])
                os.kill(killed[0], signal.SIGKILL)

        return running.run(found, ("csv",), Path(out), make, workers, watch, send)

    if kind == "pool":
        make = running.pool(2)
        pools = []

        def kept():
            pools.append(make())
            return pools[-1]

        outcomes = run(kept, 2, lambda: list(pools[-1]._processes))
    else:
        import dask
        from distributed import LocalCluster
        from distributed.utils import get_mp_context

        # as in a pool: its workers come from a process that has loaded what they need
        dask.config.set({"distributed.worker.multiprocessing-method": "forkserver"})
        get_mp_context().set_forkserver_preload(["distributed", work.__name__])
        with (
            LocalCluster(n_workers=2, threads_per_worker=1, dashboard_address=None) as local,
            running.cluster(local.scheduler_address) as (make, workers),
        ):
            outcomes = run(make, workers, lambda: [w.pid for w in local.workers.values()], send=True)
    print(json.dumps({"told": told, "killed": len(killed), "errors": [o.error for o in outcomes]}))


if __name__ == "__main__":
    main(*sys.argv[1:])

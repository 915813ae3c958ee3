"""A batch: every take once, on a pool of processes or on any other executor.

Work goes through the standard ``concurrent.futures.Executor``. A process that dies takes its pool with it; each take
that was under way is then tried once more, alone, and what dies again is told as failed.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import FIRST_COMPLETED, BrokenExecutor, Executor, Future, ProcessPoolExecutor, wait
from contextlib import contextmanager
from multiprocessing import get_all_start_methods, get_context
from pathlib import Path
from typing import Any

from core.batch import sending, work
from core.batch.takes import Take
from core.batch.work import Outcome

#: Called with takes done, takes in all, seconds left (None: not known yet), and the outcome just found.
Progress = Callable[[int, int, float | None, Outcome], None]
MakeExecutor = Callable[[], Executor]

#: Takes that are handed over beyond those at work, so that nobody waits.
_AHEAD = 2


def run(
    takes: Sequence[Take],
    write: Sequence[str],
    out: Path,
    make: MakeExecutor,
    workers: int,
    progress: Progress = lambda *_: None,
    send: bool = False,
) -> list[Outcome]:
    """All takes' outcomes, in their order. Takes that an earlier run has done are not done again.

    ``send``: files go to the workers by content, and what they write comes back; else all see the same paths.
    """
    wanted = tuple(write)
    out.mkdir(parents=True, exist_ok=True)
    found = {take.name: known for take in takes if (known := work.earlier(take, wanted, out))}
    pending = [take for take in takes if take.name not in found]
    for k, known in enumerate(found.values(), 1):
        progress(k, len(takes), None, known)
    began, to_do, done_now = time.monotonic(), len(pending), 0

    def done(take: Take, outcome: Outcome) -> None:
        nonlocal done_now
        found[take.name] = outcome
        done_now += 1
        left = (time.monotonic() - began) / done_now * (to_do - done_now)
        progress(len(found), len(takes), left, outcome)

    while pending:
        suspects: list[Take] = []
        rest: list[Take] = []
        for take, outcome, begun in _once(pending, wanted, out, make, workers, send):
            if outcome is not None:
                done(take, outcome)
            else:
                (suspects if begun else rest).append(take)
        # one of those that were under way has killed its process, perhaps: each once more, alone
        for take in suspects:
            for _, outcome, _ in _once([take], wanted, out, make, 1, send):
                done(take, outcome or _failed(take, wanted))
        pending = rest
    return [found[take.name] for take in takes]


def _once(
    takes: Sequence[Take], write: tuple[str, ...], out: Path, make: MakeExecutor, workers: int, send: bool
) -> Iterator[tuple[Take, Outcome | None, bool]]:
    """Each take with its outcome, as they come; where their executor died, None, and whether they were handed over."""
    waiting = list(reversed(takes))
    running: dict[Future[Any], Take] = {}
    with make() as executor, _dropping_the_rest(executor):
        while waiting or running:
            try:
                while waiting and len(running) < workers + _AHEAD:
                    take = waiting[-1]
                    running[_submitted(executor, take, write, out, send)] = take
                    waiting.pop()
            except BrokenExecutor:
                pass
            if not running:
                break
            for future in wait(running, return_when=FIRST_COMPLETED).done:
                take = running.pop(future)
                try:
                    result = future.result()
                    yield take, sending.unpack(result, take, out) if send else result, True
                except OSError:  # the outcome cannot be written, so no other can be either
                    raise
                except Exception:  # the worker died; what a take does wrong itself is its outcome
                    yield take, None, True
    for take in reversed(waiting):
        yield take, None, False


def _submitted(executor: Executor, take: Take, write: tuple[str, ...], out: Path, send: bool) -> Future[Any]:
    if not send:
        return executor.submit(work.do, take, write, out)
    try:
        return executor.submit(sending.do, sending.pack(take, write), write)
    except OSError:  # a file that cannot be read here: what is wrong with it becomes the take's outcome
        local: Future[Any] = Future()
        local.set_result(sending.Brought(work.do(take, write, out), {}, ""))
        return local


@contextmanager
def _dropping_the_rest(executor: Executor) -> Iterator[None]:
    """Where the batch is stopped, what has not begun does not begin."""
    try:
        yield
    except BaseException:
        executor.shutdown(wait=False, cancel_futures=True)
        raise


def _failed(take: Take, write: tuple[str, ...]) -> Outcome:
    words = "The process that worked on it died twice; perhaps the machine has too little memory for it."
    return Outcome(take.name, take.key(write), error=words, files=tuple(map(str, take.files)))


def pool(workers: int) -> MakeExecutor:
    """Processes of this machine, each fresh, so that a dying one harms no lock of another.

    Where the system can fork, they come from a process that has loaded the analysis and does nothing else: the next one
    is there at once.
    """
    if "forkserver" not in get_all_start_methods():  # Windows
        return lambda: ProcessPoolExecutor(workers, get_context("spawn"))
    context = get_context("forkserver")
    context.set_forkserver_preload([work.__name__])
    return lambda: ProcessPoolExecutor(workers, context)


class NoCluster(Exception):
    """The address is not valid, or nothing answers there."""


@contextmanager
def cluster(address: str) -> Iterator[tuple[MakeExecutor, int]]:
    """The workers of a Dask cluster and how many there are. Where they do not see the same paths, takes have to be sent
    to them (:func:`run`). Raises ``ImportError`` where ``distributed`` is not installed, and :class:`NoCluster`."""
    import distributed

    connect: Any = distributed.Client
    try:
        connected = connect(address, timeout="10s")
    except (OSError, ValueError) as e:
        raise NoCluster(str(e)) from None
    with connected as client:
        workers = sum(client.nthreads().values())
        yield (lambda: client.get_executor(pure=False, retries=1)), max(1, workers)

"""Sweeps on other machines: a Dask cluster behind the same seam as threads (the extra ``cluster``)."""

from __future__ import annotations

import logging
import socket
from collections.abc import Callable, Iterator
from concurrent.futures import Executor, Future
from contextlib import contextmanager
from typing import Any

from oakladder.rung.problems import RunProblem

#: Seconds that are waited for the scheduler, and for a first worker.
_PATIENCE = 10


class ClusterExecutor(Executor):
    """An executor of a Dask cluster that takes what many tasks need to every worker once. What a worker that is lost had
    in hand is done by another."""

    def __init__(self, client: Any):
        self._client = client
        self._inner: Executor = client.get_executor(pure=False, retries=3)

    def share(self, data: bytes) -> object:
        """Takes bytes to every worker."""
        return self._client.scatter(data, broadcast=True)

    def submit(self, fn: Callable[..., Any], /, *args: Any, **options: Any) -> Future[Any]:
        return self._inner.submit(fn, *args, **options)

    def shutdown(self, wait: bool = True, *, cancel_futures: bool = False) -> None:
        self._inner.shutdown(wait=wait)


def _answers(address: str) -> None:
    """Raises `RunProblem` if nothing listens at an address, sooner than the client would."""
    host, _, port = address.rpartition("://")[2].rpartition(":")
    try:
        socket.create_connection((host, int(port)), timeout=_PATIENCE).close()
    except (OSError, ValueError, OverflowError) as error:
        why = "an address looks like tcp://host:port" if isinstance(error, ValueError | OverflowError) else str(error)
        raise RunProblem(f"No scheduler answers at {address}: {why}.") from None


@contextmanager
def cluster(address: str) -> Iterator[ClusterExecutor]:
    """The executor of a cluster by the address of its scheduler, ``tcp://host:port``. Raises `RunProblem` with a sentence
    where the extra is not installed, or nobody answers."""
    try:
        from distributed import Client
    except ImportError:
        raise RunProblem(
            "A cluster needs the extra `cluster`. Install it with `pip install oakladder[cluster]` into this environment."
        ) from None
    _answers(address)
    for name in ("distributed", "distributed.client", "distributed.comm", "tornado.application"):
        logging.getLogger(name).setLevel(logging.ERROR)
    try:
        client = Client(address, timeout=_PATIENCE, set_as_default=False)  # type: ignore[no-untyped-call]
    except (OSError, TimeoutError, ValueError) as error:
        raise RunProblem(f"No scheduler answers at {address}: {error or 'it took too long'}.") from None
    try:
        try:
            client.wait_for_workers(1, timeout=_PATIENCE)
        except TimeoutError:
            raise RunProblem(
                f"The cluster at {address} has no workers. Start some with `dask worker {address}`."
            ) from None
        yield ClusterExecutor(client)
    finally:
        client.close()  # type: ignore[no-untyped-call]

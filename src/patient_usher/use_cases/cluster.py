"""Many machines that work for one: a Dask scheduler and its workers, or processes of this machine started for it."""

from __future__ import annotations

import contextlib
import logging
import warnings
from collections.abc import Callable, Iterator, Sequence
from typing import Any, TypeVar

from patient_usher.core.model.document import Unusable, unusable
from patient_usher.output.extras import needed

A = TypeVar("A")
B = TypeVar("B")

PATIENCE = 5
"""How many seconds a scheduler has to answer."""
TRIES = 3
"""So many workers may die over one part before it is given up."""


class OnCluster:
    """Does the same to many things on the workers of a scheduler, and gives what comes of them in their order.

    What a worker that dies was at is done again by another. ``size``: how many things it can do at once.
    """

    def __init__(self, client: Any, size: int) -> None:
        self._client, self.size = client, size

    def __call__(self, work: Callable[[A], B], things: Sequence[A], /) -> Iterator[B]:
        """Do it. Raises what one raises, and Unusable where workers keep dying or lack what it takes."""
        from distributed import KilledWorker

        futures = [self._client.submit(work, thing, pure=False, retries=TRIES) for thing in things]
        try:
            for future in futures:
                yield future.result()
        except KilledWorker:
            raise unusable(
                "the workers died over one part, again and again", "give them more memory", "--cluster"
            ) from None
        except ModuleNotFoundError as error:
            what, mend = f"the workers have no module {error.name}", "install patient-usher where they run"
            raise unusable(what, mend, "--cluster") from None
        finally:
            for future in futures:
                if not future.done():
                    future.cancel()


@contextlib.contextmanager
def on_cluster(where: str) -> Iterator[OnCluster]:
    """The workers of the scheduler at an address (``tcp://host:8786``), or so many processes of this machine as the
    text says; those end with it. Raises Unusable where there are none.
    """
    needed("cluster", "--cluster")
    from distributed import Client, LocalCluster

    logging.getLogger("distributed").setLevel(logging.CRITICAL)
    warnings.filterwarnings("ignore", module="distributed")  # a port that is taken is no matter of the user's
    with contextlib.ExitStack() as stack:
        if where.isdecimal():
            cluster = stack.enter_context(
                LocalCluster(  # type: ignore[no-untyped-call]
                    n_workers=int(where), threads_per_worker=1, dashboard_address=None, host="127.0.0.1",
                    silence_logs=logging.CRITICAL,
                )
            )  # fmt: skip
            client = stack.enter_context(Client(cluster))  # type: ignore[no-untyped-call]
        else:
            client = stack.enter_context(_client(Client, where))
        threads = client.nthreads()
        if not threads:
            raise unusable(f"the scheduler at {where} has no workers", "start some: dask worker", "--cluster")
        yield OnCluster(client, sum(threads.values()))


def _client(make: Callable[..., Any], address: str) -> Any:
    try:
        return make(address, timeout=PATIENCE)
    except (OSError, TimeoutError, ValueError) as error:
        said = str(error).partition("\n")[0] or type(error).__name__
        raise _unreached(address, said) from None


def _unreached(address: str, said: str) -> Unusable:
    return unusable(f"no scheduler answers at {address}: {said[:120]}", "write tcp://HOST:8786", "--cluster")

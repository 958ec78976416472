"""What callers talk to. They hand a request over and get an answer later; they don't know who gives it.

A service is the model (a run state on the virtual clock), or something real that is asked over a wire. Either way the
``Exchange`` is what was on the wire, and what is known of what came of it.
"""

from __future__ import annotations

from typing import Protocol

from patient_usher.core.http.messages import Request
from patient_usher.core.model.exchange import Exchange


class Service(Protocol):
    """Whoever answers requests. Times are microseconds since the epoch of the replay's clock."""

    def arrive(self, id_: str, request: Request, at: int, *, watched: bool) -> Exchange:
        """A request has come; nothing has been done about it yet. ``watched``: its journey is wanted."""

    def start(self, x: Exchange, patience: int) -> object:
        """Answer it, now or later: within ``patience`` microseconds, or the caller gives up."""

    def blocked(self, origin: str, why: str, what: str, x: Exchange, method: str) -> tuple[str, str]:
        """The code and the sentence for a call that a browser blocks on account of an exchange."""

"""A probe: a short piece of a trace, and by whom it is sent; and the ways to call."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import NamedTuple

from patient_usher.core.decisions.schema_samples import Request
from patient_usher.core.model.document import JsonMapping, JsonObject

UNKNOWN, WRONG = "?", "!"
"""Stand for who calls: where several do, and where the credential doesn't count."""


class Scenario(NamedTuple):
    """Entries of a trace, without ids, and who sends them. ``sort`` says what they are about.

    ``by``: the account that rightly calls, where the last request is of one; nothing where nobody known calls.
    """

    sort: str
    requests: tuple[Request, ...]
    callers: JsonMapping = {}
    by: str | None = None

    def document(self, base: str) -> JsonObject:
        """As a trace, with ids."""
        sends = [dict(request) for request in self.requests]
        number = 0
        for at, request in enumerate(sends):
            if "send" in request and "id" not in request:
                number += 1
                sends[at] = {"id": f"try-{number}", **request}
        callers = {"callers": dict(self.callers)} if self.callers else {}
        return {"patient-usher": "trace/1", "base": base, **callers, "requests": sends}

    @property
    def sent(self) -> int:
        """How many requests it sends."""
        return sum(int(request.get("times", 1)) for request in self.requests if "send" in request)


APART = "2h"
"""How far probes stand apart in a trace: limits, copies and sessions of most services are over by then."""


def in_turn(scenarios: Iterable[Scenario], gap: str | None = APART) -> Iterator[tuple[int, bool, Request]]:
    """The requests of probes that share a run state, each probe long after the other, or at once with ``gap`` None.

    With each, the number of its probe, from 1, and whether it is the probe's last that is sent.
    """
    for number, scenario in enumerate(scenarios, 1):
        final = max(at for at, request in enumerate(scenario.requests) if "send" in request)
        for at, request in enumerate(scenario.requests):
            apart = {"after": gap} if gap is not None and number > 1 and at == 0 else {}
            yield number, at == final, {**apart, **request}


class Credential(NamedTuple):
    """A way to call. ``sort``: absent, right, wrong, expired or early; ``first`` is what must be sent before."""

    sort: str
    account: str | None
    parts: Request
    first: tuple[Request, ...] = ()
    callers: JsonMapping = {}

    @property
    def by(self) -> str | None:
        """Who rightly calls with it: an account, nothing for nobody known, ``WRONG`` where it doesn't count."""
        return self.account if self.sort in ("right", "absent") else WRONG

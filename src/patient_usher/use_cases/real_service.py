"""Which real service is asked: an application in this process, whoever listens at an origin, or a recording of one."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager

from patient_usher.core.model.document import Json, unusable
from patient_usher.wire.application import Asks, asker
from patient_usher.wire.over_sockets import AtUrl, origin_of, trusted
from patient_usher.wire.recorded import Recorded


class ServiceAddress:
    """One of the three, not asked yet. ``starts``: of a recording, when it began; None of what answers now."""

    def __init__(
        self, app: Callable[..., object] | None, at: str | None, recorded: Json, certificates: bytes | None
    ) -> None:
        """Raises Unusable where that is no service, or none or several are named."""
        named = [name for name, one in (("app", app), ("at", at), ("recorded", recorded)) if one is not None]
        if len(named) != 1:
            raise unusable("there is no service to ask, or there are several", "give app, at or recorded")
        try:
            self._origin = origin_of(at) if at is not None else None
            self._tls = trusted(certificates)
            self._kept = Recorded(recorded) if recorded is not None else None
            self._asked: Asks | None = asker(app) if app is not None else self._kept
        except ValueError as error:
            what, _, mend = str(error).partition("; ")
            raise unusable(what, mend, named[0]) from None
        self.starts = self._kept.starts if self._kept is not None else None
        self.when = self._kept.when if self._kept is not None else None

    @contextmanager
    def open(self) -> Iterator[Callable[[str], Asks]]:
        """Who asks it what is meant for a base."""
        made: list[Asks] = [self._asked] if self._asked is not None else []

        def ask(base: str) -> Asks:
            if self._origin is not None:
                made.append(AtUrl(self._origin, base, self._tls))
            return made[-1]

        try:
            yield ask
        finally:
            for one in made:
                one.close()

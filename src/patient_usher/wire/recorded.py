"""What a service answered once, from the recording that was kept: the same questions get the same answers again."""

from __future__ import annotations

import base64
from collections import deque
from concurrent.futures import Future
from datetime import datetime

from patient_usher.core.http.dates import instant
from patient_usher.core.http.messages import Request
from patient_usher.core.model.document import Json
from patient_usher.wire.application import Asked, NoAnswer


class Recorded:
    """Answers as a recording (HAR 1.2) has them, by method and URL in its order. ``starts`` is when it begins."""

    def __init__(self, doc: Json) -> None:
        """Raises ValueError for what is no recording."""
        self._answers: dict[tuple[str, str], deque[tuple[int, Asked | None]]] = {}
        self.starts = 0
        try:
            for entry in doc["log"]["entries"]:
                request, response = entry["request"], entry["response"]
                at = instant(datetime.fromisoformat(entry["startedDateTime"].replace("Z", "+00:00")))
                self.starts = min(self.starts or at, at)
                key = str(request["method"]), str(request["url"])
                self._answers.setdefault(key, deque()).append((at, _asked(response)))
        except (KeyError, TypeError, ValueError, AttributeError):
            raise ValueError("this is no recording; name one that --into has kept") from None

    def ask(self, request: Request, patience: float) -> Future[Asked]:
        """The answer that came to the same request then."""
        found: Future[Asked] = Future()
        answers = self._answers.get((request.method, request.url.text))
        answer = answers.popleft()[1] if answers else None
        if answer is None:
            none = "gave no answer when it was recorded" if answers is not None else "wasn't asked when it was recorded"
            found.set_exception(NoAnswer(none))
        else:
            found.set_result(answer)
        return found

    def when(self, request: Request) -> int:
        """When the same request came then, in microseconds since the epoch; 0 where it wasn't."""
        answers = self._answers.get((request.method, request.url.text))
        return answers[0][0] if answers else 0

    def close(self) -> None:
        """Nothing is held open."""


def _asked(response: Json) -> Asked | None:
    if not response["status"]:
        return None
    content = response.get("content") or {}
    text = content.get("text") or ""
    body = base64.b64decode(text) if content.get("encoding") == "base64" else text.encode()
    return int(response["status"]), [(str(one["name"]), str(one["value"])) for one in response["headers"]], body

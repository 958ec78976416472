"""A trace becomes a smaller or a faster one: which of its requests are kept, and when they come."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from hashlib import blake2b
from itertools import islice
from typing import BinaryIO, NamedTuple, TypeVar

from patient_usher.core.model.document import Json, JsonMapping, JsonObject, Problem, Spot, Unusable
from patient_usher.core.model.text_types import MAX_TIME
from patient_usher.files.yaml_reader import MAX_OCTETS, parse_value

Row = JsonMapping
_T = TypeVar("_T")


def within_bounds(at: int) -> int:
    """A time from the start that a trace may have. Raises Unusable."""
    if at > MAX_TIME:
        what = "the trace would last for more than a hundred years"
        raise Unusable([Problem(Spot("--faster", 1, 1), what, "give a larger factor, or a shorter --shift")])
    return at


class Picking(NamedTuple):
    """Which requests, and when: those that ``fit``, the ``first`` so many of them, so much ``faster`` and later."""

    fits: Callable[[Row], bool] | None = None
    first: int | None = None
    faster: float = 1.0
    shift: int = 0

    def some(self, rows: Iterator[_T], row_of: Callable[[_T], Row | None]) -> Iterator[_T]:
        """Those that are kept; ``row_of`` gives None for what is no request, and stays."""
        fits = self.fits
        if fits is not None:
            rows = (one for one in rows if (row := row_of(one)) is None or fits(row))
        return islice(rows, self.first) if self.first is not None else rows

    @property
    def moves(self) -> bool:
        """Whether anything comes at another time than it came."""
        return self.faster != 1 or self.shift != 0

    def later(self, elapsed: int) -> int:
        """When what came so many microseconds after the start comes now. Raises Unusable."""
        return within_bounds(self.shift + (elapsed if self.faster == 1 else int(elapsed / self.faster)))

    def timed(self, row: Row) -> JsonObject:
        """A trace's request at its new time. Raises ValueError for a time that is none."""
        from patient_usher.core.model.text_types import parse_duration

        found = dict(row)
        for key in ("at", "after", "every"):
            if found.get(key) is not None:
                elapsed = int(parse_duration(found[key]) / self.faster)
                found[key] = f"{within_bounds(elapsed + (self.shift if key == 'at' else 0))}us"
        return found


def fitting(where: str | None, sample: float | None) -> Callable[[Row], bool] | None:
    """Whether a request fits ``where``, and its caller is of the share ``sample``. Raises Unusable; None for all."""
    test = _where(where) if where is not None else None
    if sample is None:
        return test
    below = int(sample * 2**64)

    def fits(row: Row) -> bool:
        caller = str(row.get("address") or row.get("caller") or "")
        share = int.from_bytes(blake2b(caller.encode(), digest_size=8).digest(), "big")
        return share < below and (test is None or test(row))

    return fits


def _where(text: str) -> Callable[[Row], bool]:
    """The matcher that ``when`` has, on a trace's request. Raises Unusable."""
    from pydantic import ValidationError

    from patient_usher.core.http.fields import Fields
    from patient_usher.core.http.messages import Answer, Request
    from patient_usher.core.http.urls import parse_url
    from patient_usher.core.model.exchange import arriving
    from patient_usher.core.model.matcher import When, compile_when
    from patient_usher.core.model.validation_messages import problems_of

    doc = parse_value(text)
    try:
        test = compile_when(When.model_validate(doc))
    except ValidationError as error:
        raise Unusable(
            problem._replace(spot=Spot("--where", 1, 1)) for problem in problems_of(error, doc, When)
        ) from None

    def fits(row: Row) -> bool:
        method, _, target = row["send"].partition(" ")
        try:
            url = parse_url(target if "://" in target else f"https://service.example{target}")
        except ValueError:
            return False
        fields = Fields([(name, str(value)) for name, value in row.get("headers", {}).items()])
        request = Request(method, url, fields, b"", row.get("address") or "")
        x = arriving(0, "", request, 0)
        if row.get("status") is not None:
            x.answer = Answer(row["status"], Fields())
        return test is None or test(x)

    return fits


def checked(trace: Json) -> JsonObject:
    """A trace in memory. Raises Unusable where it isn't made as traces are."""
    from patient_usher.core.engine.bind.trace import read_spec

    read_spec(trace)
    return {"requests": [], **trace}


def picked(trace: JsonObject, picking: Picking) -> JsonObject:
    """A trace in memory, with the requests that are kept."""
    requests = picking.some(iter(trace["requests"]), lambda row: row if "send" in row else None)
    return {**trace, "requests": [picking.timed(row) for row in requests]}


def picked_lines(stream: BinaryIO, name: str, picking: Picking) -> Iterator[JsonObject]:
    """The requests that are kept of a trace in bulk, whose header has been read. Raises Unusable at a line's place."""
    from patient_usher.core.http.messages import read_json

    number = 1

    def rows() -> Iterator[JsonObject]:
        nonlocal number
        for raw in iter(lambda: stream.readline(MAX_OCTETS), b""):
            number += 1
            if not raw.isspace():
                yield read_json(raw.decode())

    try:
        for row in picking.some(rows(), lambda row: row if "send" in row else None):
            yield picking.timed(row)
    except (ValueError, TypeError, AttributeError, KeyError):
        what = "this line is no request"
        raise Unusable([Problem(Spot(name, number, 1), what, "write one a line, as a JSON object")]) from None

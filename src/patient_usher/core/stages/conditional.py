"""``conditional``: validators and conditional requests (RFC 9110 section 13)."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from typing import ClassVar, Literal

from patient_usher.core.http.conditional import CONDITIONS, CONFIRMED, evaluate, not_modified
from patient_usher.core.http.messages import Answer
from patient_usher.core.http.negotiation import CODINGS
from patient_usher.core.http.ranges import Judgement
from patient_usher.core.model import stage as base
from patient_usher.core.model.document import JsonMapping, JsonObject
from patient_usher.core.model.effects import Effect, Precondition, Refused
from patient_usher.core.model.errors import refusal
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.pipeline import StageOptions
from patient_usher.core.model.routes import RouteSpec
from patient_usher.core.model.stage import Setup


class Options(StageOptions):
    """Which entity tags answers get that have none."""

    written: ClassVar[Collection[str]] = ("etag",)
    trade_names: ClassVar[tuple[str, ...]] = (
        "conditional-get",
        "conditional-requests",
        "etag",
        "etags",
        "not-modified",
    )
    sentences: ClassVar[dict[str, str]] = {
        "etag": "Which entity tags answers get that have none.",
    }

    etag: Literal["weak", "strong", "none"] = "weak"

    def branches(self, routes: Sequence[RouteSpec] = ()) -> Iterable[str]:
        """An answer goes as it is; a copy is confirmed; a condition isn't met."""
        return ("no condition", "not modified", "precondition failed")

    def samples(self, route: RouteSpec) -> Iterable[JsonObject]:
        """Any copy, and a tag that nothing has."""
        if route.at.method in ("GET", "HEAD"):
            yield {"headers": {"If-None-Match": "*"}}
        yield {"headers": {"If-Match": '"none"'}}

    def taken(self, x: Exchange, way: str, did: str, note: JsonMapping) -> Iterable[str]:
        """By what it notes, or refuses."""
        if x.refused_by == self.id:
            return ("precondition failed",)
        if way != "out":
            return ()
        return ("not modified" if note.get("condition") == "not modified" else "no condition",)


def entity_tag(body: bytes, sort: str, coding: str = "") -> str:
    """A tag made from the content; a strong one says in which coding it is (RFC 9110 8.8.3.3)."""
    import hashlib

    digest = hashlib.sha256(body).hexdigest()[:16]
    if sort == "weak":
        return f'W/"{digest}"'
    return f'"{digest}-{coding}"' if coding else f'"{digest}"'


class Stage(base.Stage):
    """Reads are answered 304 or 412 on the way out; writes are held by handlers that know what is there."""

    out_work = "registered"

    def __init__(self, options: Options, setup: Setup) -> None:
        self.id = options.id
        self.sort = options.etag
        self.raises = (options.refuse or setup.spec.refuse) == "raise"

    def way_in(self, x: Exchange) -> Effect:
        """Leave the question for a handler that writes (``records`` does ask), or that knows of ranges."""
        fields = x.request.fields
        if x.request.method not in ("GET", "HEAD"):
            if any(name in fields for name in CONDITIONS):
                x.precondition = self._question(x)
        elif "range" in fields:
            x.judged = self._judgement(x)
        return None

    def _judgement(self, x: Exchange) -> Judgement:
        method, fields = x.request.method, x.request.fields

        def judge(whole: Answer) -> tuple[str | None, bool]:
            etag = whole.fields.get("etag")
            if etag is None and self.sort != "none":
                etag = entity_tag(whole.body, self.sort)
            return etag, bool(evaluate(method, fields, etag, whole.fields.get("last-modified"), now=x.now))

        return judge

    def _question(self, x: Exchange) -> Precondition:
        method, fields = x.request.method, x.request.fields

        def ask(body: bytes | None) -> Effect:
            etag, others = None, []
            if body is not None and self.sort != "none":
                etag = entity_tag(body, self.sort)
                others = [entity_tag(body, self.sort, coding) for coding in CODINGS]
            if not evaluate(method, fields, etag, None, others=others, exists=body is not None, now=x.now):
                return None
            error = refusal("PreconditionFailed", "precondition-failed", self._never_matches(fields.get("if-match")))
            error.by = self.id
            return error if self.raises else Refused(error.plainly(), "precondition-failed", self.id)

        return ask

    def _never_matches(self, wanted: str | None) -> str:
        """Why If-Match failed, where it could only fail (RFC 9110 13.1.1)."""
        if wanted is None or '"' not in wanted or not all(part.strip().startswith("W/") for part in wanted.split(",")):
            return ""
        return f"If-Match compares strongly, and a weak tag never matches; set etag: strong on {self.id}"

    def way_out(self, x: Exchange) -> Effect:
        """Give a 200, or a part of one, its tag; then evaluate the conditions of a read (13.2.1: of any success)."""
        answer = x.answer
        assert answer is not None
        if (
            answer.status == 304
            and answer.stands_for is not None
            and "etag" not in answer.fields
            and self.sort != "none"
        ):
            answer.fields.put("ETag", self._tag(answer.stands_for))  # 15.4.5: what the 200 would have had
            answer.fields.drop("last-modified")
        if not 200 <= answer.status < 300 or x.request.method not in ("GET", "HEAD"):
            return None
        fields = answer.fields
        if "etag" not in fields and self.sort != "none" and answer.status in (200, 203, 206):
            fields.put("ETag", self._tag(answer.stands_for or answer))
        status = evaluate(
            x.request.method, x.request.fields, fields.get("etag"), fields.get("last-modified"), now=x.now
        )
        if not status or (status == 304 and answer.status not in CONFIRMED):
            return None
        x.note = {"condition": "holds not" if status == 412 else "not modified"}
        if status == 412:
            return refusal("PreconditionFailed", "precondition-failed")
        x.answer = not_modified(answer)
        return None

    def _tag(self, whole: Answer) -> str:
        coding = "" if whole.uncoded is None else whole.fields.get("content-encoding") or ""
        return entity_tag(whole.content, self.sort, coding)

"""``conditional``: validators and conditional requests (RFC 9110 section 13)."""

from __future__ import annotations

from typing import Literal

from patient_usher.core.http.conditional import CONDITIONS, evaluate, not_modified
from patient_usher.core.model import stage as base
from patient_usher.core.model.effects import Effect, Precondition, Refused
from patient_usher.core.model.errors import refusal
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.pipeline import StageOptions
from patient_usher.core.model.stage import Setup


class Options(StageOptions):
    """Which entity tags answers get that have none."""

    etag: Literal["weak", "strong", "none"] = "weak"


def entity_tag(body: bytes, sort: str) -> str:
    """A tag made from the content."""
    import hashlib

    tag = f'"{hashlib.sha256(body).hexdigest()[:16]}"'
    return f"W/{tag}" if sort == "weak" else tag


class Stage(base.Stage):
    """Reads are answered 304 or 412 on the way out; writes are held by handlers that know what is there."""

    out_work = "registered"

    def __init__(self, options: Options, setup: Setup) -> None:
        self.id = options.id
        self.sort = options.etag
        self.raises = (options.refuse or setup.spec.refuse) == "raise"

    def way_in(self, x: Exchange) -> Effect:
        """Leave the question for a handler that writes (``records`` does ask)."""
        if x.request.method not in ("GET", "HEAD") and any(name in x.request.fields for name in CONDITIONS):
            x.precondition = self._question(x)
        return None

    def _question(self, x: Exchange) -> Precondition:
        method, fields = x.request.method, x.request.fields

        def ask(body: bytes | None) -> Effect:
            etag = entity_tag(body, self.sort) if body is not None and self.sort != "none" else None
            if not evaluate(method, fields, etag, None, exists=body is not None):
                return None
            error = refusal("PreconditionFailed", "precondition-failed")
            error.by = self.id
            return error if self.raises else Refused(error.plainly(), "precondition-failed", self.id)

        return ask

    def way_out(self, x: Exchange) -> Effect:
        """Give a 200 its tag, and hold a read's conditions against it."""
        answer = x.answer
        assert answer is not None
        if answer.status != 200 or x.request.method not in ("GET", "HEAD"):
            return None
        if "etag" not in answer.fields and self.sort != "none":
            answer.fields.put("ETag", entity_tag(answer.body, self.sort))
        fields = answer.fields
        status = evaluate(x.request.method, x.request.fields, fields.get("etag"), fields.get("last-modified"))
        if not status:
            return None
        x.note = {"condition": "holds not" if status == 412 else "not modified"}
        if status == 412:
            return refusal("PreconditionFailed", "precondition-failed")
        x.answer = not_modified(answer)
        return None

"""``https-only``: redirects or refuses plain HTTP, and announces HSTS."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from typing import Annotated, ClassVar, Literal

from pydantic import AfterValidator, BeforeValidator, Field, model_validator
from pydantic.json_schema import SkipJsonSchema

from patient_usher.core.http.dates import MICROSECONDS
from patient_usher.core.http.fields import Fields
from patient_usher.core.http.messages import Answer
from patient_usher.core.http.urls import Url
from patient_usher.core.model import stage as base
from patient_usher.core.model.answer_factory import answer_maker
from patient_usher.core.model.document import Json, JsonMapping, JsonObject
from patient_usher.core.model.effects import Effect, Refused
from patient_usher.core.model.errors import refusal
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.handler_specs import AnswerSpec
from patient_usher.core.model.pipeline import StageOptions
from patient_usher.core.model.routes import RouteSpec
from patient_usher.core.model.stage import Setup
from patient_usher.core.model.text_types import BuiltModel, Duration, Model, Or, Status, wrong


def _without_status(spec: AnswerSpec) -> AnswerSpec:
    if spec.status is not None:
        raise wrong("the status stands beside the answer", "write {status: ..., answer: {json: ...}}")
    return spec


OwnContent = Annotated[AnswerSpec, AfterValidator(_without_status)]


class Reads(BuiltModel):
    """What becomes of a plain GET or HEAD."""

    sentences: ClassVar[dict[str, str]] = {
        "status": "The redirect's status.",
        "to-port": "The port of the secure URL.",
        "answer": "Content and header fields of your own for the redirect.",
    }

    status: Literal[301, 302, 303, 307, 308] = 308
    to_port: Annotated[int, Field(ge=1, le=65535)] = 443
    answer: OwnContent | None = None
    refuse: SkipJsonSchema[bool] = False  # what reads: refuse stands for; no key of its own

    @model_validator(mode="before")
    @classmethod
    def _no_key(cls, value: Json) -> object:
        if isinstance(value, dict) and "refuse" in value:
            raise wrong("refuse stands alone", "write reads: refuse")
        return value


ReadsOf = Annotated[
    Reads,
    BeforeValidator(lambda value: Reads.model_construct(refuse=True) if value == "refuse" else value),
    Or({"const": "refuse"}),
]


class Others(BuiltModel):
    """What becomes of anything else that comes plain."""

    sentences: ClassVar[dict[str, str]] = {
        "status": "The refusal's status.",
        "answer": "Content and header fields of your own for the refusal.",
    }

    status: Status = 403
    answer: OwnContent | None = None


class Hsts(Model):
    """Strict-Transport-Security (RFC 6797 6.1)."""

    sentences: ClassVar[dict[str, str]] = {
        "max-age": "How long browsers use TLS only.",
        "include-subdomains": "Whether hosts below count too.",
    }

    max_age: Duration = 365 * 86_400_000_000
    include_subdomains: bool = False


class Options(StageOptions):
    """Redirects, refusals and HSTS."""

    trade_names: ClassVar[tuple[str, ...]] = ("force-https", "hsts", "https", "https-redirect", "tls")
    written: ClassVar[Collection[str]] = ("strict-transport-security",)
    sentences: ClassVar[dict[str, str]] = {
        "reads": "What becomes of a plain GET or HEAD: a redirect, or refuse.",
        "others": "What becomes of anything else that comes plain.",
        "hsts": "Strict-Transport-Security on secure answers (RFC 6797).",
    }

    reads: ReadsOf = Reads.model_construct()
    others: Others = Others.model_construct()
    hsts: Hsts | None = None

    def branches(self, routes: Sequence[RouteSpec] = ()) -> Iterable[str]:
        """Secure requests; plain ones, which are redirected or refused."""
        return ("secure", *["redirected"] * (not self.reads.refuse), "refused")

    def classes(self, fact: str) -> Sequence[str | None] | None:
        """Both schemes; what a redirect keeps of the URL changes nothing else."""
        return ("https", "http") if fact == "scheme" else () if fact in ("host", "path", "query.*") else None

    def samples(self, route: RouteSpec) -> Iterable[JsonObject]:
        """A request without TLS."""
        return ({"scheme": "http"},)

    def taken(self, x: Exchange, way: str, did: str, note: JsonMapping) -> Iterable[str]:
        """By whether it passed on, and who refused."""
        if way != "in":
            return ()
        return ("secure" if did == "continued" else "refused" if x.refused_by == self.id else "redirected",)


class Stage(base.Stage):
    """Goes by the scheme that the caller used, as far as the service knows or believes it."""

    def __init__(self, options: Options, setup: Setup) -> None:
        self.status, self.port = options.reads.status, options.reads.to_port
        self.reads = () if options.reads.refuse else ("GET", "HEAD")
        deployment = setup.spec.deployment
        self.front = deployment.in_front if deployment.in_front.ends_tls else None
        self.others = options.others.status
        self.redirect, self.refusal = (
            answer_maker(part.answer, setup.read_file, status=part.status) if part.answer is not None else None
            for part in (options.reads, options.others)
        )
        hsts = options.hsts
        self.policy = ""
        if hsts is not None:
            self.policy = f"max-age={hsts.max_age // MICROSECONDS}" + ("; includeSubDomains" * hsts.include_subdomains)
        else:
            self.unused = frozenset({"way_out"})

    def way_in(self, x: Exchange) -> Effect:
        """Pass secure requests on; a redirect keeps host, path and query."""
        if x.scheme == "https":
            return None
        url = x.request.url
        if x.request.method not in self.reads:
            x.note = self._because(x)
            if self.refusal is not None:
                return Refused(self.refusal(x), "plain-http")
            return refusal("Forbidden", "plain-http", "the request came without TLS", status=self.others)
        secure = Url("https", url.host, self.port, url.path, url.query)
        x.note = {"to": secure.text, **(self._because(x) or {})}
        answer = Answer(self.status, Fields()) if self.redirect is None else self.redirect(x)
        answer.fields.put("Location", secure.text)
        return answer

    def _because(self, x: Exchange) -> JsonObject | None:
        """Why what the caller sent over TLS looks plain from here: the front's word isn't there, or isn't believed."""
        if self.front is None or x.sent.url.scheme != "https":
            return None
        came = f"the front ended TLS, and plain HTTP came from its address {self.front.address}"
        if self.front.sends == "nothing":
            return {"because": f"{came}, with no word of the scheme; set in-front.sends"}
        return {"because": f"{came}, which isn't believed; list it in trusts-forwarded"}

    def way_out(self, x: Exchange) -> Effect:
        """RFC 6797 7.2: only over secure transport."""
        if x.scheme == "https" and x.answer is not None:
            x.answer.fields.put("Strict-Transport-Security", self.policy)
        return None

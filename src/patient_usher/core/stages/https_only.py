"""``https-only``: redirects or refuses plain HTTP, and announces HSTS."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from patient_usher.core.http.dates import MICROSECONDS
from patient_usher.core.http.fields import Fields
from patient_usher.core.http.messages import Answer
from patient_usher.core.http.urls import Url
from patient_usher.core.model import stage as base
from patient_usher.core.model.effects import Effect
from patient_usher.core.model.errors import refusal
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.pipeline import StageOptions
from patient_usher.core.model.scalars import Duration, Model, Status
from patient_usher.core.model.stage import Setup


class Reads(Model):
    """What becomes of a plain GET or HEAD."""

    status: Annotated[int, Field(ge=301, le=308)] = 308
    to_port: Annotated[int, Field(ge=1, le=65535)] = 443


class Others(Model):
    """What becomes of anything else that comes plain."""

    status: Status = 403


class Hsts(Model):
    """Strict-Transport-Security (RFC 6797 6.1)."""

    max_age: Duration = 365 * 86_400_000_000
    include_subdomains: bool = False


class Options(StageOptions):
    """Redirects, refusals and HSTS."""

    reads: Reads = Reads.model_construct()
    others: Others = Others.model_construct()
    hsts: Hsts | None = None


class Stage(base.Stage):
    """Goes by the scheme that the caller used, as far as the service knows or believes it."""

    def __init__(self, options: Options, setup: Setup) -> None:
        self.status, self.port = options.reads.status, options.reads.to_port
        self.others = options.others.status
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
        if x.request.method not in ("GET", "HEAD"):
            return refusal("Forbidden", "plain-http", "the request came without TLS", status=self.others)
        secure = Url("https", x.host or url.host, self.port, url.path, url.query)
        x.note = {"to": secure.text}
        return Answer(self.status, Fields([("Location", secure.text)]))

    def way_out(self, x: Exchange) -> Effect:
        """RFC 6797 7.2: only over secure transport."""
        if x.scheme == "https" and x.answer is not None:
            x.answer.fields.put("Strict-Transport-Security", self.policy)
        return None

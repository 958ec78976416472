"""``call-unlisted``: pages can't make a call that the pipeline is there for: cors doesn't list what it needs."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.analysis.finding import Rule, Site, Suspicion, entered, shows
from patient_usher.core.analysis.mending import Mend, append, mend, option, put
from patient_usher.core.model.exchange import Exchange


def look(site: Site) -> Iterator[Suspicion]:
    """Calls of listed pages that a browser blocks on account of what cors allows."""
    for run, x in site.exchanges("page"):
        verdict = x.browser
        if verdict is None or verdict.why not in _MENDS:
            continue
        origin = next((o for other in run.exchanges if (o := other.sent.fields.get("origin")) is not None), None)
        if origin not in site.words.origins:
            continue
        guard = next((id_ for id_ in site.kinds("cors") if any(entered(other, id_) for other in run.exchanges)), None)
        if guard is None:
            continue
        yield Suspicion(
            guard,
            None,
            site.at(guard),
            f"a page of {origin} can't call {x.sent.method} {x.sent.url.path}: {verdict.reason}",
            tuple(_mends(site, guard, verdict.why, x, origin)),
            shows(
                lambda x, why=verdict.why: x.browser is not None and x.browser.why == why,  # type: ignore[misc]
                lambda x: x.browser is not None and x.browser.verdict == "readable",
            ),
            (run.probe,),
        )


_MENDS = (
    "method-not-allowed",
    "header-not-allowed",
    "authorization-not-listed",
    "wildcard-with-credentials",
    "credentials-not-allowed",
)


def _mends(site: Site, guard: str, why: str, x: Exchange, origin: str | None) -> Iterator[Mend]:
    if why == "method-not-allowed":
        listed = list(getattr(site.options[guard], "allow_methods", ()))
        yield mend(
            f"list {x.sent.method} under allow-methods", option(guard, "allow-methods", [*listed, x.sent.method])
        )
    elif why in ("header-not-allowed", "authorization-not-listed"):
        wanted = sorted({name for name in x.sent.fields.names() if name not in _PLAIN})
        words = f"list {', '.join(wanted)} under allow-headers"
        yield mend(words, append(site.at(guard, "allow-headers"), *wanted))
    else:
        words = f"list {origin} by name, and allow credentials"
        at = site.at(guard, "allow-origins")
        listed = [one for one in getattr(site.options[guard], "allow_origins", ()) if one != "*"]
        yield mend(words, put(at, listed or [origin]), option(guard, "allow-credentials", True))


_PLAIN = {"host", "origin", "content-length", "accept", "accept-language", "cookie", "user-agent", "referer",
          "sec-fetch-dest", "sec-fetch-mode", "sec-fetch-site", "accept-encoding"}  # fmt: skip
"""Fields that pages need not ask for (Fetch 2.2.2), or that browsers send by themselves."""


RULE = Rule(
    code="call-unlisted",
    level="warning",
    says="cors doesn't list what pages need for a call that the pipeline is there for",
    matters="Scripts can make the call and pages can't: the browser blocks it, and its console says little of why.",
    mend="List the method and the header fields that pages send, by name; with credentials a star doesn't count.",
    example="""
patient-usher: pipeline/1
stages:
  - {id: browsers, kind: cors, allow-origins: ["https://boaters.example"]}
  - {id: who, kind: authenticate, schemes: [{scheme: api-key}]}
routes:
  - {id: berths, at: GET /berths, access: signed-in, handler: {answer: {text: seven}}}
accounts: {maren: {api-keys: [a-made-up-key]}}
""",
    look=look,
)

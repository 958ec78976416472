"""Why a browser blocked a call: one code of a closed list, and one sentence that leads to the stage."""

from __future__ import annotations

from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.model.enumerations import BLOCKED
from patient_usher.core.model.exchange import Exchange


def diagnosed(
    compiled: CompiledPipeline, origin: str, why: str, what: str, x: Exchange, method: str
) -> tuple[str, str]:
    """The code and the sentence for a call blocked for ``why``, on account of the exchange ``x``.

    ``why`` is what failed in the protocol, ``what`` the value that it failed on, ``method`` the call's.
    """
    asked = x.kind == "preflight"
    answer = "the preflight's answer" if asked else "the answer"
    stages = [id_ for id_, options in compiled.options.items() if options.kind == "cors"]
    stages = [id_ for id_ in stages if compiled.options[id_].enabled] or stages
    ran = next(
        (stage for stage, way, did, _, _ in x.journey or () if stage in stages and way == "in" and did != "skipped"),
        None,
    )
    stage = ran or (stages[0] if stages else "")
    named = f"allow-{'methods' if why.startswith('method') else 'headers'} of {stage}" if stage else "what it allows"
    if why == "no-answer":
        return why, f"{'the preflight' if asked else 'the call'} got no answer: {_no_answer(x, stage)}"
    if why == "origin-mismatch" and x.caches and x.caches[-1].state == "hit" and stage:
        cache = x.caches[-1].stage
        text = f"{cache} gave a copy that was marked for {what}, not for {origin}; move {stage} in front of {cache}"
        return "cached-for-another-origin", text
    if why == "origin-mismatch":
        return why, f"{answer} allows the origin {what}, not {origin}; send back the page's own, or list it"
    if why == "wildcard-with-credentials":
        mend = f"list {origin} in allow-origins of {stage}" if stage else f"answer {origin} by name"
        return why, f'{answer} allows "*", which doesn\'t count for a call with credentials; {mend}'
    if why == "credentials-not-allowed":
        mend = f"set allow-credentials on {stage}" if stage else "send Access-Control-Allow-Credentials: true"
        return why, f"the call carries credentials, which {answer} doesn't allow; {mend}, or omit them"
    if why == "method-not-allowed":
        case = f"; methods have case, and the page sent {method}" if method != method.upper() else ""
        return why, f"the preflight's answer doesn't allow {what}; add {what} to {named}{case}"
    if why == "header-not-allowed":
        return why, f"the preflight's answer doesn't allow the header {what}; add it to {named}"
    if why == "authorization-not-listed":
        return why, f'"*" doesn\'t cover Authorization, which must be listed by name; add it to {named}'
    if why == "redirect-limit":
        last = next((one for one in reversed(x.send.exchanges) if one.answered_by != "caller"), x)
        told = next((note["because"] for _, _, _, _, note in last.journey or () if note and "because" in note), None)
        by = "a copy that the browser has kept" if last.answered_by == "caller" else last.answered_by
        ends = f"{by} redirects {last.sent.url.text} again; let it answer"
        return why, f"{BLOCKED[why]}: {told or ends}"
    if why in ("malformed-allow-methods", "malformed-allow-headers"):
        return why, f"{BLOCKED[why]} ({what}); separate names by commas"
    if why in ("origin-missing", "preflight-status"):
        return _no_fields(compiled, origin, why, x, stages, ran, answer)
    return why, f"{BLOCKED[why]}; {_MENDS[why]}"


_MENDS = {
    "nothing-cached": "use cache: default",
    "forbidden-method": "use another method",
    "no-url": "name a host that the URL standard takes",
    "body-not-allowed": "leave the body out, or send it with POST",
    "no-cors-method": "use mode: cors",
    "no-cors-redirect": "use mode: cors",
    "navigate-method": "use one of these",
    "mode-same-origin": "use mode: cors",
    "mixed-content": "call https",
    "redirect-refused": "use redirect: follow",
    "redirect-nowhere": "answer with a Location of http or https",
}
"""What mends calls that the page itself asks for wrongly."""


def _no_answer(x: Exchange, cors: str) -> str:
    if x.outcome == "crashed" and x.errors:
        mend = f"put an error-handler inside {cors}" if cors else "put an error-handler in front"
        return f"nobody caught {x.errors[-1].type}, and the connection was closed; {mend}"
    stage = next((stage for stage, _, did, _, _ in x.journey or () if did == "nothing"), None)
    return f"{x.outcome}, since {stage} neither passed it on nor answered" if stage else x.outcome


def _no_fields(
    compiled: CompiledPipeline, origin: str, why: str, x: Exchange, stages: list[str], ran: str | None, answer: str
) -> tuple[str, str]:
    """The answer has no CORS fields, or a preflight no good status: who is to blame."""
    assert x.answer is not None
    status, by = x.answer.status, x.answered_by
    preflight = x.kind == "preflight"
    if not stages and why == "preflight-status":
        return why, f"the preflight was answered {status} by {by}; let {by} answer it 204"
    if not stages:
        return (
            "no-cors-stage",
            f"{answer} ({status}) has no CORS fields: the pipeline has no cors stage; add one in front",
        )
    if ran is None:
        return _cors_did_not_run(compiled, x, stages[0], answer)
    if by == "server":
        error = x.errors[-1].type if x.errors else "an error"
        mend = f"put an error-handler inside {ran}"
        return "crashed", f"nobody caught {error}: the bare 500 left without CORS fields; {mend}"
    if any(stage == ran and way == "error" for stage, way, _, _, _ in x.journey or ()):
        mend = f"move {ran} in front of {by}"
        return "error-outside-cors", f"the {status} left without CORS fields because {by} stands outside {ran}; {mend}"
    if x.refused_by != ran and _allowed(x, ran) and (found := _taken(compiled, x, ran, answer)) is not None:
        return found
    refused = x.refused_by == ran or (preflight and by == ran)
    if why == "origin-missing" and _allowed(x, ran):
        outside = [step.id for step in x.plan.steps[: [step.id for step in x.plan.steps].index(ran)]]
        text = (
            f"{ran} allowed {origin}, and what it put is gone from {answer}; look at {' and '.join(outside)} outside it"
        )
        return why, text
    if why == "origin-missing" or x.why == "origin-not-allowed":
        return "origin-not-listed", f"{ran} doesn't list the origin {origin}; add it to allow-origins"
    if refused and x.why is not None:
        return (
            "preflight-refused",
            f"{ran} refused the preflight: {x.why}; list what the page asks for, or allow the rest",
        )
    mend = f"set preflight-status on {by}" if by == ran else f"move {ran} in front of {by}"
    return "preflight-status", f"the preflight was answered {status} by {by}; it must be 2xx: {mend}"


def _allowed(x: Exchange, stage: str) -> bool:
    """Whether the cors stage, in this exchange, found the origin on its list."""
    notes = [note for name, way, _, _, note in x.journey or () if name == stage and way == "in"]
    return any(note is not None and note.get("origin") == "allowed" for note in notes)


def _taken(compiled: CompiledPipeline, x: Exchange, cors: str, answer: str) -> tuple[str, str] | None:
    """Who took from the answer what the cors stage had put onto it, or answered in its place."""
    assert x.answer is not None
    steps = list(x.journey or ())
    entered = next(at for at, step in enumerate(steps) if step[0] == cors and step[1] == "in")
    left = next((at for at, step in enumerate(steps) if step[0] == cors and step[1] == "out"), entered)
    for stage, way, did, _, _ in steps[left + 1 :]:
        if did == "caught" and compiled.sequential:
            options = compiled.options[stage]
            if options.starts_errors_anew():
                text = (
                    f"{stage} starts {answer} to an error anew, without the CORS fields; set keeps-headers on {stage}"
                )
                return "replaced-outside-cors", text
        if way != "in" and stage != cors and did in ("answered", "raised", "caught"):
            text = (
                f"{stage} stands outside {cors} and gave {answer} ({x.answer.status}) in the place of what was marked"
            )
            return "replaced-outside-cors", f"{text}; move {cors} in front of {stage}"
    dropping = [
        id_
        for id_, options in compiled.options.items()
        if options.enabled and "access-control-allow-origin" in options.drops_on_answer()
    ]
    passed = [stage for stage, way, _, _, _ in steps if stage in dropping and way in ("in", "out")]
    if passed:
        text = f"{passed[0]} drops Access-Control-Allow-Origin from {answer}; take it off what {passed[0]} drops"
        return "dropped-outside-cors", text
    return None


def _cors_did_not_run(compiled: CompiledPipeline, x: Exchange, stage: str, answer: str) -> tuple[str, str]:
    assert x.answer is not None
    status, by = x.answer.status, x.answered_by
    preflight = x.kind == "preflight"
    blamed = x.refused_by or by
    ids = [step.id for step in x.plan.steps]
    if not compiled.options[stage].enabled:
        return "cors-not-reached", f"{stage} is switched off; switch it on"
    if any(name == stage and did == "skipped" for name, _, did, _, _ in x.journey or ()):
        return "cors-not-reached", f"{stage} passes this path over (only, except); let it take the path in"
    home = _home(compiled, stage)
    if stage not in ids:
        if blamed == "router":
            method = x.sent.method
            mend = f"move {stage} to the server-wide stages"
            where = f"{stage} stands on {home}, which {method} never reaches"
            code = "preflight-unrouted" if preflight else "cors-not-reached"
            asked = " the preflight" if preflight else ""
            return code, f"the router answered{asked} {status}, because {where}; {mend}"
        if x.route is not None:
            return "cors-not-reached", f"{stage} stands on {home}, where this route isn't; move it further out"
    verb = "was answered" if preflight else "can't be read"
    if by == "server":
        error = x.errors[-1].type if x.errors else "an error"
        raised = x.errors[-1].raised_by if x.errors else "a stage"
        return (
            "crashed",
            f"nobody caught {error} of {raised}, which stands outside {stage}; move {stage} in front of {raised}",
        )
    if preflight:
        text = (
            f"the preflight {verb} {status} by {blamed}, which stands before {stage}; move {stage} in front of {blamed}"
        )
        return "preflight-refused", text
    text = f"the {status} {verb} because {blamed} stands outside {stage}; move {stage} in front of {blamed}"
    return "stage-before-cors", text


def _home(compiled: CompiledPipeline, stage: str) -> str:
    """Where a stage stands that isn't server-wide."""
    for item in compiled.placed:
        for group in item.groups:
            if any(entry["id"] == stage for entry in group.stages):
                return f"group {group.id}"
        if any(entry["id"] == stage for entry in item.spec.stages):
            return f"route {item.route.id}"
    return "the server"

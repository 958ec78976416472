"""The closed words: what results, expectations, schemas, views and docs may say, each in one place.

A mapping gives with each word what it means, in the words that people are shown.
"""

from __future__ import annotations

OUTCOMES: dict[str, str] = {
    "handled": "the handler answered",
    "short-circuited": "a stage answered",
    "unrouted": "the router refused",
    "errored": "an error was raised, and caught",
    "crashed": "an error was raised, and nobody caught it",
    "timed-out": "a timeout stage gave up on what is behind it",
    "stalled": "a stage neither passed on nor answered",
    "abandoned": "the caller gave up while work went on",
    "answered-twice": "a stage answered, and yet passed on",
    "not-sent": "nothing was sent",
    "redirect-loop": "the answers redirect without end",
    "from-caller-cache": "the caller had a copy of its own",
}

SLIPS = frozenset({"stalled", "crashed", "answered-twice", "abandoned"})
"""Outcomes that stand out where nobody expected them."""

DID: dict[str, str] = {
    "continued": "passed on",
    "answered": "answered",
    "raised": "raised an error",
    "caught": "caught the error and answered",
    "nothing": "did nothing: neither passed on nor answered",
    "answered-and-continued": "answered, and yet passed on",
    "skipped": "passed over",
}

WAYS = ("in", "out", "error")
KINDS = ("call", "preflight", "redirect")
"""What an exchange is to the send that it belongs to."""
VERDICTS = ("readable", "blocked", "opaque")
"""What a browser lets the page have of an answer."""
LEVELS = ("debug", "info", "warning", "error")
"""Of log records."""

CACHE_STATES: dict[str, str] = {
    "hit": "answered from the store",
    "miss": "nothing stored fits",
    "stale": "what is stored is too old, and was asked for anew",
    "revalidated": "what is stored was confirmed",
    "bypass": "neither looked up nor stored",
    "not-opted-in": "the route doesn't ask for a copy to be kept",
    "private-only": "only the client may keep a copy",
}

RESERVED = ("handler", "router", "server", "caller", "routes")
"""Words that results use beside stage ids, so that no stage can have them as its id."""

WHY: dict[str, str] = {
    "absent": "no credential came with the request",
    "wrong": "the credential isn't one that is known here",
    "expired": "the credential has expired",
    "not-yet-valid": "the credential isn't valid yet",
    "wrong-issuer": "the token comes from another issuer",
    "wrong-audience": "the token is meant for another audience",
    "insufficient-role": "the caller has none of the roles asked for",
    "insufficient-scope": "the credential lacks the scope asked for",
    "closed-to-all": "nobody may use this route",
    "no-route": "no route has this path",
    "method-not-allowed": "the path has routes, but none for this method",
    "decided": "a case of the stage refused it",
    "malformed-body": "the body can't be parsed",
    "media-type": "the body's media type isn't read here",
    "too-large": "the body is over the limit",
    "charset": "the body's character set isn't understood",
    "invalid-input": "the input breaks the route's schema",
    "plain-http": "the request came without TLS",
    "maintenance": "the service is switched off",
    "origin-not-allowed": "the origin isn't on the list",
    "method-not-listed": "the preflight asks for a method that isn't listed",
    "header-not-listed": "the preflight asks for a header that isn't listed",
    "over-quota": "the quota is used up",
    "too-many-at-once": "too many requests are under way",
    "too-slow": "what is behind took too long",
    "not-acceptable": "no coding that the request accepts",
    "precondition-failed": "a condition of the request doesn't hold",
    "signed-out": "the caller has signed out",
    "spent": "the token was exchanged for a fresh one; its session is over now",
    "only-if-cached": "only a stored answer was asked for and there is none",
    "own-logic": "a stage of the user's own refused it",
}
"""Why a request was refused: every refusal carries one of these, and nothing else."""

BLOCKED: dict[str, str] = {
    "no-cors-stage": "the answer names no allowed origin, and no cors stage stands on the request's way",
    "stage-before-cors": "a stage in front of the cors stage answered, so the answer has no CORS fields",
    "cors-not-reached": "the cors stage stands where the request never comes",
    "error-outside-cors": "the error was caught outside the cors stage, whose work on the way out is lost",
    "crashed": "nobody caught an error: the bare 500 has no CORS fields",
    "origin-not-listed": "the cors stage doesn't list the page's origin",
    "origin-missing": "the answer names no allowed origin",
    "origin-mismatch": "the answer allows another origin",
    "wildcard-with-credentials": 'the answer allows "*", which doesn\'t count for calls with credentials',
    "credentials-not-allowed": "the call carries credentials, and the answer doesn't allow them",
    "preflight-refused": "another stage refused the preflight before the cors stage could answer it",
    "preflight-unrouted": "the router refused the preflight, which never reached a cors stage",
    "preflight-status": "the preflight's answer has a status that isn't 2xx",
    "method-not-allowed": "the preflight's answer doesn't allow the method",
    "header-not-allowed": "the preflight's answer doesn't allow a header",
    "authorization-not-listed": 'Authorization must be listed by name: "*" doesn\'t cover it',
    "malformed-allow-methods": "Access-Control-Allow-Methods can't be parsed",
    "malformed-allow-headers": "Access-Control-Allow-Headers can't be parsed",
    "replaced-outside-cors": "a stage outside the cors stage answered in the place of what it had marked",
    "dropped-outside-cors": "a stage outside the cors stage dropped the fields that it had put",
    "cached-for-another-origin": "a stored copy carries the marks that were made for another origin",
    "nothing-cached": "the page asked for a copy of the browser's own, and there is none",
    "no-answer": "no answer came",
    "forbidden-method": "pages may not use the method",
    "no-url": "a browser takes this for no URL",
    "body-not-allowed": "GET and HEAD carry no body",
    "no-cors-method": "in mode no-cors only GET, HEAD and POST may be sent",
    "no-cors-redirect": "in mode no-cors redirects are followed or nothing is sent",
    "navigate-method": "links and forms send GET or POST",
    "mode-same-origin": "the page asked for its own origin only",
    "mixed-content": "a page of https may not call plain http",
    "redirect-refused": "the answer redirects, and the page asked for that to be an error",
    "redirect-nowhere": "the answer redirects to something that can't be fetched",
    "redirect-limit": "the answers redirect without end",
}
"""Why a browser blocked a call."""

OWN_LOGIC = ("decide", "python")
"""Kinds that hold the developer's own logic: of them nobody else knows what they guard."""

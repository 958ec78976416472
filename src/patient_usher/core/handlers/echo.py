"""``echo``: answers with what the handler can see of the request."""

from __future__ import annotations

from patient_usher.core.http.messages import json_answer
from patient_usher.core.model.effects import Effect
from patient_usher.core.model.exchange import UNREAD, Exchange


def echo(x: Exchange) -> Effect:
    """Method, URL, values, fields, body, caller and context, as JSON."""
    body = x.body
    if body is UNREAD:
        shown: object = None
    elif isinstance(body, bytes):
        shown = body.decode(errors="replace")
    else:
        shown = body
    identity = x.identity
    fields, url = x.request.fields, x.request.url
    return json_answer(
        200,
        {
            "method": x.request.method,
            "url": url.text,
            "path": x.path_values,
            "query": {name: list(values) if len(values) > 1 else values[0] for name, values in url.params.items()},
            "headers": {name: fields.get(name.lower()) for name, _ in fields},
            "body": shown,
            "identity": {"name": identity.name, "roles": list(identity.roles), "facts": identity.facts}
            if identity
            else None,
            "context": x.context,
        },
    )

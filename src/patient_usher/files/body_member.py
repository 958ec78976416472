"""A body's octets as an entry of a trace has them."""

from __future__ import annotations

import base64
import re

from patient_usher.core.model.document import JsonObject
from patient_usher.core.model.values import literal

_UNREADABLE = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\x7f-\x9f\ufffe\uffff]")


def body_member(octets: bytes, media: str) -> JsonObject:
    """``text`` for what people can read and edit, ``base64`` for everything else.

    ``media`` is what the request says it is: a ``text`` of which nothing is said would be sent as text/plain.
    """
    try:
        text = octets.decode() if media else None
    except UnicodeDecodeError:
        text = None
    if text is not None and _UNREADABLE.search(text) is None:
        return {"text": literal(text)}
    return {"base64": base64.b64encode(octets).decode()}

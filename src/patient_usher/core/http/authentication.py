"""Credentials and challenges (RFC 9110 section 11; RFC 6750, RFC 7617)."""

from __future__ import annotations

import base64
import binascii

from patient_usher.core.http.fields import quoted


def credentials(value: str | None) -> tuple[str, str] | None:
    """Scheme in lower case (11.1: it has no case) and what follows, or None without a field."""
    if value is None:
        return None
    scheme, _, rest = value.strip().partition(" ")
    return scheme.lower(), rest.strip()


def basic_pair(token: str) -> tuple[str, str] | None:
    """User and password of Basic credentials, split at the first colon (RFC 7617 2)."""
    try:
        text = base64.b64decode(token, validate=True).decode()
    except (binascii.Error, UnicodeDecodeError, ValueError):
        return None
    user, colon, password = text.partition(":")
    return (user, password) if colon else None


def basic_credentials(user: str, password: str) -> str:
    """The Authorization value for a user and password (RFC 7617 2)."""
    return "Basic " + base64.b64encode(f"{user}:{password}".encode()).decode()


def challenge(scheme: str, **params: str | None) -> str:
    """One challenge of WWW-Authenticate (RFC 9110 11.6.1); parameters that are None are left out."""
    given = ", ".join(f"{name}={quoted(value)}" for name, value in params.items() if value is not None)
    return f"{scheme} {given}" if given else scheme

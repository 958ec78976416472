"""What a pipeline says of its credentials: where in messages they stand, and which there are."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import chain

from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.http.authentication import basic_credentials
from patient_usher.core.http.secrets import Places

LONG = 10
"""A declared credential of fewer characters may be a word that stands anywhere: it is hidden in its place alone."""


def places_of(compiled: CompiledPipeline) -> Places:
    """Where stages and desks look for credentials, and which limits count by one."""
    found: dict[str, set[str]] = {"header": set(), "query": set(), "cookie": set()}
    for options in compiled.options.values():
        for credential in options.credentials():
            if credential.place is not None:
                where, name = credential.place
                found[where].add(name)
    places = Places(found["header"], found["query"])
    limits = [
        id_
        for id_, options in compiled.options.items()
        if (limit := options.limit()) is not None and any(_counts_by_credential(places, one) for one in limit.per)
    ]
    return Places(found["header"], found["query"], limits)


def _counts_by_credential(places: Places, per: str) -> bool:
    root, _, name = per.partition(".")
    return (root == "header" and places.carries(name)) or (root in ("query", "body") and places.parameter(name))


def credentials_of(compiled: CompiledPipeline) -> Iterator[str]:
    """Passwords, API keys and signing secrets that stand in the file, if they are long enough to be told from words;

    and each name with its password as Basic sends them (RFC 7617 2).
    """
    accounts = compiled.spec.accounts.values()
    named = ((name, account.password) for name, account in compiled.spec.accounts.items() if account.password)
    pairs = (basic_credentials(name, password).partition(" ")[2] for name, password in named)
    passwords = (account.password for account in accounts if account.password)
    keys = chain.from_iterable(account.api_keys for account in accounts)
    secrets = (key.secret for key in compiled.spec.signing_keys.values() if key.secret)
    return (text for text in chain(passwords, keys, secrets, pairs) if len(text) >= LONG)

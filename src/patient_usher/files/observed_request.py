"""A request that really came, as a trace's: with credentials to be minted anew, and other secrets hidden."""

from __future__ import annotations

from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.http.authentication import credentials
from patient_usher.core.http.media import is_json, parse_media_type
from patient_usher.core.http.messages import Request, read_json
from patient_usher.core.model.document import Json, JsonObject
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.values import literal
from patient_usher.core.verify.observed_expectations import observed
from patient_usher.files.body_member import body_member
from patient_usher.files.secret_keeper import SecretKeeper

VISITOR = "visitor"
"""The caller who keeps cookies: what a client sent of them is sent again as the answers give it."""
_OF_US = frozenset({"host", "content-length", "authorization", "cookie"})


def as_request(x: Exchange, compiled: CompiledPipeline, keeper: SecretKeeper, base: str, starts: int) -> JsonObject:
    """An exchange as an entry of a trace that counts from ``starts``: what came, when, and what happened."""
    sent = x.sent
    place, name = compiled.credential_defaults.key_place or ("", "")
    key = name.lower() if place == "header" else ""
    url = sent.url.target if sent.url.origin == base else sent.url.text
    entry: JsonObject = {
        "id": x.id,
        "at": f"{max(x.at - starts, 0) / 1_000_000:.6f}".rstrip("0").rstrip(".") + "s",
        "send": f"{sent.method} {literal(keeper.url(url))}",
    }
    if "cookie" in sent.fields or (x.answer is not None and "set-cookie" in x.answer.fields):
        entry["caller"] = VISITOR
    sign = _signed(x, compiled, key)
    own = _OF_US | ({key} if sign is not None else set())
    headers = {
        sent.fields.spelled(lower): [literal(keeper.field(lower, value)) for value in sent.fields.values(lower)]
        for lower in sent.fields.names()
        if lower not in own
    }
    given = sent.fields.get("authorization")
    if sign is not None:
        entry["sign"] = sign
    elif given is not None:
        headers["Authorization"] = [literal(keeper.field("authorization", given))]
    if sent.body:
        entry.update(_content(sent, compiled, keeper))
        if "json" in entry:
            headers.pop("Content-Type", None)
    if headers:
        entry["headers"] = {name: values[0] if len(values) == 1 else values for name, values in headers.items()}
    return {**entry, "expect": observed(x)}


def _signed(x: Exchange, compiled: CompiledPipeline, key: str) -> JsonObject | None:
    """How the account that it was is to sign again; None where it was nobody's, or by a cookie."""
    account = x.identity.name if x.identity is not None else None
    if account not in compiled.spec.accounts:
        return None
    if key and key in x.sent.fields:
        return {"api-key": account}
    given = credentials(x.sent.fields.get("authorization"))
    return {given[0]: account} if given is not None and given[0] in ("bearer", "basic") else None


def _content(sent: Request, compiled: CompiledPipeline, keeper: SecretKeeper) -> JsonObject:
    media = sent.fields.get("content-type") or ""
    if is_json(parse_media_type(media)[0]) and media == "application/json":
        try:
            return {"json": _by_account(read_json(sent.body.decode()), compiled, keeper)}
        except ValueError:
            pass
    return body_member(keeper.body(sent.body, media), media)


def _by_account(tree: Json, compiled: CompiledPipeline, keeper: SecretKeeper, name: str = "") -> Json:
    """A body in JSON, its secrets hidden; the password of an account is written as that account's."""
    if isinstance(tree, dict):
        return {literal(key): _by_account(value, compiled, keeper, key) for key, value in tree.items()}
    if isinstance(tree, list):
        return [_by_account(value, compiled, keeper, name) for value in tree]
    if not isinstance(tree, str):
        return keeper.json(tree, name)
    if "pass" in name.lower():
        for account, spec in compiled.spec.accounts.items():
            if spec.password is not None and spec.password == tree:
                return f"${{accounts.{account}.password}}"
    return literal(keeper.value(name, tree))

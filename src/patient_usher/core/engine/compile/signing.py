"""Credentials minted for a request of a trace, as the pipeline's stages ask for them."""

from __future__ import annotations

from urllib.parse import urlencode

from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.http.authentication import basic_credentials
from patient_usher.core.http.dates import in_seconds
from patient_usher.core.http.fields import Fields
from patient_usher.core.http.messages import json_text
from patient_usher.core.http.urls import Url, parse_url
from patient_usher.core.model.document import JsonObject
from patient_usher.core.model.tokens import mint
from patient_usher.core.model.trace import SignSpec


def signed(compiled: CompiledPipeline, sign: SignSpec, fields: Fields, url: Url, now: int) -> Url:
    """Put the credential onto the fields. Returns the URL, which carries it where the stages want it there."""
    accounts = compiled.spec.accounts
    if sign.basic is not None:
        fields.put("Authorization", basic_credentials(sign.basic, accounts[sign.basic].password or ""))
    elif sign.api_key is not None:
        key = accounts[sign.api_key].api_keys[0]
        where, name = compiled.credential_defaults.key_place or ("header", "X-Api-Key")
        if where == "query":
            return parse_url(url.text + ("&" if url.query else "?") + urlencode({name: key}))
        if where == "header":
            fields.put(name, key)
        else:
            present = fields.get("cookie")
            fields.put("Cookie", f"{present}; {name}={key}" if present else f"{name}={key}")
    else:
        fields.put("Authorization", "Bearer " + _token(compiled, sign, now))
    return url


_REMEMBERED = 1024
_minted: dict[tuple[str, str | None, str], str] = {}
"""Tokens by algorithm, key and claims: what is tried out signs the same again and again."""


def _token(compiled: CompiledPipeline, sign: SignSpec, now: int) -> str:
    bearer = compiled.credential_defaults.bearer
    claims: JsonObject = {"sub": sign.bearer, "iat": in_seconds(now), "exp": in_seconds(now + sign.expires_in)}
    if sign.valid_in is not None:
        claims["nbf"] = in_seconds(now + sign.valid_in)
    for claim, own, expected in (("iss", sign.issuer, bearer.issuer), ("aud", sign.audience, bearer.audience)):
        if own is not None or expected is not None:
            claims[claim] = own if own is not None else expected
    if sign.scopes is not None:
        claims["scope"] = " ".join(sign.scopes)
    claims.update(sign.claims)
    try:
        name = sign.keys or bearer.keys[0]
        spec = compiled.spec.signing_keys[name]
        header = {**({"typ": bearer.typ} if bearer.typ is not None else {}), **sign.header}
        what = spec.algorithm, spec.secret or spec.private, json_text([claims, spec.kid, header])
        if (token := _minted.get(what)) is None:
            if len(_minted) >= _REMEMBERED:
                _minted.clear()
            token = _minted[what] = mint(compiled.setup.keys[name], claims, header)
        return token
    except (TypeError, ValueError, OverflowError, RecursionError) as error:
        raise ValueError(f"no token can be made of these claims: {error}") from None

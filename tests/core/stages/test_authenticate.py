"""Who is calling: every scheme, absent, wrong and right; RFC 6750, 7519, 7617, 8725, 9110 section 11."""

from __future__ import annotations

from typing import Any

import jwt
import pytest
from argon2 import PasswordHasher
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric import ec, rsa

from conftest import header, make_pipeline, replay, walk

SECRET = "made-up-secret-of-at-least-thirty-two-octets"
START = 1_924_992_000  # 2031-01-01T00:00:00Z
ROUTES = [
    {"id": "open", "at": "GET /open", "access": "everyone", "handler": {"echo": True}},
    {"id": "inside", "at": "GET /in", "access": "signed-in", "handler": {"echo": True}},
    {"id": "skippers", "at": "GET /skippers", "access": {"role": ["skipper", "master"]}, "handler": {"echo": True}},
    {"id": "writers", "at": "GET /writers", "access": {"scope": "write"}, "handler": {"echo": True}},
    {"id": "shut", "at": "GET /shut", "access": "nobody", "handler": {"echo": True}},
]
COMMON: dict[str, Any] = {
    "routes": ROUTES,
    "accounts": {
        "maren": {"password": "pass:with:colons", "roles": ["skipper"], "api-keys": ["k-maren"]},
        "odile": {
            "password": PasswordHasher(time_cost=1, memory_cost=8, parallelism=1).hash("hashed-one"),
            "scopes": ["write"],
        },
    },
    "signing-keys": {
        "main": {"algorithm": "HS256", "secret": SECRET},
        "other": {"algorithm": "HS256", "secret": SECRET + "-other"},
    },
}


def bearer(**more: Any) -> dict[str, Any]:
    return {"id": "who", "kind": "authenticate", "schemes": [{"scheme": "bearer", "keys": "main", **more}]}


def token(key: str = SECRET, algorithm: str = "HS256", **claims: Any) -> str:
    return jwt.encode({"sub": "maren", **claims}, key, algorithm=algorithm)


def sent(authorization: str | None, path: str = "/in", **more: Any) -> dict[str, Any]:
    return {"send": f"GET {path}", **({"headers": {"Authorization": authorization}} if authorization else {}), **more}


# name, scheme options, Authorization, status, why, part of WWW-Authenticate
BEARER = [
    ("absent: a challenge without error", {}, None, 401, "absent", "Bearer"),
    ("right", {}, f"Bearer {token()}", 200, None, None),
    ("the scheme has no case", {}, f"bEaReR {token()}", 200, None, None),
    ("bad signature", {}, f"Bearer {token(SECRET + '!')}", 401, "wrong", 'error="invalid_token"'),
    ("no token at all", {}, "Bearer rubbish", 401, "wrong", 'error="invalid_token"'),
    ("alg none", {}, "Bearer " + jwt.encode({"sub": "maren"}, None, algorithm="none"), 401, "wrong", "invalid_token"),
    ("another algorithm than the key's", {}, f"Bearer {token(algorithm='HS512')}", 401, "wrong", "invalid_token"),
    ("another scheme", {}, "Basic bWFyZW46eA==", 401, "absent", "Bearer"),
    ("now = exp", {}, f"Bearer {token(exp=START)}", 401, "expired", "invalid_token"),
    ("a microsecond before exp", {}, f"Bearer {token(exp=START + 0.000001)}", 200, None, None),
    ("expired within leeway", {"leeway": "10s"}, f"Bearer {token(exp=START - 9)}", 200, None, None),
    ("expired by leeway", {"leeway": "10s"}, f"Bearer {token(exp=START - 10)}", 401, "expired", None),
    ("nbf ahead", {}, f"Bearer {token(nbf=START + 1)}", 401, "not-yet-valid", None),
    ("nbf now", {}, f"Bearer {token(nbf=START)}", 200, None, None),
    ("nbf ahead within leeway", {"leeway": "5s"}, f"Bearer {token(nbf=START + 5)}", 200, None, None),
    ("aud array with ours", {"audience": "harbour"}, f"Bearer {token(aud=['x', 'harbour'])}", 200, None, None),
    ("exp null", {}, f"Bearer {token(exp=None)}", 401, "wrong", None),
    ("nbf null", {}, f"Bearer {token(nbf=None)}", 401, "wrong", None),
    ("aud of nobody", {}, f"Bearer {token(aud=[])}", 401, "wrong-audience", None),
    ("padded", {}, f"Bearer {token()}=", 401, "wrong", "invalid_token"),
    ("aud another", {"audience": "harbour"}, f"Bearer {token(aud='x')}", 401, "wrong-audience", None),
    ("aud missing", {"audience": "harbour"}, f"Bearer {token()}", 401, "wrong-audience", None),
    ("aud where we have none", {}, f"Bearer {token(aud='x')}", 401, "wrong-audience", None),
    ("issuer", {"issuer": "us"}, f"Bearer {token(iss='us')}", 200, None, None),
    ("issuer another", {"issuer": "us"}, f"Bearer {token(iss='them')}", 401, "wrong-issuer", None),
    ("no subject", {}, "Bearer " + jwt.encode({"x": 1}, SECRET), 401, "wrong", None),
    ("exp no number", {}, f"Bearer {token(exp='soon')}", 401, "wrong", None),
]  # fmt: skip


@pytest.mark.parametrize(
    ("name", "options", "value", "status", "why", "challenge"), BEARER, ids=[row[0] for row in BEARER]
)
def test_bearer(
    name: str, options: dict[str, Any], value: str | None, status: int, why: str | None, challenge: str | None
) -> None:
    record = walk([bearer(**options)], sent(value), **COMMON)
    assert (record["response"]["status"], record["why"]) == (status, why)
    assert record["handler_reached"] is (status == 200)
    assert record["identity"] == ("maren" if status == 200 else None)
    if challenge is not None:
        assert challenge in (header(record, "www-authenticate") or "")
    if why == "absent":
        assert "error" not in (header(record, "www-authenticate") or "")


def test_the_same_token_is_right_and_then_expired() -> None:
    service = make_pipeline([bearer()], **COMMON)
    value = f"Bearer {token(exp=START + 10)}"
    records = replay(service, sent(value, at="9999999us"), sent(value, at="10s"))
    assert [record["response"]["status"] for record in records] == [200, 401]


def test_a_minted_token_fits_what_the_pipeline_asks_for() -> None:
    records = replay(
        make_pipeline([bearer(issuer="us", audience="harbour")], **COMMON),
        {"send": "GET /in", "sign": {"bearer": "maren"}},
        {"send": "GET /in", "sign": {"bearer": "maren", "issuer": "them"}},
        {"send": "GET /in", "sign": {"bearer": "maren", "keys": "other"}},
        {"send": "GET /in", "sign": {"bearer": "maren", "valid-in": "1s"}},
        {"send": "GET /in", "sign": {"bearer": "maren", "expires-in": "0s"}},
    )
    assert [record["why"] for record in records] == [None, "wrong-issuer", "wrong", "not-yet-valid", "expired"]


@pytest.mark.parametrize("algorithm", ["RS256", "ES256"])
def test_key_pairs(algorithm: str) -> None:
    key = rsa.generate_private_key(65537, 2048) if algorithm == "RS256" else ec.generate_private_key(ec.SECP256R1())
    private = key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    ).decode()
    public = (
        key.public_key()
        .public_bytes(serialization.Encoding.PEM, serialization.PublicFormat.SubjectPublicKeyInfo)
        .decode()
    )
    common = {**COMMON, "signing-keys": {"main": {"algorithm": algorithm, "private": private}}}
    runs = [walk([bearer()], {"send": "GET /in", "sign": {"bearer": "maren"}}, **common) for _ in range(2)]
    assert [run["response"]["status"] for run in runs] == [200, 200]
    assert runs[0]["request"] == runs[1]["request"]  # minting is repeatable to the octet
    checking = {**COMMON, "signing-keys": {"main": {"algorithm": algorithm, "public": public}}}
    # RFC 8725 2.1: the public key must not serve as a secret.
    confused = jwt.utils.base64url_encode(b'{"alg":"HS256","typ":"JWT"}').decode()
    body = jwt.utils.base64url_encode(b'{"sub":"maren"}').decode()
    import hashlib
    import hmac

    mac = hmac.new(public.encode(), f"{confused}.{body}".encode(), hashlib.sha256).digest()
    forged = f"Bearer {confused}.{body}.{jwt.utils.base64url_encode(mac).decode()}"
    assert walk([bearer()], sent(forged), **checking)["why"] == "wrong"


KEY_ROWS = [
    ("header", "GET /in", {"X-Api-Key": "k-maren"}, 200, None),
    ("header", "GET /in", {"X-Api-Key": "nope"}, 401, "wrong"),
    ("header", "GET /in", {}, 401, "absent"),
    ("query", "GET /in?X-Api-Key=k-maren", {}, 200, None),
    ("query", "GET /in?X-Api-Key=nope", {}, 401, "wrong"),
    ("cookie", "GET /in", {"Cookie": "a=b; X-Api-Key=k-maren"}, 200, None),
    ("cookie", "GET /in", {"Cookie": "X-Api-Key=nope"}, 401, "wrong"),
]


@pytest.mark.parametrize(("where", "line", "headers", "status", "why"), KEY_ROWS)
def test_api_keys(where: str, line: str, headers: dict[str, str], status: int, why: str | None) -> None:
    stage = {"id": "who", "kind": "authenticate", "schemes": [{"scheme": "api-key", "in": where}]}
    record = walk(["read-cookies", stage], {"send": line, "headers": headers}, **COMMON)
    assert (record["response"]["status"], record["why"]) == (status, why)
    if status == 401:
        assert f'in="{where}"' in (header(record, "www-authenticate") or "")


BASIC_ROWS = [
    ("maren", "pass:with:colons", 200, None),
    ("maren", "pass", 401, "wrong"),
    ("odile", "hashed-one", 200, None),
    ("odile", "hashed-two", 401, "wrong"),
    ("nobody", "x", 401, "wrong"),
]


@pytest.mark.parametrize(("name", "password", "status", "why"), BASIC_ROWS)
def test_basic(name: str, password: str, status: int, why: str | None) -> None:
    from base64 import b64encode

    stage = {"id": "who", "kind": "authenticate", "schemes": [{"scheme": "basic"}]}
    value = "Basic " + b64encode(f"{name}:{password}".encode()).decode()
    record = walk([stage], sent(value), name="Tern", **COMMON)
    assert (record["response"]["status"], record["why"]) == (status, why)
    if status == 401:
        assert 'Basic realm="Tern"' in (header(record, "www-authenticate") or "")


def test_one_challenge_for_every_scheme() -> None:
    stage = {
        "id": "who",
        "kind": "authenticate",
        "realm": "R",
        "schemes": [{"scheme": "bearer", "keys": "main"}, {"scheme": "basic"}],
    }
    record = walk([stage], sent("Bearer nope"), **COMMON)
    fields = [value for name, value in record["response"]["headers"] if name == "WWW-Authenticate"]
    assert len(fields) == 2
    assert 'error="invalid_token"' in fields[0]
    assert "error" not in fields[1]


OWN = [
    ({"absent": {"status": 403, "message": "A key, please"}}, None, 403, "A key, please"),
    ({"absent": {"message": "A key, please"}}, None, 401, "A key, please"),
    ({"wrong": {"json": {"hint": "another key"}}}, "Bearer nope", 401, '{"hint": "another key"}'),
    ({"wrong": {"status": 404, "text": ""}}, "Bearer nope", 404, None),
]


@pytest.mark.parametrize(("options", "value", "status", "body"), OWN)
def test_own_answers(options: dict[str, Any], value: str | None, status: int, body: str | None) -> None:
    record = walk([bearer(**options)], sent(value), **COMMON)
    assert (record["response"]["status"], record["response"]["body"]) == (status, body)
    assert record["refused_by"] == "who"
    assert (header(record, "www-authenticate") is not None) is (status == 401)


WITHOUT = [
    ("by-access", "/open", 200), ("by-access", "/in", 401), ("by-access", "/nowhere", 401),
    ("refuse", "/open", 401), ("pass-on", "/in", 200), ("pass-on", "/nowhere", 404),
]  # fmt: skip


@pytest.mark.parametrize(
    ("mode", "path", "credential", "status"),
    [
        ("refuse", "/open", f"Bearer {token(exp=START)}", 401),
        ("by-access", "/open", f"Bearer {token(exp=START)}", 200),
        ("by-access", "/open", "Bearer nope", 200),
        ("by-access", "/in", f"Bearer {token(exp=START)}", 401),
        ("by-access", "/nowhere", "Bearer nope", 401),
        ("pass-on", "/in", "Bearer nope", 200),
    ],
)
def test_wrong_credential(mode: str, path: str, credential: str, status: int) -> None:
    record = walk([{**bearer(), "wrong-credential": mode}], sent(credential, path), **COMMON)
    assert (record["response"]["status"], record["identity"]) == (status, None)


@pytest.mark.parametrize(("mode", "path", "status"), WITHOUT)
def test_without_credential(mode: str, path: str, status: int) -> None:
    record = walk([{**bearer(), "without-credential": mode}], sent(None, path), **COMMON)
    assert record["response"]["status"] == status


def test_a_wrong_credential_is_refused_even_where_everyone_may() -> None:
    assert (
        walk([{**bearer(), "without-credential": "pass-on"}], sent("Bearer nope", "/open"), **COMMON)["why"] == "wrong"
    )


AUTHORIZE = [
    (None, "/in", 401, "absent"),
    ("maren", "/in", 200, None),
    ("maren", "/skippers", 200, None),
    ("odile", "/skippers", 403, "insufficient-role"),
    ("odile", "/writers", 200, None),
    ("maren", "/writers", 403, "insufficient-scope"),
    ("maren", "/shut", 403, "closed-to-all"),
    (None, "/open", 200, None),
]


@pytest.mark.parametrize(("account", "path", "status", "why"), AUTHORIZE)
def test_authorize(account: str | None, path: str, status: int, why: str | None) -> None:
    request = {"send": f"GET {path}", **({"sign": {"bearer": account}} if account else {})}
    stages = [{**bearer(), "without-credential": "pass-on"}, {"id": "may", "kind": "authorize"}]
    record = walk(stages, request, **COMMON)
    assert (record["response"]["status"], record["why"]) == (status, why)
    assert record["refused_by"] == ("may" if why else None)
    if why == "insufficient-scope":
        assert 'error="insufficient_scope", scope="write"' in (header(record, "www-authenticate") or "")


def test_the_log_says_what_is_wrong_with_a_credential_in_words() -> None:
    stages = [
        {"id": "net", "kind": "error-handler"},
        {"id": "who", "kind": "authenticate", "schemes": [{"scheme": "api-key"}]},
    ]
    record = walk(
        stages,
        {"send": "GET /", "headers": {"X-Api-Key": "nobodys"}},
        refuse="raise",
        accounts={"a": {"api-keys": "ka"}},
    )
    assert (record["why"], record["errors"][0]["message"]) == ("wrong", "no account has this key")

"""Signing keys, and the tokens made and checked with them (RFC 7515, RFC 7519, RFC 8725)."""

from __future__ import annotations

from functools import cache, lru_cache
from types import MappingProxyType
from typing import TYPE_CHECKING, Any, NamedTuple

from patient_usher.core.model.accounts import SigningKeySpec
from patient_usher.core.model.document import JsonMapping, JsonObject

if TYPE_CHECKING:
    from cryptography.hazmat.primitives.asymmetric.ec import EllipticCurvePrivateKey


class SigningKey(NamedTuple):
    """A key ready for use. ``sign`` is None where only a public key is known."""

    id: str
    algorithm: str
    sign: object
    verify: Any
    kid: str | None = None


def load_key(id_: str, spec: SigningKeySpec) -> SigningKey:
    """Make a key usable. Raises ValueError where the PEM text isn't a key for the algorithm."""
    if spec.algorithm == "HS256":
        secret = (spec.secret or "").encode()
        if secret.lstrip().startswith((b"-----BEGIN", b"ssh-")):
            raise ValueError("it is a key of a pair, no secret")
        return SigningKey(id_, spec.algorithm, secret, secret, spec.kid)
    from cryptography.exceptions import UnsupportedAlgorithm
    from cryptography.hazmat.primitives import serialization
    from cryptography.hazmat.primitives.asymmetric import ec, rsa

    try:
        private = serialization.load_pem_private_key(spec.private.encode(), None) if spec.private else None
        public = serialization.load_pem_public_key(spec.public.encode()) if spec.public else private.public_key()  # type: ignore[union-attr]
    except (TypeError, UnsupportedAlgorithm, UnicodeError):
        raise ValueError("it is encrypted, or of a sort that isn't known here") from None
    if spec.algorithm == "RS256":
        fits = isinstance(public, rsa.RSAPublicKey)
    else:
        fits = isinstance(public, ec.EllipticCurvePublicKey) and isinstance(public.curve, ec.SECP256R1)
    if not fits:
        raise ValueError(f"the key isn't one for {spec.algorithm}")
    return SigningKey(id_, spec.algorithm, private, public, spec.kid)


@cache
def _jwt() -> Any:
    """The library, imported when a token is first seen. Of short secrets the pipeline's own warnings tell."""
    import warnings

    import jwt

    if short := getattr(jwt, "InsecureKeyLengthWarning", None):
        warnings.filterwarnings("ignore", category=short)
    return jwt


def mint(key: SigningKey, claims: JsonMapping, header: JsonMapping = MappingProxyType({})) -> str:
    """A signed token with these claims and this header: the same of the same, to the octet. Raises ValueError."""
    try:
        return _minted(key, claims, header)
    except _jwt().PyJWTError as error:
        raise ValueError(str(error)) from None


def _minted(key: SigningKey, claims: JsonMapping, header: JsonMapping) -> str:
    jwt = _jwt()
    if header.get("alg") == "none":  # for trying out that nobody takes it (RFC 8725 3.1)
        unsigned: str = jwt.encode(dict(claims), None, algorithm="none", headers={**header})
        return unsigned
    header = {"typ": "JWT", **({"kid": key.kid} if key.kid is not None else {}), **header}
    from jwt.algorithms import ECAlgorithm

    if key.algorithm != "ES256":
        token: str = jwt.encode(dict(claims), key.sign, algorithm=key.algorithm, headers=header)
        return token

    class Repeatable(ECAlgorithm):
        """ES256 with RFC 6979 nonces, so that a replay can be repeated to the octet."""

        def sign(self, msg: bytes, key: EllipticCurvePrivateKey) -> bytes:
            from cryptography.hazmat.primitives import hashes
            from cryptography.hazmat.primitives.asymmetric import ec
            from jwt.utils import der_to_raw_signature

            der = key.sign(msg, ec.ECDSA(hashes.SHA256(), deterministic_signing=True))
            return der_to_raw_signature(der, key.curve)

    signer = jwt.PyJWS(algorithms=[])
    signer.register_algorithm("ES256", Repeatable(ECAlgorithm.SHA256))
    import json

    payload = json.dumps(dict(claims), separators=(",", ":")).encode()
    signed: str = signer.encode(payload, key.sign, algorithm="ES256", headers=header)
    return signed


class TokenReader:
    """Checks signatures, and remembers which it has checked: a signature does not age."""

    def __init__(self, keys: tuple[SigningKey, ...], typ: str | None = None) -> None:
        """``typ``: what tokens must say that they are (RFC 8725 3.11); whatever they say, where it is None."""
        self._keys, self._typ = keys, _media(typ)
        self.claims = lru_cache(maxsize=65_536)(self._claims)

    def _claims(self, token: str) -> JsonObject | str:
        """The claims of a token signed with one of the keys, or what is wrong with it.

        The key says which algorithm is allowed, never the token (RFC 8725 3.1). No time is
        looked at here.
        """
        jwt = _jwt()
        if "=" in token:
            return "its parts are padded, which base64url here never is"  # RFC 7515 2
        reason, header = "no key to check it with", self._header(token)
        if self._typ is not None and _media(header.get("typ")) != self._typ:
            return f"its typ is {header.get('typ')!r}"
        named = header.get("kid")
        for key in self._keys:
            if key.kid is not None and named is not None and named != key.kid:
                reason = f"it names the key {named!r}, which isn't known here"
                continue
            try:
                claims: JsonObject = jwt.decode(
                    token,
                    key.verify,
                    algorithms=[key.algorithm],
                    options={
                        "verify_exp": False,
                        "verify_nbf": False,
                        "verify_iat": False,
                        "verify_aud": False,
                        "verify_iss": False,
                        "verify_sub": False,
                        "verify_jti": False,
                    },
                )
            except jwt.InvalidSignatureError:
                reason = f"the signature doesn't match the key {key.id}"
            except jwt.InvalidAlgorithmError:
                reason = f"it isn't signed with {key.algorithm}, as the key {key.id} demands"
            except jwt.PyJWTError:
                reason = "it is no token that can be read"
            else:
                return claims
        return reason

    def _header(self, token: str) -> JsonObject:
        """Of a token that can't be read, nothing; the library says so again."""
        if self._typ is None and all(key.kid is None for key in self._keys):
            return {}
        try:
            header: JsonObject = _jwt().get_unverified_header(token)
        except _jwt().PyJWTError:
            return {}
        return header


def _media(typ: object) -> str | None:
    """A token's type as it is compared: no case, and application/ may be left out (RFC 7515 4.1.9)."""
    return typ.lower().removeprefix("application/") if isinstance(typ, str) else None


@lru_cache(maxsize=4096)
def password_fits(stored: str, given: str) -> bool:
    """Whether a password is the stored one: an argon2 hash, or plain and made up."""
    if not stored.startswith("$argon2"):
        return stored == given
    from argon2 import PasswordHasher
    from argon2.exceptions import InvalidHashError, VerificationError

    try:
        return PasswordHasher().verify(stored, given)
    except (VerificationError, InvalidHashError):
        return False

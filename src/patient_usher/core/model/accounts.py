"""Who can sign in, what tokens are signed with, and the pipeline's own error types."""

from typing import Annotated, ClassVar, Literal

from pydantic import AfterValidator, Field, model_validator

from patient_usher.core.model.document import JsonObject
from patient_usher.core.model.text_types import Model, Names, Status, no_items, wrong


def _check_message(text: str) -> str:
    if "${" in text:
        what = "the message of an error type is the same for every request, so nothing is filled in"
        raise wrong(what, "give it plain here, and one with ${...} in the answers of an error-handler")
    return text


class ErrorSpec(Model):
    """A declared error type."""

    sentences: ClassVar[dict[str, str]] = {
        "is-a": "The type that this one is a kind of.",
        "status": "The status that it is answered with.",
        "message": "The public message.",
    }

    is_a: str | None = None
    status: Status | None = None
    message: Annotated[str, AfterValidator(_check_message)] | None = None


class AccountSpec(Model):
    """Somebody who can sign in. Passwords are plain and made up, or argon2 hashes."""

    sentences: ClassVar[dict[str, str]] = {
        "password": "The password: made up, or an argon2 hash.",
        "api-keys": "Keys that stand for the account.",
        "roles": "The roles that it has.",
        "scopes": "The scopes that it has.",
        "facts": "Anything else that handlers may know, as identity.facts.NAME.",
    }

    password: str | None = None
    api_keys: Names = Field(default_factory=no_items)
    roles: Names = Field(default_factory=no_items)
    scopes: Names = Field(default_factory=no_items)
    facts: JsonObject = Field(default_factory=dict)


class SigningKeySpec(Model):
    """A key that tokens and cookies are signed with: a secret (HS256) or a PEM pair."""

    sentences: ClassVar[dict[str, str]] = {
        "kid": "The id that tokens name it by; tokens that name another aren't checked with it.",
        "algorithm": "The signature's algorithm (RFC 7518).",
        "secret": "The secret, for HS256.",
        "private": "The private key in PEM, for signing.",
        "public": "The public key in PEM, for checking.",
    }

    algorithm: Literal["HS256", "RS256", "ES256"]
    kid: str | None = None
    secret: str | None = None
    private: str | None = None
    public: str | None = None

    @model_validator(mode="after")
    def _fits(self) -> "SigningKeySpec":
        if self.algorithm == "HS256":
            if not self.secret or self.private or self.public:
                raise wrong("an HS256 key is a secret", "write secret: TEXT and neither private nor public")
        elif self.secret or not (self.private or self.public):
            raise wrong(
                f"an {self.algorithm} key is a PEM pair",
                "write private: (to sign and verify) or public: (to verify)",
            )
        return self

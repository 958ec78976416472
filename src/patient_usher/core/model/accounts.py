"""Who can sign in, what tokens are signed with, and the pipeline's own error types."""

from typing import Any, Literal

from pydantic import Field, model_validator

from patient_usher.core.model.text_types import Model, Names, Status, wrong


class ErrorSpec(Model):
    """A declared error type."""

    is_a: str | None = None
    status: Status | None = None
    message: str | None = None


class AccountSpec(Model):
    """Somebody who can sign in. Passwords are plain and made up, or argon2 hashes."""

    password: str | None = None
    api_keys: Names = Field(default_factory=list)
    roles: Names = Field(default_factory=list)
    scopes: Names = Field(default_factory=list)
    facts: dict[str, Any] = Field(default_factory=dict)


class SigningKeySpec(Model):
    """A key that tokens and cookies are signed with: a secret (HS256) or a PEM pair."""

    algorithm: Literal["HS256", "RS256", "ES256"]
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

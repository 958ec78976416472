"""Help on a word: a kind of stage, a finding, a key, or the trade's name of a kind."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from conftest import Outcome
from patient_usher.core.questions.check.rules import rules
from patient_usher.core.stages import kind, kinds
from patient_usher.output.topic import of_key, of_kind, topics

Usher = Callable[..., Outcome]


def text(lines: object) -> str:
    return "\n".join("".join(part if isinstance(part, str) else part[0] for part in each) for each in lines)  # type: ignore[attr-defined]


@pytest.mark.parametrize("name", kinds())
def test_every_kind_is_explained_with_all_its_options(name: str) -> None:
    said = text(of_kind(name))
    for key, field in kind(name).options.model_fields.items():
        assert (field.alias or key.replace("_", "-")) in said
    assert "For example" in said


def test_every_key_is_explained_where_it_may_stand() -> None:
    keys = topics()
    assert {"stages", "busy-for", "expect", "tally", "same-for"} <= keys.keys()
    for key, places in keys.items():
        said = text(of_key(key, places))
        assert all(place in said for place, _ in places)


@pytest.mark.parametrize(("word", "words"), [
    ("cors", "a kind of stage"), ("jwt", "is a stage of kind authenticate"), ("throttle", "is a stage of kind rate-limit"), ("stalls", "neither pass on nor answer"),
    ("busy-for", "How long the handler takes"), ("replay", "usage: usher replay"), (rules()[0].code, rules()[0].level),
])  # fmt: skip
def test_the_command_explains_a_word(usher: Usher, word: str, words: str) -> None:
    done = usher("help", word)
    assert (done.status, words in done.out) == (0, True), done.out + done.err


@pytest.mark.parametrize(
    ("word", "words"),
    [
        ("throtle", "did you mean 'throttle'?"),
        ("zzzz", "a kind of stage, a finding"),
        ("replai", "did you mean 'replay'?"),
    ],
)
def test_a_word_that_is_none_is_told(usher: Usher, word: str, words: str) -> None:
    done = usher("help", word)
    assert (done.status, words in done.err) == (2, True), done.err

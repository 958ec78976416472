"""Sites: what is read of the list of public suffixes says the same as all of it."""

from __future__ import annotations

from random import Random

import pytest
from publicsuffixlist import PublicSuffixList

from patient_usher.core.engine.callers import public_suffix
from patient_usher.core.engine.callers.public_suffix import registrable

WHOLE = PublicSuffixList()
RULES = sorted(WHOLE._publicsuffix)
TOPS = sorted({rule.rpartition(".")[2] for rule in RULES})


@pytest.mark.parametrize("top", ["jp", "uk", "ck", "io", "example", "xn--fiqs8s", "中国", *Random(8).sample(TOPS, 12)])
@pytest.mark.parametrize("few", [0, 8])
def test_a_part_of_the_list_says_what_the_whole_does(monkeypatch: pytest.MonkeyPatch, top: str, few: int) -> None:
    monkeypatch.setattr(public_suffix, "_rules", {})
    monkeypatch.setattr(public_suffix, "_FEW", few)
    rules = [rule for rule in RULES if rule.rpartition(".")[2] == top] or [top]
    for rule in [*rules[:40], f"Some.{top}"]:
        base = rule.lstrip("!").replace("*", "w")
        for host in (base, f"a.{base}", f"b.a.{base}", f"c.b.a.{base}"):
            if "." in host:
                assert registrable(host) == WHOLE.privatesuffix(host)

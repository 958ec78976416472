"""Help on a kind of stage, a finding, or a key of a file: ``usher help WORD``."""

from __future__ import annotations

import os
import sys

from patient_usher.cli.arguments import unusable
from patient_usher.core.model.document import did_you_mean
from patient_usher.core.questions.check.rules import rules
from patient_usher.core.stages import kind, kinds
from patient_usher.output.terminal import adjust, line, stdout_painter
from patient_usher.output.topic import of_key, of_kind, topics


def about(word: str, commands: list[str]) -> int:
    """Print what is known of a word. Raises Unusable for one that is none of these."""
    adjust(sys.stdout, os.environ)
    if word in kinds():
        stdout_painter().write(of_kind(word))
        return 0
    codes = [rule.code for rule in rules()]
    if word in codes:
        from patient_usher.cli.check import explain

        return explain(word)
    for name in kinds():
        if word.lower() in kind(name).options.trade_names:
            stdout_painter().write([line((f"{word} is a stage of kind {name}", "dim")), *of_kind(name)])
            return 0
    keys = topics()
    if word in keys:
        stdout_painter().write(of_key(word, keys[word]))
        return 0
    names = [other for name in kinds() for other in kind(name).options.trade_names]
    known = [*commands, *kinds(), *names, *codes, *keys]
    hint = did_you_mean(word, known)
    hint = hint if hint.startswith("did") else "write a command, a kind of stage, a finding or a key of a file"
    raise unusable(f"nothing is called '{word}'", hint)

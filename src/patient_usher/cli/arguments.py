"""Arguments that can't be used are told in one line, like everything else."""

from __future__ import annotations

import sys
from argparse import ArgumentParser
from typing import NoReturn

from patient_usher.core.model.document import Problem, Spot, Unusable, near
from patient_usher.reports.paint import shown


class Parser(ArgumentParser):
    """An argument parser that says what is wrong, and where to look."""

    def error(self, message: str) -> NoReturn:
        """Say it and end with exit status 2."""
        start = "unrecognized arguments: "
        if message.startswith(start):
            word = message.removeprefix(start).split(" ")[0]
            hint = near(word, self._option_string_actions) if word.startswith("-") else ""
            message = f"there is no option or argument '{word}' here" + (f"; {hint}" if hint.startswith("did") else "")
        print(shown(f"{self.prog}: {message}; {self.prog} --help says more"), file=sys.stderr)
        sys.exit(2)


def unusable(what: str, mend: str, where: str = "command line") -> Unusable:
    """What is wrong with the command line, or with a file that it names, and what would be right."""
    return Unusable([Problem(Spot(where, 1, 1), what, mend)])

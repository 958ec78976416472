"""Results that ``replay --format json`` has saved, read again."""

from __future__ import annotations

from pathlib import Path

import msgspec

from patient_usher.core.model.document import Problem, Spot, Unusable
from patient_usher.core.verify.record import Record, Result
from patient_usher.files.yaml_reader import read_text


def saved(path: Path) -> list[Record] | None:
    """The exchanges of a saved result, as ``saved_result`` reads it."""
    found = saved_result(path)
    return found.exchanges if found is not None else None


def saved_result(path: Path) -> Result | None:
    """A saved result; None where the file is none. Raises Unusable where it isn't whole."""
    text = read_text(path, str(path))
    if text.lstrip()[:1] != "{" or '"result/1"' not in text[:200]:
        return None
    try:
        return msgspec.json.decode(text.encode(errors="surrogatepass"), type=Result)
    except msgspec.MsgspecError as error:
        what = f"this result isn't whole: {str(error)[:1].lower()}{str(error)[1:]}"
        raise Unusable([Problem(Spot(str(path), 1, 1), what, "save what replay --format json prints")]) from None

"""The user's own classes and functions, where the command line allows them."""

from __future__ import annotations

import sys
from collections.abc import Callable
from importlib import import_module
from pathlib import Path
from traceback import extract_tb
from typing import Any


def python_from(folder: Path) -> Callable[[str], Any]:
    """A finder of ``module:Name``, modules beside the pipeline first.

    The finder raises ValueError with words for the user.
    """

    def load(call: str) -> Any:
        module, colon, name = call.partition(":")
        if not colon or not module or not name:
            raise ValueError(f"'{call}' names no code; write MODULE:NAME")
        place = str(folder.resolve())
        if place not in sys.path:
            sys.path.insert(0, place)
        try:
            found: Any = import_module(module)
            for part in name.split("."):
                found = getattr(found, part)
        except ModuleNotFoundError as error:
            if error.name != module.partition(".")[0] and error.name != module:
                raise ValueError(f"importing {module} failed: {error}; install what it needs") from None
            raise ValueError(f"there is no module {module} beside the pipeline; check its name") from None
        except AttributeError:
            raise ValueError(f"{module} has no {name}; check its name") from None
        except SyntaxError as error:
            raise ValueError(f"{module} can't be read: {error.filename}:{error.lineno}: {error.msg}; mend it") from None
        except Exception as error:
            frame = extract_tb(error.__traceback__)[-1]
            place = f"{frame.filename}:{frame.lineno}"
            raise ValueError(f"importing {module} failed: {type(error).__name__}: {error}, {place}; mend it") from None
        return found

    return load

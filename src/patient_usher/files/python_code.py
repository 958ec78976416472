"""The user's own classes and functions, where the command line allows them."""

from __future__ import annotations

import sys
from dataclasses import dataclass, field
from importlib import import_module, invalidate_caches
from pathlib import Path
from traceback import extract_tb
from types import ModuleType

from patient_usher.core.model.document import Json


@dataclass(frozen=True)
class PythonFrom:
    """A finder of ``module:Name``, in modules beside the pipeline first. It raises ValueError for the user.

    Each finder has modules of its own: two folders may have modules of the same name.
    """

    folder: Path
    _modules: dict[str, ModuleType] = field(default_factory=dict, compare=False, repr=False)

    def __reduce__(self) -> Json:
        return PythonFrom, (self.folder,)

    def __call__(self, call: str) -> Json:
        """The object that is called so."""
        module, colon, name = call.partition(":")
        if not colon or not module or not name:
            raise ValueError(f"'{call}' names no code; write MODULE:NAME")
        try:
            found: Json = self._module(module)
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

    def _module(self, name: str) -> ModuleType:
        """Import with this folder first, and leave no module of it to be found by another folder's pipeline."""
        place = str(self.folder.resolve())
        before = set(sys.modules)
        sys.modules.update(self._modules)
        sys.path.insert(0, place)
        invalidate_caches()
        try:
            return import_module(name)
        finally:
            sys.path.remove(place)
            for key in set(sys.modules) - before:
                origin = getattr(sys.modules[key], "__file__", None)
                if origin is not None and Path(origin).resolve().is_relative_to(place):
                    self._modules[key] = sys.modules.pop(key)

"""What only some commands take, and is installed apart: how to get it, said in a sentence."""

from __future__ import annotations

from importlib.metadata import PackageNotFoundError, version
from importlib.util import find_spec
from typing import NamedTuple

from patient_usher.core.model.document import unusable


class Extra(NamedTuple):
    """A package that is installed apart, and what takes it."""

    package: str
    does: str


EXTRAS = {
    "charts": Extra("matplotlib", "charts and pictures are drawn by Matplotlib"),
    "tables": Extra("pyarrow", "Parquet is written by pyarrow"),
    "cluster": Extra("distributed", "a cluster takes Dask"),
}
"""By the name that is asked for: ``pip install 'patient-usher[charts]'``."""


def needed(name: str, option: str = "") -> None:
    """Nothing, where it is installed. Raises Unusable otherwise."""
    package, does = EXTRAS[name]
    if find_spec(package) is None:
        what, mend = f"{does}, which isn't installed", f"pip install 'patient-usher[{name}]'"
        raise unusable(what, mend, *([option] if option else []))


def told() -> list[str]:
    """Each of them with its version, or that it isn't there."""
    return [f"{name}: {_version(package)}" for name, (package, _) in EXTRAS.items()]


def _version(package: str) -> str:
    try:
        return f"{package} {version(package)}"
    except PackageNotFoundError:
        return "not installed"

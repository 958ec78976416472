"""Files as trees: YAML's core schema, places, overlays, values, and writing without half-written files."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from patient_usher.core.model.document import (
    Problem,
    Spot,
    Unusable,
    copy_tree,
    did_you_mean,
    fill_from_environment,
    locate,
    merge,
)
from patient_usher.core.model.patterns import path_pattern
from patient_usher.core.model.text_types import parse_duration, parse_size
from patient_usher.core.model.values import at_path, fill, pointer
from patient_usher.core.verify.expectations import span
from patient_usher.files.atomic_write import write_whole
from patient_usher.files.yaml_reader import parse, parse_yaml, read_text, resolve

SCALARS: list[tuple[str, Any]] = [
    ("~", None),
    ("null", None),
    ("true", True),
    ("False", False),
    ("yes", "yes"),
    ("on", "on"),
    ("12", 12),
    ("-3", -3),
    ("+4", 4),
    ("0o17", 15),
    ("0xff", 255),
    ("010", 10),
    ("1.5", 1.5),
    ("1e3", 1000.0),
    (".5", 0.5),
    ("1_000", "1_000"),
    ("12:30", "12:30"),
    ("2031-05-01", "2031-05-01"),
    ("2031-05-01T08:00:00Z", "2031-05-01T08:00:00Z"),
    ("0b1", "0b1"),
    ("1.2.3", "1.2.3"),
    ("-", "-"),
    (".", "."),
    ("=", "="),
    ("<<", "<<"),
]


@pytest.mark.parametrize(("text", "value"), SCALARS)
def test_scalars_follow_the_core_schema(text: str, value: Any) -> None:
    assert resolve(text) == value
    assert type(resolve(text)) is type(value)


def test_both_parsers_read_the_same_tree() -> None:
    """The compiled parser refuses a question mark between braces; the careful one is asked then."""
    plain = 'a: {b: [1, "x", ~], c: "d: e"}\nf: |\n  two\n  lines\n'
    careful = plain + "g: {h: i?j}\n"
    one, other = parse_yaml(plain, "f"), parse_yaml(careful, "f")
    assert other.pop("g") == {"h": "i?j"}
    assert one == other == {"a": {"b": [1, "x", None], "c": "d: e"}, "f": "two\nlines\n"}
    assert locate(one, ["a", "b", 1]) == locate(other, ["a", "b", 1]) == Spot("f", 1, 12)


@pytest.mark.parametrize(
    ("path", "key", "spot"),
    [
        (["a"], False, (1, 4)),
        (["a"], True, (1, 1)),
        (["a", "b", 0], False, (1, 9)),
        (["c", 1, "d"], False, (4, 8)),
        (["c", 1, "d"], True, (4, 5)),
        (["c", 1, "none"], False, (4, 5)),
        (["c", 9], False, (3, 3)),
        ([], False, (1, 1)),
    ],
)
def test_places(path: list[str | int], key: bool, spot: tuple[int, int]) -> None:
    tree = parse_yaml("a: {b: [x, y]}\nc:\n  - p\n  - d: 7\n", "f")
    assert locate(tree, path, key=key)[1:] == spot


@given(
    st.recursive(
        st.none() | st.booleans() | st.integers() | st.text(max_size=4),
        lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text("ab", max_size=2), inner, max_size=3),
        max_leaves=12,
    )
)
def test_json_reads_the_same_with_and_without_places(value: Any) -> None:
    text = json.dumps({"it": value}, indent=1)
    assert parse(text, "f") == parse(text, "f", places=True) == {"it": value}


@pytest.mark.parametrize("places", [True, False])
def test_escapes_of_half_a_character(places: bool) -> None:
    assert parse('{"a": "\\ud83d\\ude80"}', "f", places=places) == {"a": "\U0001f680"}
    with pytest.raises(Unusable, match="f:1:7: half a character is escaped here"):
        parse('{"a": "\\ud83d"}', "f", places=places)


def test_an_alias_stands_for_what_it_names() -> None:
    assert parse_yaml("a: &x {b: 1}\nc: *x\nd: [*x, *x]\n", "f") == {
        "a": {"b": 1},
        "c": {"b": 1},
        "d": [{"b": 1}, {"b": 1}],
    }


def test_a_file_begins_with_a_mark_or_without(tmp_path: Path) -> None:
    path = tmp_path / "f.yaml"
    path.write_bytes(b"\xef\xbb\xbfa: 1\n")
    assert parse(read_text(path), "f") == {"a": 1}


def test_overlays_merge_mappings_and_replace_the_rest() -> None:
    base = parse_yaml("a: {b: 1, c: [1, 2]}\nd: x\n", "base")
    over = parse_yaml("a: {c: [3], e: {f: 1}}\nd: {g: 1}\n", "over")
    copy = copy_tree(base)
    merge(copy, over)
    assert copy == {"a": {"b": 1, "c": [3], "e": {"f": 1}}, "d": {"g": 1}}
    assert base == {"a": {"b": 1, "c": [1, 2]}, "d": "x"}
    assert (locate(copy, ["a", "b"]).file, locate(copy, ["a", "c"]).file) == ("base", "over")


@pytest.mark.parametrize(
    ("text", "value", "problem"),
    [
        ("${env:A}", "one", None),
        ("x ${env:A} ${env:B|two}", "x one two", None),
        ("${env:B|}", "", None),
        ("${env:B}", "", "the environment has no variable B"),
        ("${query.a}", "${query.a}", None),
    ],
)
def test_the_environment(text: str, value: str, problem: str | None) -> None:
    tree: Any = {"a": [text], "b": {"c": text}}
    problems = fill_from_environment(tree, {"A": "one"})
    assert tree == {"a": [value], "b": {"c": value}}
    assert [found.what for found in problems] == [problem] * (2 if problem else 0)


DURATIONS = [
    ("250ms", 250_000),
    ("5s", 5_000_000),
    ("1.5s", 1_500_000),
    ("15m", 900_000_000),
    ("2h", 7_200_000_000),
    ("30d", 2_592_000_000_000),
    ("7us", 7),
    ("2m30s", 150_000_000),
    ("1.5s1ms", 1_501_000),
    (0, 0),
]


@pytest.mark.parametrize(("text", "micros"), DURATIONS)
def test_durations(text: Any, micros: int) -> None:
    assert parse_duration(text) == micros
    assert parse_duration(span(micros)) == micros


@pytest.mark.parametrize("text", ["5", 5, True, "5 s", "-5s", "1.5us", "5S", "200000d", None, "", "s"])
def test_what_is_no_duration(text: Any) -> None:
    with pytest.raises(ValueError, match=r"duration|microsecond|hundred years"):
        parse_duration(text)


@pytest.mark.parametrize(
    ("text", "octets"), [(512, 512), ("512", 512), ("2KiB", 2048), ("5MiB", 5 << 20), ("1GiB", 1 << 30)]
)
def test_sizes(text: Any, octets: int) -> None:
    assert parse_size(text) == octets


@pytest.mark.parametrize(
    ("pattern", "path", "fits"),
    [
        ("/", "/", True),
        ("/**", "/", True),
        ("/**", "/a/b", True),
        ("/a/**/z", "/a/z", True),
        ("/a/**/z", "/a/b/c/z", True),
        ("/a/*", "/a/", False),
        ("/a/*", "/a/b", True),
        ("/a.b", "/aXb", False),
        ("/%61", "/a", True),
    ],
)
def test_path_patterns(pattern: str, path: str, fits: bool) -> None:
    assert path_pattern(pattern)(tuple(path[1:].split("/"))) is fits


TREE = {"a": {"b": [10, {"c": None}]}, "x/y": 1, "~": 2}


@pytest.mark.parametrize(("path", "value"), [("", TREE), ("/a/b/0", 10), ("/a/b/1/c", None), ("/x~1y", 1), ("/~0", 2)])
def test_pointers(path: str, value: Any) -> None:
    assert pointer(TREE, path) == value


@pytest.mark.parametrize("path", ["/none", "/a/b/2", "/a/b/x", "/a/b/0/c", "/a/b/-1"])
def test_pointers_to_nothing(path: str) -> None:
    with pytest.raises(LookupError):
        pointer(TREE, path)
    assert at_path(TREE, path) is None


def test_what_has_nothing_to_fill_is_prepared_once() -> None:
    value = {"a": ["x", 1], "b": {"c": None}}
    assert fill(value) == (False, value)
    assert fill("${query.a}")[0] is True


@pytest.mark.parametrize(
    ("word", "known", "hint"),
    [
        ("stats", ["status", "headers"], "did you mean 'status'?"),
        ("zzz", ["a", "b"], "known here: a, b"),
        ("zzz", [], ""),
    ],
)
def test_near_misses(word: str, known: list[str], hint: str) -> None:
    assert did_you_mean(word, known) == hint


def test_problems_are_sorted_and_told_once() -> None:
    late, early = Problem(Spot("f", 9, 1), "late", "mend it"), Problem(Spot("f", 2, 5), "early")
    assert str(Unusable([late, early, late])) == "f:2:5: early\nf:9:1: late; mend it"


def test_a_file_is_written_whole_or_not_at_all(tmp_path: Path) -> None:
    path = tmp_path / "f.yaml"
    path.write_text("old")
    path.chmod(0o640)
    write_whole(path, "new\n")
    assert (path.read_text(), path.stat().st_mode & 0o777) == ("new\n", 0o640)
    assert [item.name for item in tmp_path.iterdir()] == ["f.yaml"]
    with pytest.raises(Unusable, match="written"):
        write_whole(tmp_path / "none" / "f.yaml", "x")

"""What an OpenAPI description says: references resolved, schemas that stand by themselves, operations one by one."""

from __future__ import annotations

import re
from collections.abc import Iterator
from itertools import chain, count

from patient_usher.core.model.document import Json, JsonObject, Problem, Unusable, locate
from patient_usher.core.model.schemas import schema_problems
from patient_usher.core.model.text_types import show
from patient_usher.core.model.values import pointer

Document = JsonObject

_METHODS = ("get", "put", "post", "delete", "options", "head", "patch", "trace", "query")
_DEEPEST = 40
_IN_PLACE = 200
_LARGEST = 5_000
_LARGEST_OF_ALL = 500_000
"""How many values a schema may have in place, by itself, and all schemas of a description together."""
_MEND = "write it as the OpenAPI Specification says"
_BY_NAME = {"properties", "patternProperties", "$defs", "definitions", "dependentSchemas"}
_VALUES = {"enum", "const", "default", "example", "examples", "required", "pattern", "type"}
_ANNOTATIONS = {"$ref", "title", "summary", "description", "default", "example", "examples", "deprecated", "readOnly",
                "writeOnly", "nullable", "xml", "externalDocs", "discriminator"}  # fmt: skip
"""What beside a ``$ref`` changes nothing of what fits."""
_NO_SCHEMA = {"$schema", "nullable", "discriminator", "xml", "externalDocs", "deprecated", "readOnly", "writeOnly"}


class Description:
    """One description. ``open`` counts schemas that are larger than a pipeline can hold."""

    def __init__(self, doc: Document) -> None:
        self.doc = doc
        self.open = 0
        self._sound: set[str] = set()
        self._left = _LARGEST_OF_ALL
        self._reads_beside = not str(doc.get("openapi", "")).startswith("3.0") if isinstance(doc, dict) else False
        """Whether what stands beside a ``$ref`` counts: since OpenAPI 3.1."""

    def resolved(self, node: Json) -> Json:
        """A part with its ``$ref`` within the file resolved. Raises Unusable for any other."""
        seen = 0
        while isinstance(node, dict) and isinstance(node.get("$ref"), str):
            ref = node["$ref"]
            seen += 1
            try:
                if not ref.startswith("#") or seen > _DEEPEST:
                    raise LookupError(ref)
                node = pointer(self.doc, ref[1:])
            except LookupError:
                what = f"{ref} names nothing in this file" if seen <= _DEEPEST else f"{ref} leads round in a circle"
                mend = "put what it names into the file"
                raise Unusable([Problem(locate(node, ["$ref"]), what, mend)]) from None
        return node

    def part(self, node: Document, key: str) -> Document:
        """A mapping below a part, resolved; an empty one where there is none. Raises Unusable."""
        found = self.resolved(node.get(key))
        if not isinstance(found, dict | None):
            what = f"'{key}' must be a mapping, not {show(found)}"
            raise Unusable([Problem(locate(node, [key]), what, _MEND)])
        return found or {}

    def parts(self, node: Document, key: str) -> list[Document]:
        """A list of mappings below a part, each resolved. Raises Unusable."""
        found = node.get(key)
        each = [self.resolved(one) for one in found] if isinstance(found, list) else []
        if (found is not None and not isinstance(found, list)) or not all(isinstance(one, dict) for one in each):
            raise Unusable([Problem(locate(node, [key]), f"'{key}' must be a list of mappings", _MEND)])
        return each

    def schema(self, part: Document) -> Json:
        """The ``schema`` of a part, as one that stands by itself. Raises Unusable where it is no JSON Schema."""
        made = self._standing(part.get("schema", {}))
        if (key := repr(made)) not in self._sound:
            for _, what, mend in schema_problems(made):
                raise Unusable([Problem(locate(part, ["schema"]), what, mend)])
            self._sound.add(key)
        return made

    def _standing(self, node: Json) -> Json:
        """A schema with what it refers to written in its place, or below ``$defs``.

        What is small and doesn't lead back into itself stands in place. What is larger than a pipeline can hold
        becomes a schema that anything fits, and is counted.
        """
        room = _Room(_IN_PLACE)
        try:
            return self._plain(node, room, frozenset())
        except _Full:
            pass
        names: dict[str, str] = {}
        defs: Document = {}
        room = _Room(before := min(_LARGEST, self._left))
        try:
            made = self._plain(node, room, names)
            while len(defs) < len(names):
                ref = list(names)[len(defs)]
                defs[names[ref]] = self._plain(self.resolved({"$ref": ref}), room, names)
        except _Full:
            self.open += 1
            return {}
        self._left -= before - room.left
        return {**made, "$defs": defs} if isinstance(made, dict) else made

    def _plain(self, node: Json, room: _Room, refs: frozenset[str] | dict[str, str]) -> Json:
        """A schema in the words of JSON Schema 2020-12. Raises _Full.

        ``refs`` are those within which it stands, which are written in place; or their names below ``$defs``.
        """
        room.take()
        if not isinstance(node, dict):
            return node
        if isinstance(ref := node.get("$ref"), str):
            beside = {key: value for key, value in node.items() if key not in _ANNOTATIONS}
            if beside and self._reads_beside:
                both: list[Document] = [{"$ref": ref}, beside]
                return {"allOf": [self._plain(one, room, refs) for one in both]}
            if isinstance(refs, dict):
                if ref not in refs:
                    refs[ref] = _named(ref, refs)
                return {"$ref": f"#/$defs/{refs[ref]}"}
            if ref in refs:
                raise _Full
            return self._plain(self.resolved(node), room, refs | {ref})
        found: Document = {}
        for key, value in node.items():
            if key in _NO_SCHEMA:
                continue
            if key in _VALUES:
                found[key] = value
            elif key in _BY_NAME and isinstance(value, dict):
                found[key] = {str(name): self._plain(below, room, refs) for name, below in value.items()}
            elif isinstance(value, list):
                found[key] = [self._plain(below, room, refs) for below in value]
            else:
                found[key] = self._plain(value, room, refs)
        if node.get("nullable") is True and isinstance(found.get("type"), str):  # OpenAPI 3.0
            found["type"] = [found["type"], "null"]
            if isinstance(found.get("enum"), list) and None not in found["enum"]:
                found["enum"] = [*found["enum"], None]
        for key, bound in (("exclusiveMinimum", "minimum"), ("exclusiveMaximum", "maximum")):
            if found.get(key) is True and bound in found:
                found[key] = found.pop(bound)
            elif isinstance(found.get(key), bool):
                del found[key]
        if isinstance(found.get("required"), list) and isinstance(node.get("properties"), dict):
            said = [name for name in found["required"] if not self._is_read_only(node["properties"].get(name))]
            found = {**found, "required": said} if said else {key: found[key] for key in found if key != "required"}
        return found

    def _is_read_only(self, node: Json) -> bool:
        """Whether a member is only in answers: that it is required says nothing of requests then (Schema Object)."""
        whole = self.resolved(node)
        return any(isinstance(one, dict) and one.get("readOnly") is True for one in (node, whole))

    @property
    def schemes(self) -> Document:
        """The security schemes by name."""
        named = self.part(self.part(self.doc, "components"), "securitySchemes")
        return {name: self.part(named, name) for name in named}

    def operations(self) -> Iterator[tuple[str, str, Document, list[Json]]]:
        """Every path, method and operation, with its parameters."""
        paths = self.part(self.doc, "paths")
        for path in paths:
            if not path.startswith("/"):  # an extension
                continue
            item = self.part(paths, path)
            further = self.part(item, "additionalOperations")  # OpenAPI 3.2
            for method in (*_METHODS, *further):
                if method in item or method in further:
                    operation = self.part(further if method in further else item, method)
                    both = (*self.parts(item, "parameters"), *self.parts(operation, "parameters"))
                    named = {(one.get("name"), one.get("in")): one for one in both}
                    yield path, method, operation, list(named.values())


class _Full(Exception):
    """A schema is larger than there is room for, or leads back into itself."""


class _Room:
    """How many values a schema may still have."""

    def __init__(self, left: int) -> None:
        self.left = left

    def take(self) -> None:
        self.left -= 1
        if self.left < 0:
            raise _Full


def _named(ref: str, taken: dict[str, str]) -> str:
    """A name of its own below ``$defs`` for what a reference leads to."""
    stem = re.sub(r"[^A-Za-z0-9_.-]+", "-", ref.rpartition("/")[2]).strip("-") or "part"
    return next(name for name in chain([stem], (f"{stem}-{n}" for n in count(2))) if name not in taken.values())

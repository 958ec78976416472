"""What requests to a pipeline can be made of: what its stages, routes and accounts say of themselves."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from functools import cached_property
from typing import Any
from urllib.parse import urlencode

from patient_usher.core.decisions.scenario import UNKNOWN, WRONG, Credential, Scenario
from patient_usher.core.decisions.schema_samples import MADE_UP, Request, broken, misfit, path_of, sample
from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.engine.plan.data_availability import handler_reads
from patient_usher.core.engine.plan.route_table import PlacedRoute
from patient_usher.core.model.accounts import AccountSpec
from patient_usher.core.model.document import Json, JsonObject
from patient_usher.core.model.exchange import Identity
from patient_usher.core.model.handler_specs import DeskSpec
from patient_usher.core.model.matcher import When
from patient_usher.core.model.templates import Access
from patient_usher.core.model.values import placeholders
from patient_usher.core.model.values import plain as plain_text

STRANGER = "https://strangers.example"
PAGE = "https://pages.example"
"""The origin of a page where the file lists none."""
MISHAP = "Mishap"
"""An error type that nothing declares."""
LARGEST = 1 << 16
"""A body over a limit is only made where the limit isn't over this."""
LONGEST_BURST = 500
MOST_INVENTED = 6
_SMALL = 24
"""Up to so many routes everything is tried at each."""
_PICKS, _MATCHED, _PAIRED = 4, 12, 5
"""How many of what a matcher lists are tried; how much that matchers look for, by itself; and in pairs."""
HOST = "service.example"


def password_of(name: str) -> str:
    """What stands for an account's password in a request: no trace that is written from here holds one."""
    return f"${{accounts.{name}.password}}"


class RequestFactory:
    """What requests to a pipeline can be made of."""

    def __init__(self, compiled: CompiledPipeline) -> None:
        self.compiled = compiled
        self.spec = compiled.spec
        self.remembered: dict[str, list[Any]] = {}
        """What others have found out, by what it is of."""

    # One request to a route.

    def plain(self, item: PlacedRoute, **more: Any) -> Request:
        """A request that the route can be content with: path, query and body as it asks for them."""
        query = _given({**self._query(item), **more.pop("query", {})})
        target = more.pop("path", None) or path_of(item.route.template, self._path_values(item))
        scheme, method = more.pop("scheme", None), more.pop("method", item.route.method)
        target = target if scheme is None else f"{scheme}://{HOST}{target}"
        request: Request = {"send": f"{method} {target}{'?' + urlencode(query) if query else ''}"}
        headers = _given({**self._headers(item), **more.pop("headers", {})})
        cookies = _given(more.pop("cookies", {}))
        if cookies:
            headers["Cookie"] = "; ".join(f"{name}={one}" for name, one in cookies.items())
        if headers:
            request["headers"] = headers
        if not {"json", "form", "text"} & more.keys():
            request.update(self.body(item))
        for key in ("json", "form"):
            if isinstance(more.get(key), dict) and isinstance(own := self.body(item).get(key), dict):
                more[key] = _laid_over(own, more[key])
        return {**request, **more}

    def _path_values(self, item: PlacedRoute) -> dict[str, str]:
        schema = item.spec.input.path if item.spec.input is not None else None
        fitting = sample({**schema, "type": "object", "required": list(schema.get("properties", {}))}) if schema else {}
        values = {name: str(value) for name, value in fitting.items() if str(value)}
        handler = item.spec.handler
        records = self.spec.records.get(handler.records or "")
        if records is None or not records.rows or not item.route.names:
            return values
        return {**values, item.route.names[-1]: str(records.rows[0].get(records.key, "1"))}

    def _query(self, item: PlacedRoute) -> dict[str, str]:
        schema = item.spec.input.query if item.spec.input is not None else None
        found = sample({**schema, "type": "object"}) if schema else {}
        return {name: str(value) for name, value in found.items()} if isinstance(found, dict) else {}

    def _headers(self, item: PlacedRoute) -> dict[str, str]:
        schema = item.spec.input.headers if item.spec.input is not None else None
        found = sample({**schema, "type": "object"}) if schema else {}
        return {name: str(value) for name, value in found.items()} if isinstance(found, dict) else {}

    def misfits(self, item: PlacedRoute) -> Iterator[Request]:
        """Parts of requests that the route's schemas refuse, one for each keyword; of the path one in all."""
        asked = item.spec.input
        if asked is None:
            return
        for place, key in (("query", "query"), ("headers", "headers"), ("json", "json"), ("form", "form")):
            for members in broken(asked.schemas().get(place)):
                plain = {name: value if value is None else plain_text(value) for name, value in members.items()}
                yield {key: members if place == "json" else plain}
        schema = asked.path
        properties = schema.get("properties") if schema is not None else None
        for name, one in properties.items() if isinstance(properties, dict) else ():
            if (text := misfit(one, schema)) is not None:
                yield {"path": path_of(item.route.template, {**self._path_values(item), name: text})}
                return

    def body(self, item: PlacedRoute) -> Request:
        """A body as the route asks for it, as a key of a request."""
        if item.desk == "sign-in":
            return {"json": self._signs_in(item)}
        if item.desk == "sign-up":
            return {"json": {"name": "newcomer", "password": "a-made-up-password"}}
        if item.route.method not in ("POST", "PUT", "PATCH"):
            return {}
        asked = item.spec.input
        if asked is not None and asked.json_ is not None:
            return {"json": sample(asked.json_)}
        if asked is not None and asked.form is not None:
            return {"form": sample({**asked.form, "type": "object"})}
        names = [name.partition(".")[2] for name in names_in(item.spec.handler) if name.startswith("body.")]
        records = self.spec.records.get(item.spec.handler.records or "")
        names += list(records.unique) if records is not None else []
        return {"json": {name.partition(".")[0]: MADE_UP for name in names} or {"note": MADE_UP}}

    def is_read(self, item: PlacedRoute) -> bool:
        """Whether the route asks for a body, or its handler uses one."""
        asked = item.spec.input
        return (asked is not None and bool(asked.json_ or asked.form)) or "body" in handler_reads(item)

    def _signs_in(self, item: PlacedRoute) -> dict[str, str]:
        for name, account in self.spec.accounts.items():
            if account.password is not None and not account.password.startswith("$argon2"):
                return {"name": name, "password": password_of(name)}
        return {"name": "nobody", "password": MADE_UP}

    # Callers.

    @cached_property
    def right(self) -> list[Credential]:
        """A right credential of each account that differs in what it may; two at least, where there are two."""
        found: list[Credential] = []
        seen: set[object] = set()
        for name, account in self.spec.accounts.items():
            held = (tuple(account.roles), tuple(account.scopes))
            if held in seen and len(found) > 1:
                continue
            seen.add(held)
            found += [one for place in self._placed_credentials if (one := self.right_by(place, name)) is not None][:1]
        return [*found[:6], *self._invented]

    @cached_property
    def people(self) -> dict[str, AccountSpec]:
        """The accounts, and those that are invented."""
        return {**self.spec.accounts, **self._made_up}

    @cached_property
    def _made_up(self) -> dict[str, AccountSpec]:
        """A caller with each role and scope that a route asks for and no account has; and one who has none at all."""
        held = [{*account.roles, *account.scopes} for account in self.spec.accounts.values()]
        asked = [
            (item.route.access.who, name)
            for item in self.compiled.placed
            if item.route.access is not None and item.route.access.who in ("role", "scope")
            for name in item.route.access.names
        ]
        found: dict[str, AccountSpec] = {}

        def invent(name: str, **rights: object) -> None:
            key = {"password": f"made-up-for-{name}", "api-keys": [f"made-up-key-for-{name}"]}
            found[name] = AccountSpec.model_validate({**key, **rights})

        for who, name in dict.fromkeys(asked):
            if not any(name in rights for rights in held):
                invent(f"someone-with-{re.sub(r'[^A-Za-z0-9-]+', '-', name)}", **{f"{who}s": [name]})
        if any(all(name in rights for rights in held) for _, name in asked):
            invent("someone-without-rights")
        return dict(list(found.items())[:MOST_INVENTED])

    @cached_property
    def _invented(self) -> list[Credential]:
        """Their credentials, each with the change that makes the account."""
        found = []
        for name, account in self._made_up.items():
            rights = {"roles": [*account.roles], "scopes": [*account.scopes]}
            known = {"password": account.password, "api-keys": [*account.api_keys], **rights}
            change: Request = {"change": {"accounts": {name: {key: part for key, part in known.items() if part}}}}
            ways = (self.right_by(place, name) for place in self._placed_credentials)
            found += [one._replace(first=(change, *one.first)) for one in ways if one is not None][:1]
        return found

    @cached_property
    def _placed_credentials(self) -> list[Json]:
        return [
            asked for options in self.compiled.options.values() if options.enabled for asked in options.credentials()
        ]

    def right_by(self, asked: Any, name: str) -> Credential | None:
        """A right credential of an account by one scheme, where it has one."""
        account = self.people[name]
        plain = account.password is not None and not account.password.startswith("$argon2")
        if asked.scheme == "bearer" and self.compiled.credential_defaults.bearer.keys:
            return Credential("right", name, {"sign": {"bearer": name}})
        if asked.scheme == "basic" and plain:
            return Credential("right", name, {"sign": {"basic": name}})
        if asked.scheme == "api-key" and account.api_keys:
            return Credential("right", name, {"sign": {"api-key": name}})
        if asked.scheme == "session-cookie" and plain:
            desks = (item for item in self.compiled.placed if item.desk == "sign-in" and gives_cookie(item))
            desk = next(desks, None)
            if desk is not None:
                keeper = f"{name}-at-the-desk"
                body = {"name": name, "password": password_of(name)}
                first = {"send": f"POST {path_of(desk.route.template, {})}", "caller": keeper, "json": body}
                callers = {keeper: {"cookies": "keep"}}
                return Credential("right", name, {"caller": keeper}, (first,), callers)
        return None

    @cached_property
    def other(self) -> list[Credential]:
        """By every scheme: right by any account, wrong, expired and not valid yet."""
        found: list[Credential] = []
        accounts = self.spec.accounts
        for asked in self._placed_credentials:
            found += [right for name in list(accounts)[:4] if (right := self.right_by(asked, name)) is not None]
            if asked.scheme == "bearer":
                wrong: Request = {"headers": {"Authorization": "Bearer made-up.and.wrong"}}
                if self.compiled.credential_defaults.bearer.keys and accounts:
                    name = next(iter(accounts))
                    found.append(Credential("expired", None, {"sign": {"bearer": name, "expires-in": "0s"}}))
                    found.append(Credential("early", None, {"sign": {"bearer": name, "valid-in": "1h"}}))
            elif asked.scheme == "basic":
                wrong = {"headers": {"Authorization": "Basic bm9ib2R5Ondyb25n"}}
            else:
                where, field = asked.place
                if where == "header":
                    wrong = {"headers": {field: "a-made-up-key-of-nobody"}}
                elif where == "query":
                    wrong = {"query": {field: "a-made-up-key-of-nobody"}}
                else:
                    wrong = {"headers": {"Cookie": f"{field}=made-up"}}
            found.append(Credential("wrong", None, wrong))
        return found

    @cached_property
    def callers(self) -> list[Credential]:
        """Nobody known, then everybody who may make a difference, then credentials that don't count."""
        return [Credential("absent", None, {}), *self.right, *(one for one in self.other if one.sort != "right")]

    def may(self, item: PlacedRoute) -> Credential:
        """A caller whom the route is meant for; nobody known where it is for everyone."""
        access = item.route.access
        if access is not None and access.who in ("role", "scope"):
            for credential in self.right:
                account = self.people[credential.account or ""]
                held = account.roles if access.who == "role" else account.scopes
                if {*held} & {*access.names}:
                    return credential
        if access is not None and access.who == "everyone" and item.desk is None:
            return self.callers[0]
        if item.desk is not None and item.desk != "sign-out":
            return self.callers[0]
        return self.right[0] if self.right else self.callers[0]

    def is_for(self, access: Access | None, by: str | None, identity: Identity | None = None) -> bool:
        """Whether what has this access is for an account, or for nobody known with None; ``identity``: as who it was
        taken.
        """
        if access is not None and access.who == "everyone":
            return by not in (UNKNOWN, WRONG)
        account = self.people.get(by or "")
        if by == WRONG or (access is not None and access.who == "nobody"):
            return False
        known = [one for one in (account, identity) if one is not None]
        if access is None or access.who == "signed-in":
            return bool(known)
        return any({*one.roles, *one.scopes} & {*access.names} for one in known)

    @cached_property
    def desks(self) -> dict[str, DeskSpec]:
        """The desks, by their group's id."""
        groups = (group for item in self.compiled.placed for group in item.groups)
        return {group.id: group.desk for group in groups if group.desk is not None}

    def scenario(self, sort: str, item: PlacedRoute, credential: Credential, **more: object) -> Scenario:
        """One request to the route by this caller, what must come before it included."""
        requests = (*credential.first, self.request(item, credential, **more))
        return Scenario(sort, requests, credential.callers, credential.by)

    def request(self, item: PlacedRoute, credential: Credential, **more: Any) -> Request:
        """One request to the route by this caller."""
        parts = dict(credential.parts)
        for key in ("headers", "query"):
            if key in parts or key in more:
                more[key] = {**parts.pop(key, {}), **more.get(key, {})}
        return self.plain(item, **{key: value for key, value in more.items() if value}, **parts)

    # Origins.

    @cached_property
    def origins(self) -> list[str]:
        """Origins that some stage lists, as pages have them: at most three."""
        listed = [
            origin.replace("*.", "www.")
            for options in self.compiled.options.values()
            if options.enabled
            for origin in options.pages_from()
        ]
        found = dict.fromkeys("https://boaters.example" if origin == "*" else origin for origin in listed)
        return [origin for origin in found if origin != "null"][:3]

    @cached_property
    def pages(self) -> dict[str, dict[str, str]]:
        """Browsers with a page of each origin."""
        return {f"page-{at}": {"kind": "browser", "origin": origin} for at, origin in enumerate(self.origins, 1)}

    def by_page(
        self, sort: str, item: PlacedRoute, credential: Credential, page: str = "page-1", **more: object
    ) -> Scenario:
        """The call that a page makes; a browser keeps cookies by itself."""
        first = tuple({**request, "caller": page, "credentials": "include"} for request in credential.first)
        parts = {key: value for key, value in credential.parts.items() if key != "caller"}
        told = {"credentials": "include"} if first else {}
        request = self.request(item, credential._replace(parts=parts), caller=page, **told, **more)
        if "json" not in more and not self.is_read(item):
            request.pop("json", None)  # no page sends what nobody reads
        return Scenario(sort, (*first, request), self.pages, credential.by)

    # Whole sets.

    def order(self, item: PlacedRoute | None) -> list[str]:
        """What is on a route's way and switched on, in running order."""
        options = self.compiled.options
        return [id_ for id_ in self.compiled.order(item) if id_ not in options or options[id_].enabled]

    def unlike(self, items: Iterable[PlacedRoute]) -> list[PlacedRoute]:
        """Of routes that the same stages stand before, for the same callers and with the same method, the first."""
        found: dict[object, PlacedRoute] = {}
        for item in items:
            method = "GET" if item.route.method == "HEAD" else item.route.method
            found.setdefault((tuple(self.order(item)), method, item.route.access, item.desk), item)
        return list(found.values())

    @cached_property
    def typical(self) -> list[PlacedRoute]:
        """Routes that stand for all: every one of a small pipeline; of a large one, one of each sort.

        Routes are of a sort where the same stages stand before them, for the same callers, with the same settings, and
        their handlers read the same.
        """
        placed = self.compiled.placed
        if len(placed) <= _SMALL:
            return list(placed)
        found: dict[object, PlacedRoute] = {}
        for item in placed:
            spec, reads = item.spec, tuple(sorted(handler_reads(item)))
            own = (repr(spec.cache), repr(spec.cost), repr(spec.input), spec.body_limit, repr(spec.clears))
            key = (tuple(self.order(item)), item.route.method, item.route.access, item.desk, own, reads)
            found.setdefault(key, item)
        return list(found.values())


def _given(values: JsonObject) -> JsonObject:
    """What isn't left out."""
    return {name: value for name, value in values.items() if value is not None}


def _laid_over(own: JsonObject, given: JsonObject) -> JsonObject:
    """A body with other members; what is given as null is left out."""
    found = dict(own)
    for name, value in given.items():
        before = found.get(name)
        if value is None:
            found.pop(name, None)
        else:
            found[name] = _laid_over(before, value) if isinstance(before, dict) and isinstance(value, dict) else value
    return found


def names_in(part: Json) -> Iterator[str]:
    """The names of placeholders anywhere in a part of the pipeline, and of what its matchers read."""
    from patient_usher.core.model.reads import nodes
    from patient_usher.core.model.text_types import Model

    for _, node in nodes(part, ()):
        if isinstance(node, When):
            yield from (f"header.{name}" for name in node.header)
            yield from (f"query.{name}" for name in node.query)
        elif not isinstance(node, Model):
            yield from placeholders(node)


def gives_cookie(item: PlacedRoute) -> bool:
    """Whether the route belongs to a desk that gives cookies."""
    desk = item.groups[-1].desk if item.groups else None
    return desk is not None and "cookie" in desk.gives

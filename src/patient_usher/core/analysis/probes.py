"""Requests that make happen what a trace has not: tried one by one, kept only where they do what they claim."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from itertools import islice
from typing import Any

from patient_usher.core.engine.blueprint import Blueprint
from patient_usher.core.engine.placing import PlacedRoute
from patient_usher.core.engine.prepare import prepare, read_spec
from patient_usher.core.engine.replay import Replay, Send
from patient_usher.core.engine.world import World
from patient_usher.core.model.document import Unusable
from patient_usher.core.verify.coverage import Coverage, Outcome

Request = dict[str, Any]
MOST = 2_000
"""How many requests are tried."""


def probes(blueprint: Blueprint, missing: Sequence[Outcome], base: str) -> list[tuple[Request, list[Outcome]]]:
    """Requests that close gaps, each with the gaps that it was seen to close in a world of its own."""
    open_ = list(dict.fromkeys(missing))
    found: list[tuple[Request, list[Outcome]]] = []
    for request in islice(_candidates(blueprint), MOST):
        if not open_:
            break
        coverage = Coverage(blueprint)
        for send in _sent(blueprint, request, base):
            coverage.add(send)
        closed = [outcome for outcome in open_ if coverage.hits[outcome]]
        if closed:
            _, id_, name = closed[0]
            words = re.sub(r"[^A-Za-z0-9]+", "-", f"{id_}-{name}").strip("-")
            found.append(({"id": f"cover-{len(found) + 1}-{words}"[:60], **request}, closed))
            open_ = [outcome for outcome in open_ if outcome not in closed]
    return found


def _no_file(name: str) -> bytes:
    raise OSError(f"{name} isn't wanted here")


def _sent(blueprint: Blueprint, request: Request, base: str) -> list[Send]:
    doc = {"patient-usher": "trace/1", "base": base, "requests": [{"id": "probe", **request}]}
    try:
        prepared = prepare(read_spec(doc), doc, "probe", blueprint, _no_file, [])
        return list(Replay(World(blueprint), prepared.starts, prepared.entries).run())
    except Unusable:
        return []


def _candidates(blueprint: Blueprint) -> Iterator[Request]:
    """From plain to odd: every route with every sort of credential, then with other bodies, origins and schemes."""
    credentials = list(_credentials(blueprint))
    for item in blueprint.placed:
        plain = _plain(item)
        for credential in credentials:
            yield {**plain, **credential}
        if item.route.method in ("GET", "HEAD"):
            for credential in credentials:
                yield {**plain, **credential, "times": 2}
        else:
            for credential in credentials:
                yield {**plain, **credential, **_headed(credential, {"Content-Type": "application/json"}), "text": "{"}
                yield {**plain, **credential, "json": {}}
        for headers in _headers(blueprint):
            yield {**plain, **(credentials[1] if len(credentials) > 1 else {}), "headers": headers}
        method, _, target = plain["send"].partition(" ")
        origins = [headers["Origin"] for headers in _headers(blueprint) if "Origin" in headers]
        for origin in origins:
            yield {"send": f"OPTIONS {target}", "headers": {"Origin": origin, "Access-Control-Request-Method": method}}
        yield {"send": f"{method} http://service.example{target}"}
    limits = [limit.quota for options in blueprint.options.values() if (limit := options.limit()) is not None]
    for item in blueprint.placed:
        for quota in {quota for quota in limits if quota < 500}:
            for credential in credentials:
                yield {**_plain(item), **credential, "times": quota + 1, "every": "1ms"}


def _plain(item: PlacedRoute) -> Request:
    parts = [text if sort == "literal" else "1" for sort, text in item.route.template.segments]
    return {"send": f"{item.route.method} /{'/'.join(parts)}"}


def _headed(request: Request, headers: dict[str, str]) -> Request:
    return {"headers": {**request.get("headers", {}), **headers}}


def _credentials(blueprint: Blueprint) -> Iterator[Request]:
    """None, then by every scheme: the accounts', an expired one, a wrong one."""
    yield {}
    accounts = blueprint.spec.accounts
    for options in blueprint.options.values():
        for credential in options.credentials():
            if credential.scheme == "bearer":
                for name in accounts:
                    yield {"sign": {"bearer": name}}
                for name in list(accounts)[:1]:
                    yield {"sign": {"bearer": name, "expires-in": "0s"}}
                yield {"headers": {"Authorization": "Bearer made-up.and.wrong"}}
            elif credential.scheme == "basic":
                for name, account in accounts.items():
                    if account.password is not None and not account.password.startswith("$argon2"):
                        yield {"sign": {"basic": name}}
                yield {"headers": {"Authorization": "Basic bm9ib2R5Ondyb25n"}}
            elif credential.scheme == "api-key" and credential.place is not None:
                for name, account in accounts.items():
                    if account.api_keys:
                        yield {"sign": {"api-key": name}}
                where, field = credential.place
                if where == "header":
                    yield {"headers": {field: "a-made-up-key-of-nobody"}}
            elif credential.scheme == "session-cookie" and credential.place is not None:
                yield {"headers": {"Cookie": f"{credential.place[1]}=made-up"}}


def _headers(blueprint: Blueprint) -> list[dict[str, str]]:
    """Header fields that stages may go by: origins listed and foreign, codings, conditions."""
    found = [{"Accept-Encoding": "gzip"}, {"If-None-Match": "*"}, {"If-Match": '"none"'}]
    origins = [origin for options in blueprint.options.values() for origin in getattr(options, "allow_origins", ())]
    listed = [origin.replace("*.", "www.") for origin in origins if origin != "*"]
    return [*found, *({"Origin": origin} for origin in dict.fromkeys([*listed[:2], "https://strangers.example"]))]

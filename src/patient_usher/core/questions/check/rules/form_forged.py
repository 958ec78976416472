"""``form-forged``: a page of strangers can act in the name of whoever is signed in."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.decisions.request_factory import STRANGER
from patient_usher.core.decisions.scenario import Scenario
from patient_usher.core.decisions.schema_samples import path_of
from patient_usher.core.model.document import Path
from patient_usher.core.questions.check.mends import Document, mend, put
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion, shows


def look(context: Context) -> Iterator[Suspicion]:
    """Desks whose cookie goes along wherever a request comes from."""
    for item in context.compiled.placed:
        if item.desk != "sign-in":
            continue
        desk = item.groups[-1].desk
        if desk is None or "cookie" not in desk.gives or desk.same_site != "None":
            continue
        group = item.groups[-1].id
        path = _place(context.doc, group)
        yield Suspicion(
            None,
            item.route.id,
            (*path, "desk", "same-site"),
            f"the cookie {desk.cookie} goes along with forms that pages of other sites send",
            (mend("write same-site: Lax", put((*path, "desk", "same-site"), "Lax")),),
            shows(
                lambda x: x.sent.method != "GET" and x.identity is not None and x.handler_reached,
                lambda x: not x.handler_reached,
            ),
            tuple(_forged(context, path_of(item.route.template, {}), context.words.body(item))),
        )


def _forged(context: Context, desk: str, body: dict[str, object]) -> Iterator[Scenario]:
    """Somebody signs in at the service's own page; then a page of strangers sends a form."""
    callers = {"maren": {"kind": "browser", "origin": context.trials.base}}
    sign_in = {"send": f"POST {desk}", "caller": "maren", **body}
    for item in context.compiled.placed:
        access = item.route.access
        if item.route.method == "POST" and item.desk is None and access is not None and access.who != "everyone":
            form = {
                "send": f"POST {path_of(item.route.template, {})}",
                "caller": "maren",
                "mode": "navigate",
                "origin": STRANGER,
                "form": {"made": "up"},
            }
            yield Scenario("forged", (sign_in, form), callers)


def _place(doc: Document, group: str, path: Path = ()) -> Path:
    for at, node in enumerate(doc.get("groups") or ()):
        here = (*path, "groups", at)
        if node.get("id") == group:
            return here
        if found := _place(node, group, here):
            return found
    return ()


RULE = Rule(
    code="form-forged",
    level="error",
    says="a page of strangers can act in the name of whoever is signed in",
    matters="The browser adds the session's cookie by itself, so a form on any page is as good as the caller's own.",
    mend="Write same-site: Lax (or Strict) for the desk's cookie.",
    example="""
patient-usher: pipeline/1
stages:
  - read-body
  - read-cookies
  - {id: who, kind: authenticate, schemes: [{scheme: session-cookie, cookie: deck}]}
groups:
  - id: deck
    desk: {at: /session, gives: cookie, cookie: deck, same-site: None}
    routes:
      - {id: cast-off, at: POST /cast-off, access: signed-in, handler: {answer: {text: cast off}}}
accounts: {maren: {password: not-a-real-password}}
""",
    look=look,
)

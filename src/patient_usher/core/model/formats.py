"""Formats of JSON Schema (2020-12, Validation 7.3): what texts of each look like, by the standard that each names.

A format that isn't listed here says nothing of a value, as the standard has it. Not checked are ``iri``,
``iri-reference`` and ``idn-hostname``: these would take tables of Unicode that nothing else here needs.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from datetime import date
from functools import cache
from ipaddress import IPv4Address, IPv6Address, ip_address

from patient_usher.core.model.regex import searcher

_DATE = re.compile(r"(\d{4})-(\d\d)-(\d\d)", re.ASCII)
_TIME = re.compile(r"(\d\d):(\d\d):(\d\d)(?:\.\d+)?(?:[zZ]|([+-])(\d\d):(\d\d))", re.ASCII)
_LABEL = re.compile(r"(?!-)[A-Za-z0-9-]{1,63}(?<!-)", re.ASCII)
_ATOM = r"[\w!#$%&'*+/=?^`{|}~-]+"
_LOCAL = re.compile(rf'{_ATOM}(?:\.{_ATOM})*|"(?:[^"\\\r\n]|\\[ -~])*"', re.ASCII)
_INTERNATIONAL = re.compile(rf'{_ATOM}(?:\.{_ATOM})*|"(?:[^"\\\r\n]|\\[ -~])*"')
_UUID = re.compile(r"[0-9A-Fa-f]{8}(?:-[0-9A-Fa-f]{4}){3}-[0-9A-Fa-f]{12}")
_DAYS, _CLOCK = r"(?:\d+D|\d+M(?:\d+D)?|\d+Y(?:\d+M(?:\d+D)?)?)", r"T(?:\d+H(?:\d+M(?:\d+S)?)?|\d+M(?:\d+S)?|\d+S)"
_DURATION = re.compile(rf"P(?:\d+W|{_DAYS}(?:{_CLOCK})?|{_CLOCK})", re.ASCII)
_POINTER = r"(?:/(?:[^~/]|~[01])*)*"
_PCHAR = r"(?:[A-Za-z0-9._~!$&'()*+,;=:@-]|%[0-9A-Fa-f]{2})"
_HOST = r"(?:\[(?P<literal>[^\]\[]*)\]|(?:[A-Za-z0-9._~!$&'()*+,;=-]|%[0-9A-Fa-f]{2})*)"
_USER = r"(?:(?:[A-Za-z0-9._~!$&'()*+,;=:-]|%[0-9A-Fa-f]{2})*@)?"
_AUTHORITY = rf"//{_USER}{_HOST}(?::\d*)?(?:/{_PCHAR}*)*"
_TAIL = rf"(?:\?(?:{_PCHAR}|[/?])*)?(?:\#(?:{_PCHAR}|[/?])*)?"
_ROOTED = rf"/(?:{_PCHAR}+(?:/{_PCHAR}*)*)?"
_URI = re.compile(rf"[A-Za-z][A-Za-z0-9+.-]*:(?:{_AUTHORITY}|{_ROOTED}|{_PCHAR}+(?:/{_PCHAR}*)*|){_TAIL}", re.ASCII)
_NO_COLON = _PCHAR.replace(":@-", "@-")
_RELATIVE = re.compile(rf"(?:{_AUTHORITY}|{_ROOTED}|{_NO_COLON}+(?:/{_PCHAR}*)*|){_TAIL}", re.ASCII)
_NAME = r"(?:[A-Za-z0-9_]|%[0-9A-Fa-f]{2})+(?:\.(?:[A-Za-z0-9_]|%[0-9A-Fa-f]{2})+)*(?::[1-9]\d{0,3}|\*)?"
_TEMPLATE = re.compile(
    rf"(?:[^\x00-\x20\"'<>\\^`{{|}}%\x7f]|%[0-9A-Fa-f]{{2}}|\{{[+#./;?&=,!@|]?{_NAME}(?:,{_NAME})*\}})*", re.ASCII
)


def _is_date(text: str) -> bool:
    match = _DATE.fullmatch(text)
    try:
        return match is not None and bool(date(*map(int, match.groups())))
    except ValueError:
        return False


def _is_time(text: str) -> bool:
    """RFC 3339 5.6, leap seconds where there can be one: at the end of a day of UTC (5.7)."""
    match = _TIME.fullmatch(text)
    if match is None:
        return False
    hour, minute, second = (int(part) for part in match.groups()[:3])
    ahead = int(match[5] or 0), int(match[6] or 0)
    if hour > 23 or minute > 59 or second > 60 or ahead[0] > 23 or ahead[1] > 59:
        return False
    offset = (60 * ahead[0] + ahead[1]) * (-1 if match[4] == "-" else 1)
    return second < 60 or (60 * hour + minute - offset) % 1440 == 1439


def _is_date_time(text: str) -> bool:
    return text[10:11] in ("T", "t") and _is_date(text[:10]) and _is_time(text[11:])


def _is_host(text: str) -> bool:
    """RFC 1123 2.1: letters, digits and hyphens; of names in Punycode, that they can be (RFC 5891)."""
    if not text or len(text) > 253:
        return False
    for label in text.split("."):
        if not _LABEL.fullmatch(label) or (label[2:4] == "--" and not _is_punycode(label)):
            return False
    return True


def _is_punycode(label: str) -> bool:
    import idna

    try:
        idna.ulabel(label.lower())
    except (idna.IDNAError, UnicodeError, IndexError):
        return False
    return label[:2].lower() == "xn"


def _is_address(text: str, sort: type) -> bool:
    try:
        return isinstance(ip_address(text), sort) and "%" not in text
    except ValueError:
        return False


def _is_mail(text: str, local: re.Pattern[str], host: Callable[[str], bool]) -> bool:
    """RFC 5321 4.1.2: a mailbox."""
    name, at, place = text.rpartition("@")
    if not at or not local.fullmatch(name) or len(name) > 64:
        return False
    if place.startswith("[") and place.endswith("]"):
        inner = place[1:-1]
        return _is_address(inner, IPv4Address) or (inner[:5].lower() == "ipv6:" and _is_address(inner[5:], IPv6Address))
    return host(place)


def _is_uri(text: str, *forms: re.Pattern[str]) -> bool:
    """RFC 3986 appendix A; what stands in brackets is an address (3.2.2)."""
    match = next((found for form in forms if (found := form.fullmatch(text)) is not None), None)
    if match is None:
        return False
    literal = match["literal"]
    return literal is None or _is_address(literal, IPv6Address) or bool(re.fullmatch(r"v[0-9A-Fa-f]+\..+", literal))


def _is_pattern(text: str) -> bool:
    try:
        searcher(text)
    except ValueError:
        return False
    return True


CHECKS: dict[str, Callable[[str], bool]] = {
    "date": _is_date,
    "time": _is_time,
    "date-time": _is_date_time,
    "duration": lambda text: _DURATION.fullmatch(text) is not None,
    "email": lambda text: _is_mail(text, _LOCAL, _is_host),
    "idn-email": lambda text: _is_mail(text, _INTERNATIONAL, bool),
    "hostname": _is_host,
    "ipv4": lambda text: _is_address(text, IPv4Address),
    "ipv6": lambda text: _is_address(text, IPv6Address),
    "uri": lambda text: _is_uri(text, _URI),
    "uri-reference": lambda text: _is_uri(text, _URI, _RELATIVE),
    "uri-template": lambda text: _TEMPLATE.fullmatch(text) is not None,
    "uuid": lambda text: _UUID.fullmatch(text) is not None,
    "json-pointer": lambda text: re.fullmatch(_POINTER, text) is not None,
    "relative-json-pointer": lambda text: re.fullmatch(rf"(?:0|[1-9][0-9]*)(?:#|{_POINTER})", text) is not None,
    "regex": _is_pattern,
}
"""By the format's name, whether a text is one."""
UNCHECKED = ("iri", "iri-reference", "idn-hostname")
"""Formats of the standard that say nothing here."""


@cache
def format_checker() -> object:
    """What the validator asks of formats."""
    from jsonschema import FormatChecker

    made = FormatChecker(formats=())
    for name, fits in CHECKS.items():
        made.checkers[name] = _of_texts(fits), ()
    return made


def _of_texts(fits: Callable[[str], bool]) -> Callable[[object], bool]:
    """What says nothing of values that are no text (7.1)."""
    return lambda value: not isinstance(value, str) or fits(value)

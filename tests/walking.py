"""What a page offers: its links, forms, buttons and sounds, as requests that can be made; what is added to a page is walked by itself."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from urllib.parse import parse_qsl, urlsplit

from lxml import etree, html

OWN = "ancestor-or-self::form[1]"


@dataclass(frozen=True)
class Offer:
    """A request that a page offers: what it is called (with N for numbers), and all that is sent."""

    name: str
    method: str
    address: str
    fields: dict[str, str] = field(default_factory=dict, hash=False)


def offers(text: str, page: str) -> Iterator[Offer]:
    """Everything that a page, or a part of the page at `page`, offers."""
    root = html.fromstring(f"<div>{text}</div>")
    state = _fields(found[0]) if (found := root.xpath("//form[@id='state']")) else {}
    for element in root.iter(etree.Element):
        yield from (o for o in _of(element, page, state) if not o.address.startswith(("/static", "/code")))


def _of(element: html.HtmlElement, page: str, state: dict[str, str]) -> Iterator[Offer]:
    asked = dict(element.attrib)
    form = next(iter(element.xpath(OWN)), None)
    fields = state | (_fields(form) if form is not None else {}) | _json(asked.get("hx-vals"))
    for method in ("get", "post", "delete"):
        if address := asked.get(f"hx-{method}"):
            yield _offer(method.upper(), address, fields)
    if told := _json(asked.get("data-do")):
        yield Offer(str(told.get("kind")), "POST", f"{page}/edits", state | texts(told))
    if element.tag == "form" and (kind := asked.get("data-edit")):
        yield Offer(kind, "POST", f"{page}/edits", fields | {"kind": kind})
    if element.tag == "form" and asked.get("method", "").lower() == "post":
        yield _offer("POST", asked.get("action") or page, fields)
    if chosen := asked.get("data-select"):
        yield _offer("GET", f"{page}/{'show' if page.count('/') > 2 else 'inspector'}", {"select": chosen})
    for name, address in asked.items():
        if (name in ("href", "src") or name.startswith("data-")) and address.startswith("/"):
            yield _offer("POST" if name == "data-like" else "GET", address, {})


def _offer(method: str, address: str, fields: dict[str, str]) -> Offer:
    parts = urlsplit(address)
    name = re.sub(r"\d+", "N", f"{method} {parts.path}")
    return Offer(name, method, parts.path, fields | dict(parse_qsl(parts.query)))


def _json(text: str | None) -> dict[str, str]:
    found = json.loads(text) if text and text.startswith("{") else {}
    return texts(found)


def texts(found: dict[str, object]) -> dict[str, str]:
    """As a form sends it: texts as they are, what is composed as JSON."""
    return {k: v if isinstance(v, str) else json.dumps(v) for k, v in found.items()}


def _fields(form: html.HtmlElement) -> dict[str, str]:
    return {k: str(v) for k, v in form.form_values() if k != "csrf_token"}

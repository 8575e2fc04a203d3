"""Who may ask: only pages of this program, under the addresses it is served on.

A website somewhere else can make a browser send requests here, or lead a name of its own to this machine. The name in
`Host` and what browsers say of themselves (`Origin`, `Sec-Fetch-Site`) tell those from the program's own pages.
"""

from __future__ import annotations

from ipaddress import ip_address
from urllib.parse import urlsplit

from flask import Flask, Response, request

from escalera.errors import Refused
from escalera.settings import Settings

POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self'; style-src-attr 'unsafe-inline'; img-src 'self' data:; "
    "font-src 'self'; connect-src 'self'; media-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"
)
HEADERS = {
    "Content-Security-Policy": POLICY,
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "same-origin",
    "Cross-Origin-Opener-Policy": "same-origin",
    "Cross-Origin-Resource-Policy": "same-origin",
    "Permissions-Policy": "microphone=(self), midi=(self), camera=(), geolocation=(), display-capture=(), usb=()",
}
LOCAL = frozenset({"localhost", "127.0.0.1", "::1"})
EVERYWHERE = ("0.0.0.0", "::", "*")
OWN = ("same-origin", "none")  # from a page of this program, or typed by the user
SAFE = ("GET", "HEAD", "OPTIONS")
# pages that a link on another site may lead to; everything else is asked for by them
LANDINGS = frozenset(
    {
        *("shelf.index", "shelf.new", "shelf.bin_page", "stair.page", "harmony.page", "groove.page", "bench.page"),
        *(
            "joins.page",
            "samples.page",
            "song_samples.page",
            "voices.page",
            "ideas.lot",
            "files.bring_in",
            "files.handover",
            "gate.door",
            "dev.components",
        ),
    }
)


def guard(app: Flask, settings: Settings) -> None:
    """Let an application answer only its own pages, and say so in the headers of every answer."""
    names = LOCAL | {n.strip().lower() for n in settings.names.split(",") if n.strip()}
    anywhere = settings.host in EVERYWHERE
    if not anywhere:
        names |= {settings.host.lower()}

    def check() -> None:
        host = _name(request.host)
        if host not in names and not (anywhere and _is_address(host)):
            raise Refused(
                f"Escalera is not served under the name “{host[:80]}”. Open it at the address it was started with, "
                f"or set ESCALERA_NAMES to the names it may be called by."
            )
        _check_origin()

    app.before_request(check)
    app.after_request(_finish)


def _check_origin() -> None:
    """What changes something comes from a page of this program; what costs work is not asked for by other sites."""
    site = request.headers.get("Sec-Fetch-Site", "")
    origin = request.headers.get("Origin", "")
    if request.method not in SAFE:
        foreign = (site and site not in OWN) or (origin and urlsplit(origin).netloc != request.host)
    else:
        landing = request.headers.get("Sec-Fetch-Mode") == "navigate" and request.endpoint in LANDINGS
        foreign = bool(site) and site not in OWN and not landing
    if foreign:
        raise Refused("This was asked for by a page of another site, and was not done. Use Escalera's own pages.")


def _name(host: str) -> str:
    """The name of a Host header, without its port; empty for what is none."""
    try:
        return (urlsplit(f"//{host}").hostname or "").rstrip(".").lower()
    except ValueError:
        return ""


def _is_address(name: str) -> bool:
    try:
        ip_address(name)
    except ValueError:
        return False
    return True


def _finish(response: Response) -> Response:
    for name, value in HEADERS.items():
        response.headers.setdefault(name, value)
    if request.endpoint in ("static", "code.script"):
        response.headers["Cache-Control"] = "private, max-age=31536000"
    else:
        response.headers.setdefault("Cache-Control", "no-store")
    return response

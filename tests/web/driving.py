"""What tests of the pages share: opening a song, waiting for what an edit leads to, reading answers, accessibility."""

from __future__ import annotations

import time
from pathlib import Path

from lxml import html


def open_song(page, server, title):
    page.goto("/")
    page.get_by_role("link", name=title).click()
    page.wait_for_selector("#stair")
    page.wait_for_function("() => window.escalera")  # the scripts listen
    return int(page.url.rsplit("/", 1)[1])


def settled(page, studio, song_id, revision):
    """Wait until the page shows a state newer than `revision`; returns it."""
    page.wait_for_function("old => Number(document.querySelector('#state [name=base]').value) !== old", arg=revision)
    return studio.head(song_id)


def until(true, seconds=30):
    """Wait until something kept by the server is so."""
    end = time.monotonic() + seconds
    while not true():
        assert time.monotonic() < end, "it never came"
        time.sleep(0.05)


def shown(page, studio, song_id):
    page.wait_for_function(
        "r => document.querySelector('#state [name=base]').value === r", arg=str(studio.head(song_id).revision_id)
    )


def trouble_of(page, within=None):
    """What axe finds in a page, or in a part of it, against WCAG A and AA, good practice, and names that say something else than what is seen.

    Small targets are let be where larger ones beside them do the same (`data-equivalent`), as WCAG does.
    """
    page.evaluate(next(Path("tests/vendor").glob("axe-*.min.js")).read_text())
    return page.evaluate(
        "async (within) => (await axe.run(within ?? document, "
        "{ resultTypes: ['violations'], preload: false, runOnly: ['wcag2a', 'wcag2aa', 'wcag22aa', 'best-practice'], rules: {'label-content-name-mismatch': {enabled: true}, 'region': {enabled: false}} })).violations.map(v => ({...v, nodes: v.nodes.filter(n => v.id !== 'target-size' || "
        "!document.querySelector(n.target)?.closest('[data-equivalent]'))})).filter(v => v.nodes.length).map(v => v.id + ': ' + "
        "v.nodes.slice(0, 3).map(n => n.target + ' ' + (n.any[0]?.message ?? '')).join(' | "
        "'))",
        within,
    )


def tree(response):
    return html.fromstring(response.get_data(as_text=True))


def said(response):
    return " ".join(" ".join(tree(response).itertext()).split())

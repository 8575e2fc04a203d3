"""The browser that drives the interface, without a window."""

from __future__ import annotations

import os
import shutil
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from playwright.sync_api import Browser, Playwright

# the shell without windows does the same at half the processor time
NAMES = ("chromium-headless-shell", "chromium", "chromium-browser")
FLAGS = (
    "--no-sandbox", "--disable-gpu", "--disable-background-networking", "--disable-component-update", "--disable-sync", "--no-first-run",
)  # fmt: skip


def chromium_path() -> str | None:
    """Where the browser lies: CHROMIUM, or the first of NAMES that is installed."""
    return os.environ.get("CHROMIUM") or next((found for name in NAMES if (found := shutil.which(name))), None)


def chromium(driver: Playwright) -> Browser:
    """The browser, started. Raises RuntimeError where there is none."""
    path = chromium_path()
    if path is None:
        raise RuntimeError("Chromium is missing: install the package 'chromium' or set CHROMIUM to its path.")
    return driver.chromium.launch(executable_path=path, args=list(FLAGS))

from __future__ import annotations

import shutil
import threading

import pytest
from hypothesis import settings

from escalera.services import song_index
from escalera.services.demo import demo_songs
from escalera.services.reading_worker import LimitedReader
from escalera.services.studio import Studio
from escalera.sound import bank_player as sound_bank
from escalera.store.database import Database
from tests.chromium import chromium
from tests.songs import small_song

settings.register_profile("steady", deadline=None, derandomize=True, max_examples=20)
settings.load_profile("steady")


# whatever is installed on this machine, tests play the palette; those about the bank open one themselves
sound_bank._bank[:] = [None]


# Files that take a minute or more come first, so that no worker is left with one of them while the other is done.
LONG = (
    "test_browser", "test_performance", "test_accessible_pages", "test_accessible", "test_groove", "test_samples_page", "test_judged_energy",
    "test_judging", "test_voices_page", "test_takes", "test_checks", "test_edits", "test_layout_page", "test_harmony", "test_bench", "test_jobs", "test_layouts",
)  # fmt: skip


def pytest_collection_modifyitems(items):
    items.sort(key=lambda item: LONG.index(item.path.stem) if item.path.stem in LONG else len(LONG))


@pytest.fixture(scope="session")
def demos():
    return demo_songs()


@pytest.fixture(scope="session", autouse=True)
def without_waiting_for_the_disk():
    """Tests write to a folder that is thrown away: nothing waits until it is on the disk. What a killed process wrote is there all the same."""
    prepare = Database._prepare

    def prepared(self, connection, record):
        prepare(self, connection, record)
        if not self.read_only:
            connection.execute("PRAGMA synchronous=OFF")

    Database._prepare = prepared
    yield
    Database._prepare = prepare


@pytest.fixture(scope="session", autouse=True)
def however_long_it_takes():
    """Lists of songs wait until what changed is read, however busy the machine is; those about less time set it."""
    song_index.AT_ONCE_S = 600.0


@pytest.fixture(scope="session", autouse=True)
def readers_go_on():
    """A reader of recordings takes seconds to start: one that is closed serves the next test, unless it fell."""
    waiting, running = [], LimitedReader._running

    def taken(self):
        if self._process is None and waiting:
            self._process = waiting.pop()
        return running(self)

    def closed(self):
        with self._lock:
            if self._process is not None:
                waiting.append(self._process)
                self._process = None

    with pytest.MonkeyPatch.context() as patched:
        patched.setattr(LimitedReader, "_running", taken)
        patched.setattr(LimitedReader, "close", closed)
        yield
    for process in waiting:
        reader = LimitedReader()
        reader._process = process
        reader.close()


@pytest.fixture(scope="session")
def empty_database(tmp_path_factory):
    """A database with every migration made, to be copied."""
    folder = tmp_path_factory.mktemp("empty")
    Studio(folder, max_pages=0, cache_mb=10).close()
    return folder / "escalera.db"


@pytest.fixture
def studio(tmp_path, empty_database):
    shutil.copy(empty_database, tmp_path / "escalera.db")
    opened = Studio(tmp_path, max_pages=0, cache_mb=200)
    yield opened
    opened.close()


@pytest.fixture
def song():
    return small_song()


@pytest.fixture
def client(studio):
    from escalera.web import create_app

    app = create_app(studio, testing=True)
    app.config["WTF_CSRF_ENABLED"] = False
    return app.test_client()


@pytest.fixture(scope="module")
def server(tmp_path_factory):
    """The real program on a free port, with both demo songs; yields (address, studio)."""
    from waitress.server import create_server

    from escalera.cli.program_commands import serving
    from escalera.services.demo import seed_demo
    from escalera.web import create_app

    opened = Studio(tmp_path_factory.mktemp("data"), max_pages=0, cache_mb=400)
    seed_demo(opened)
    opened.begin_work()
    running = create_server(create_app(opened), host="127.0.0.1", port=0, **serving(24))
    stopping = threading.Event()

    def serve():
        try:
            running.run()
        except OSError:  # the loop may be asking its sockets at the very moment they are closed
            if not stopping.is_set():
                raise

    thread = threading.Thread(target=serve, daemon=True)
    thread.start()
    yield f"http://127.0.0.1:{running.effective_port}", opened
    stopping.set()
    running.close()
    thread.join(5)
    opened.close()


@pytest.fixture(scope="module")
def browser():
    from playwright.sync_api import sync_playwright

    with sync_playwright() as driver:
        opened = chromium(driver)
        yield opened
        opened.close()


@pytest.fixture
def page(browser, server):
    """A page at 1280x800 that fails the test on any script error."""
    context = browser.new_context(viewport={"width": 1280, "height": 800}, base_url=server[0])
    opened, errors = context.new_page(), []
    opened.on("pageerror", lambda error: errors.append(str(error)))
    # refusals are meant; so is calling a measurement back, which htmx tells as two lines about the element that asked
    meant = ("422", "409", "htmx:sendAbort", "htmx:afterRequest, [object HTMLSpanElement]")
    opened.on(
        "console",
        lambda m: errors.append(m.text) if m.type == "error" and not any(t in m.text for t in meant) else None,
    )
    opened.set_default_timeout(30_000)
    yield opened
    opened.unroute_all(behavior="ignoreErrors")  # an answer still on its way has nobody to go to
    context.close()
    assert not errors, errors

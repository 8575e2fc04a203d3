"""Pages and fragments, read as a parser reads them."""

import gc
import io
import json
import re
import time
import zipfile
from dataclasses import replace
from importlib.util import module_from_spec, spec_from_file_location
from pathlib import Path

import pytest
from babel.messages.catalog import Catalog
from babel.messages.mofile import write_mo
from lxml import html

from escalera.core.document.song import Song
from escalera.core.edits import EDITS
from escalera.formats.midi_write import write_midi
from escalera.services.demo_shelf import begin_demo
from escalera.services.job_kinds import MORE_DEMO
from escalera.store import job_store
from escalera.store.repository import CACHED_DOCUMENTS
from escalera.web import create_app
from escalera.web.terms import TERMS
from escalera.web.texts import FOLDER, install_texts
from tests.songs import ids, small_song
from tests.web.driving import said

NAME = ids(small_song())


@pytest.fixture
def song_id(studio):
    return studio.add_song(small_song(), "New")


def tree(response):
    return html.fromstring(response.get_data(as_text=True))


def post(client, studio, song_id, **fields):
    base = fields.pop("base", studio.head(song_id).revision_id)
    return client.post(f"/songs/{song_id}/edits", data={"base": base, **fields}, headers={"HX-Request": "true"})


def test_the_shelf_is_at_the_root_and_says_what_to_do_when_empty(client, studio):
    assert client.get("/").status_code == 200
    assert "The shelf is empty" in tree(client.get("/")).text_content()
    studio.add_song(small_song(), "New")
    assert tree(client.get("/")).xpath("//ul[@class='shelf']//h2/a/text()") == ["Small"]


def test_the_shelf_shows_demo_songs_as_they_are_made(client, studio):
    assert begin_demo(studio, with_year=False) == 2 and begin_demo(studio, with_year=False) == 0
    pending = tree(client.get("/")).xpath("//p[@role='status'][contains(., 'More demo songs')]/@hx-get")
    assert pending == ["/shelf/songs?count=2"] and client.get(pending[0]).status_code == 204
    studio.add_song(small_song(), "New")
    assert "More demo songs" in client.get(pending[0]).text and "Small" in client.get(pending[0]).text
    studio.jobs.stop(studio.at_work(MORE_DEMO).id)
    assert "More demo songs" not in client.get("/shelf/songs?count=3").text
    studio.jobs.again(studio.last_job(MORE_DEMO).id)
    with studio.database.write() as session:
        job_store.claim(session, studio.last_job(MORE_DEMO).id, "worker")
        job_store.fail(session, studio.last_job(MORE_DEMO).id, "worker", "They could not be made.")
    assert "They could not be made." in client.get("/").text and "More demo songs are" not in client.get("/").text
    again = client.post(tree(client.get("/")).xpath("//button[text()='Try again']/@hx-post")[0]).text
    assert "More demo songs are" in again and "They could not be made." not in again


def test_a_song_is_made_with_nothing_said(client, studio):
    answer = client.post("/new")
    assert re.fullmatch(r"/songs/\d+", answer.location) and studio.shelf()[0].title == "Untitled"
    refused = client.post("/new", data={"tempo_bpm": "999"})
    assert refused.status_code == 422 and "outside 30 to 300" in tree(refused).xpath("string(//p[@role='alert'])")


def test_the_stair_page_shows_every_section_layer_and_tile(client, song_id):
    page = tree(client.get(f"/songs/{song_id}"))
    stair = page.xpath("//*[@id='stair']")
    assert len(stair) == 1 and stair[0].tag == "svg"
    assert [t.text for t in page.xpath("//*[@class='step-name']")] == ["Verse", "Chorus"]
    assert (
        len(page.xpath("//*[@role='gridcell']")) == 3 * 4 and len(page.xpath("//*[contains(@class,'medallion')]")) == 1
    )
    manifest = json.loads(page.xpath("string(//*[@id='manifest'])"))
    assert [s["bar"] for s in manifest["sections"]] == [1, 9]


def test_markup_in_names_is_only_text(client, studio, song_id):
    post(client, studio, song_id, kind="rename_section", section_id=NAME["Verse"], name="<script>alert(1)</script>")
    post(
        client, studio, song_id, kind="rename_layer", layer_id=NAME["Round kick"], name='"><img src=x onerror=alert(1)>'
    )
    page = tree(client.get(f"/songs/{song_id}"))
    assert not page.xpath("//script[contains(text(),'alert(1)') and not(@type)]") and not page.xpath("//img")
    manifest = page.xpath("//*[@id='manifest']")[0]
    assert json.loads(manifest.text_content())["sections"][0]["name"] == "<script>alert(1)</script>"


def test_an_edit_answers_with_what_changed_and_the_new_state(client, studio, song_id):
    answer = post(
        client, studio, song_id, kind="toggle_tile", section_id=NAME["Verse"], layer_id=NAME["Soft pad"], phrase=0
    )
    fragments = html.fragments_fromstring(answer.get_data(as_text=True).strip())
    assert {f.get("id") for f in fragments if f.get("hx-swap-oob")} == {
        "state",
        "songbar",
        "stair",
        "wall",
        "inspector",
        "rail-svg",
        "notice",
    }
    state = next(f for f in fragments if f.get("id") == "state")
    assert state.xpath("string(.//input[@name='base']/@value)") == str(studio.head(song_id).revision_id)


@pytest.mark.parametrize(("fields", "says"), [
    (dict(kind="set_tempo", tempo_bpm="500"), "500 bpm lies outside 30 to 300"), (dict(kind="set_tempo", tempo_bpm="fast"), "tempo bpm: “fast” cannot be used"),
    (dict(kind="set_metre", metre="4/0"), "4/0 is not a time signature"), (dict(kind="resize_section", section_id=NAME["Verse"], bars="1000"), "outside 1 to 999"),
    (dict(kind="rename_section", section_id=NAME["Verse"], name="x" * 10_000), "10,000 characters"), (dict(kind="explode"), "is not an edit"),
    (dict(kind="set_target", section_id=NAME["Verse"]), "start"), (dict(kind="place_library", section_id=1, layer_id=1, pattern_key="no"), "not in the library"),
])  # fmt: skip
def test_a_refused_edit_says_why_and_changes_nothing(client, studio, song_id, fields, says):
    before = studio.head(song_id)
    answer = post(client, studio, song_id, **fields)
    assert answer.status_code in (400, 422) and says in tree(answer).xpath("string(//*[@role='alert'])")
    assert studio.head(song_id) == before


def test_a_second_window_gets_the_newer_state_and_the_reason(client, studio, song_id):
    old = studio.head(song_id).revision_id
    post(client, studio, song_id, kind="set_tempo", tempo_bpm="90")
    answer = post(client, studio, song_id, base=old, kind="set_tempo", tempo_bpm="150")
    text = answer.get_data(as_text=True)
    assert answer.status_code == 409 and "changed in the meantime" in text and 'id="stair"' in text
    assert studio.head(song_id).song.tempo_bpm == 90


def test_what_would_help_is_offered_tried_and_undone_in_one_step(client, studio, song_id):
    post(client, studio, song_id, kind="set_target", section_id=NAME["Verse"], start="8")
    before = studio.head(song_id)
    offered = tree(client.get(f"/songs/{song_id}/helps?section={NAME['Verse']}"))
    choice = json.loads(offered.xpath("//button/@data-do")[0])
    post(client, studio, song_id, **choice)
    assert (
        studio.head(song_id).song != before.song
        and studio.history(song_id)[0].summary == offered.xpath("//span/text()")[0]
    )
    assert studio.undo(song_id).song == before.song
    assert post(client, studio, song_id, kind="move", section_id=NAME["Verse"], move="lift:999").status_code == 422


def test_sound_has_an_address_of_its_content(client, song_id):
    manifest = json.loads(tree(client.get(f"/songs/{song_id}")).xpath("string(//*[@id='manifest'])"))
    section, key = (
        manifest["sections"][1],
        client.get(f"/songs/{song_id}/keys/{manifest['revision']}.json").json["keys"][1],
    )
    good = f"/songs/{song_id}/audio/{manifest['revision']}/1/{key}.wav"
    answer = client.get(good)
    assert (
        answer.data[:4] == b"RIFF"
        and "immutable" in answer.headers["Cache-Control"]
        and len(answer.data) >= 44 + 4 * section["samples"]
    )
    assert client.get(good.replace(key, "0" * 32)).status_code == 409


def test_files_come_in_and_go_out(client, studio, song_id):
    data = write_midi(studio.head(song_id).song)
    answer = client.post("/import", data={"file": (io.BytesIO(data), "some.mid")})
    assert answer.status_code == 302 and studio.shelf()[0].title == "some", "as the file is called"
    half = client.post("/import", data={"file": (io.BytesIO(data[: len(data) // 2]), "some.mid")})
    assert half.status_code == 422 and "cut off" in tree(half).xpath("string(//p[@role='alert'])")
    assert client.post("/import", data={}).status_code == 422
    assert client.get("/project.schema.json").json["title"] == "Escalera project"


def test_the_bin_takes_and_gives_back(client, song_id):
    client.post(f"/songs/{song_id}/bin")
    assert client.get(f"/songs/{song_id}").status_code == 404
    assert "Small" in tree(client.get("/bin")).text_content()
    client.post(f"/songs/{song_id}/restore")
    assert client.get(f"/songs/{song_id}").status_code == 200


def test_pages_carry_a_strict_policy_and_a_long_song_stays_small(client, studio):
    song = small_song()
    for _ in range(17):
        song = EDITS["add_layer"]("glass-bell", rows=[[0, 100, 0, 80, 0, 90]], length_ticks=3840).apply(song)
    for _ in range(5):
        song = EDITS["duplicate_section"](song.sections[-1].id).apply(
            EDITS["resize_section"](song.sections[0].id, 32).apply(song)
        )
    answer = client.get(f"/songs/{studio.add_song(song, 'x')}", headers={"Accept-Encoding": "gzip"})
    assert "unsafe-inline" not in answer.headers["Content-Security-Policy"].replace(
        "style-src-attr 'unsafe-inline'", ""
    )
    assert answer.headers["Content-Encoding"] == "gzip" and len(answer.data) < 300_000


def test_without_its_token_a_form_is_refused(studio):
    answer = create_app(studio, testing=True).test_client().post("/new")
    assert answer.status_code == 400 and not studio.shelf()


def test_a_passcode_keeps_the_door(studio, monkeypatch):
    monkeypatch.setenv("ESCALERA_PASSCODE", "open sesame")
    app = create_app(studio, testing=True)
    app.config["WTF_CSRF_ENABLED"] = False
    client = app.test_client()
    assert client.get("/").location == "/door"
    assert client.post("/door", data={"passcode": "wrong"}).status_code == 403
    client.post("/door", data={"passcode": "open sesame"})
    assert client.get("/").status_code == 200


WALL = {
    "set_target": (dict(section_id=NAME["Verse"], start="7"), False),
    "set_control": (dict(layer_id=NAME["Soft pad"], control="level_db", value="-20"), False),
    "rename_layer": (dict(layer_id=NAME["Soft pad"], name="Haze"), True),
    "vary": (dict(section_id=NAME["Verse"], layer_id=NAME["Round kick"], keep="0.5"), True),
    "set_muted": (dict(layer_id=NAME["Soft pad"], muted="true"), True),
}


@pytest.mark.parametrize("kind", WALL)
def test_the_wall_is_sent_again_only_when_it_looks_different(client, studio, song_id, kind):
    fields, sent = WALL[kind]
    answer = post(client, studio, song_id, kind=kind, select=f"section:{NAME['Verse']}:0:0:0", **fields)
    assert answer.status_code == 200 and bool(tree(answer).xpath("//*[@id='wall']")) == sent


def test_a_file_is_made_in_the_background_and_taken_when_it_is_ready(client, studio, song_id):
    first = client.post(f"/songs/{song_id}/export/flac", data={"bits": "24"}).get_data(as_text=True)
    name = re.search(r"/exports/([\w-]+)", first).group(1)
    assert "progress" in first and client.get(f"/exports/{name}/file").status_code == 400, "nobody works yet"
    studio.begin_work()
    assert studio.jobs.wait(name, 60).state == "done"
    assert f"/exports/{name}/file" in client.get(f"/exports/{name}").get_data(as_text=True)
    taken = client.get(f"/exports/{name}/file")
    assert taken.data[:4] == b"fLaC" and "small.flac" in taken.headers["Content-Disposition"]
    taken.close()
    assert client.get("/exports/unknown").status_code == 404
    studio.set_deleted(song_id, True)
    studio.erase(song_id)
    assert client.get(f"/exports/{name}").status_code == 404 and not list(studio.jobs.folder.iterdir())


def test_a_file_that_cannot_be_made_or_is_called_off_says_why(client, studio, song_id):
    assert "is not a format" in client.post(f"/songs/{song_id}/export/ogg").get_data(as_text=True)
    assert client.post(f"/songs/{song_id}/export/wav", data={"bits": "9" * 400}).status_code == 422
    head = studio.head(song_id)
    options = {"format": "wav", "stems": False, "wet": True, "bits": 17}
    name = studio.jobs.start("export", song_id, head.revision_id, options, "WAV")
    called_off = studio.jobs.start("export", song_id, head.revision_id, options, "WAV")
    client.delete(f"/exports/{called_off}")
    studio.begin_work()
    assert "17 bits is not written" in studio.jobs.wait(name, 10).trouble
    answer = client.get(f"/exports/{called_off}").get_data(as_text=True)
    assert "field-error" in answer and "Try again" in answer
    assert client.get(f"/exports/{called_off}/file").status_code == 400
    assert "progress" in client.post(f"/exports/{called_off}").get_data(as_text=True)


def test_a_line_is_made_read_changed_and_doubled_from_the_inspector(client, studio, song_id):
    tile = f"tile:{NAME['Chorus']}:{NAME['Plucked bass']}:0:0"
    fields = dict(section_id=NAME["Chorus"], layer_id=NAME["Plucked bass"], phrase=0, select=tile)
    made = tree(
        post(client, studio, song_id, kind="make_line", maker="bass-syncopated", **{"options.tone": "octave", **fields})
    )
    reading = " ".join(made.xpath("string(//*[@class='line-reading'])").split())
    assert re.match(
        r"[A-G]♯?♭?\d to [A-G]♯?♭?\d \(\d+ semitones\), \w+(, \d+ notes? outside the sound’s range)?\. On strong beats 100 % chord tones",
        reading,
    ), reading
    assert made.xpath("//form[@data-edit='make_line'][.//input[@value='bass-walking']]") and made.xpath(
        "//select[@name='transformation']/option"
    )
    before = studio.head(song_id).song
    post(client, studio, song_id, kind="transform_line", transformation="reverse", **fields)
    assert studio.head(song_id).song != before
    post(
        client,
        studio,
        song_id,
        kind="double_line",
        layer_id=NAME["Plucked bass"],
        sound="glass-bell",
        octave="1",
        pan="0.4",
    )
    doubled = studio.head(song_id).song.layers[-1]
    assert (doubled.sound_key, doubled.octave, doubled.pan) == ("glass-bell", 1, 0.4)
    refused = post(client, studio, song_id, kind="make_line", maker="fills-gaps", **fields)
    assert refused.status_code == 422 and "finds nothing to play here" in tree(refused).text_content()


def test_words_of_the_picture_are_explained_where_they_stand(client, song_id):
    for address, words in (
        ("/", ["Shelf"]),
        (f"/songs/{song_id}", ["target energy", "from layers", "from audio", "tile"]),
    ):
        found = {e.text: e.get("title") for e in tree(client.get(address)).xpath("//abbr[@tabindex='0']")}
        assert all(found[word] == TERMS[word.lower()] for word in words)


def test_every_text_of_the_pages_is_in_the_catalogue_and_can_be_translated(studio, tmp_path):
    path = Path(__file__).parents[2] / "tools" / "list_texts.py"
    spec = spec_from_file_location("list_texts", path)
    tool = module_from_spec(spec)
    spec.loader.exec_module(tool)
    kept = (FOLDER / "messages.pot").read_bytes()
    assert kept == tool.catalog(), "renew it with make texts"
    assert (FOLDER / "sentences.pot").read_bytes() == tool.sentences(), "renew it with make texts"
    words = Catalog(locale="es")
    words.add("Ideas", "Apuntes")
    words.add(("note", "notes"), ("nota", "notas"))
    core = Catalog(locale="es")
    core.add(
        "Section {section_id} is not in this song any more. Choose one that is.",
        "La sección {section_id} ya no está en esta canción. Elige otra.",
    )
    folder = tmp_path / "es" / "LC_MESSAGES"
    folder.mkdir(parents=True)
    for name, written in (("messages", words), ("sentences", core)):
        with (folder / f"{name}.mo").open("wb") as out:
            write_mo(out, written)
    app = create_app(studio, testing=True)
    install_texts(app, "es", tmp_path)
    page = tree(app.test_client().get("/ideas"))
    assert page.xpath("//h1")[0].text == "Apuntes" and "Save idea" in page.text_content(), "the rest stays as it is"
    render = app.jinja_env.from_string("{{ message }}").render
    said = "Section 7 is not in this song any more. Choose one that is."
    assert render(message=said) == "La sección 7 ya no está en esta canción. Elige otra."
    assert render(message="A sentence of nobody.") == "A sentence of nobody."


def test_a_measurement_that_fails_is_tried_again_and_then_said(client, studio, song_id, monkeypatch):
    tries = []

    def broken(*_):
        tries.append(1)
        raise ValueError("no sound")

    monkeypatch.setattr(studio.rendering, "measure", broken)
    base = studio.head(song_id).revision_id
    for _ in range(60):
        answer = client.get(f"/songs/{song_id}/measured?base={base}").get_data(as_text=True)
        if "could not be measured" in answer:
            break
        time.sleep(0.02)
    assert len(tries) == 3 and "pending" not in answer, "the page stops asking"
    assert client.get(f"/songs/{song_id}").status_code == 200 and len(tries) == 3


def test_what_should_not_happen_is_said_with_an_id_that_the_log_has(client, studio, song_id, monkeypatch, caplog):
    monkeypatch.setattr("escalera.web.stair.song_view", lambda *_: 1 / 0)
    client.application.config["PROPAGATE_EXCEPTIONS"] = False
    answer = client.get(f"/songs/{song_id}")
    assert answer.status_code == 500
    id = re.search(r"error ([0-9a-f]{8})", answer.get_data(as_text=True)).group(1)
    assert id in caplog.text and "ZeroDivisionError" in caplog.text


def test_work_that_leads_to_other_work_is_never_missed_between_the_two(client, studio, monkeypatch):
    """A file is read, and leads to stems being laid, just while the page looks what is at work: it must go on asking."""
    first = studio.jobs.start("bring in", 0, 0, {}, "Reading")
    look = job_store.of_song

    def of_song(session, song_id):
        found = look(session, song_id)
        if any(job.id == first and job.state == "waiting" for job in found):
            studio.jobs.start("stems", 0, 0, {"kit": 1, "tempo_bpm": 0.0}, "Laying")
            studio.jobs.stop(first)
        return found

    monkeypatch.setattr(job_store, "of_song", of_song)
    assert "bringing" in client.get("/studies/list").get_data(as_text=True)
    assert "bringing" in client.get("/studies/list").get_data(as_text=True)
    studio.jobs.stop(studio.at_work("stems").id)
    assert "bringing" not in client.get("/studies/list").get_data(as_text=True)


def test_a_pack_is_made_in_the_background_and_what_is_not_ready_is_said(client, studio, song_id):
    page = client.get(f"/songs/{song_id}/handover").get_data(as_text=True)
    assert "do not say what they are there for" in page and "A mixer" in page
    studio.begin_work()
    made = client.post(
        f"/songs/{song_id}/pack", data={"receiver": "drummer", "scheme": "family", "part": ["midi", "chords"]}
    )
    assert made.status_code == 200
    job = studio.last_job("pack", song_id)
    studio.jobs.wait(job.id, 30)
    job = studio.jobs.get(job.id)
    names = zipfile.ZipFile(studio.jobs.path(job)).namelist()
    assert (
        job.state == "done"
        and {"README.txt", "manifest.json", "sheets/chords.html"} <= set(names)
        and not any(n.endswith(".wav") for n in names)
    )
    for bad in ({"receiver": "nobody"}, {"scheme": "by moon"}, {"kind": "mp9"}, {"part": "everything"}):
        assert client.post(f"/songs/{song_id}/pack", data=bad).status_code == 400


def test_stems_are_listened_to_in_the_background_and_the_page_keeps_what_was_heard(client, studio, song_id):
    studio.begin_work()
    assert "Listen to the stems" in client.get(f"/songs/{song_id}/handover").get_data(as_text=True)
    client.post(f"/songs/{song_id}/stems-heard")
    job = studio.last_job("stems heard", song_id)
    studio.jobs.wait(job.id, 60)
    for page in (f"/stems-heard/{job.id}", f"/songs/{song_id}/handover"):
        told = client.get(page).get_data(as_text=True)
        assert "stems were listened to: none is silent" in told and "dBFS" in told


def test_what_came_back_is_looked_at_and_nothing_is_taken(client, studio, song_id):
    studio.begin_work()
    before = studio.head(song_id)
    midi = write_midi(before.song)
    sent = {"file": [(io.BytesIO(midi), "../../back.mid"), (io.BytesIO(b"RIFF no"), "broken.wav")]}
    assert client.post(f"/songs/{song_id}/returned", data=sent, content_type="multipart/form-data").status_code == 200
    job = studio.last_job("returned", song_id)
    studio.jobs.wait(job.id, 30)
    told = client.get(f"/returned/{job.id}").get_data(as_text=True)
    assert re.search(r"tracks are as they were sent:[^<]*Round kick", told)
    assert "broken.wav" in told and "unread" in told and "nothing to take" in told
    assert studio.head(song_id).revision_id == before.revision_id and not (studio.folder / "back.mid").exists()
    assert client.post(f"/songs/{song_id}/returned", data={}).status_code == 400


def test_odd_feedback_is_a_sentence(client, studio, song_id):
    path = f"/songs/{song_id}/feedback"
    for send, says in (
        (client.post(path, data={"text": " "}), "Nothing was said in it"),
        (client.post(path, data={"text": "x" * 50_000}), "are read"),
        (client.post(f"{path}/999", data={"state": "taken"}), "not there any more"),
        (client.post(f"{path}/999", data={"section": "many"}), "many"),
        (client.delete(f"{path}/999"), "not there any more"),
    ):
        assert send.status_code in (400, 404, 422) and says in said(send)
    assert client.post(path, data={"text": "0:01 <b>bold"}).status_code == 200
    assert "&lt;b&gt;bold" in client.get(path).get_data(as_text=True)
    assert client.post(f"{path}/undo").status_code == 200 and not studio.head(song_id).song.feedback


def test_the_logbook_is_searched_and_a_line_is_kept(client, studio, song_id):
    studio.edit(song_id, studio.head(song_id).revision_id, EDITS["set_brief"]({"feel": "leaning back"}))
    assert "Logbook" in client.get("/").get_data(as_text=True) and "decided: Brief" in said(client.get("/logbook"))
    key = studio.logbook.sessions()[0].key
    assert client.post("/logbook/line", data={"session": key, "text": "<i>calm"}).status_code == 200
    assert "&lt;i&gt;calm" in client.get("/logbook?words=calm").get_data(as_text=True)
    assert "Nothing in the logbook" in said(client.get("/logbook?words=storm"))
    refused = client.post("/logbook/line", data={"session": "never", "text": "x"})
    assert refused.status_code == 400 and "is no session" in said(refused)
    assert "<i>calm" in client.get("/logbook/logbook.txt").get_data(as_text=True)


VIEWS = (
    "",
    "/groove",
    "/bench",
    "/harmony",
    "/joins",
    "/balance",
    "/voices",
    "/checks",
    "/helps/song",
    "/layout",
    "/samples",
    "/form",
)


def test_states_that_were_left_behind_are_let_go_with_all_that_was_read_from_them(client, studio):
    song_id = studio.add_song(replace(small_song(), title="Left behind"), "New")
    for number in range(CACHED_DOCUMENTS + 8):
        head = studio.head(song_id)
        layer = head.song.layers[number % len(head.song.layers)]
        studio.edit(song_id, head.revision_id, EDITS["set_control"](layer.id, "level_db", number / 4 - 20))
        assert {client.get(f"/songs/{song_id}{view}").status_code for view in VIEWS} == {200}
    del head
    gc.collect()
    states = [found for found in gc.get_objects() if isinstance(found, Song) and found.title == "Left behind"]
    assert 1 <= len(states) <= CACHED_DOCUMENTS

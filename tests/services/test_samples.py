"""The library of recordings: files of every kind brought in, bad ones refused in a sentence, pieces, bundles, what is missing, rights."""

import json
import zipfile
from dataclasses import replace

import numpy as np
import pytest
import soundfile

from escalera.core.commands import COMMANDS as EDITS
from escalera.core.document.recordings import sample_of
from escalera.core.reading.rights import open_points
from escalera.core.samples.finding import BY_WAY, SampleWish, distance, found, key_fits, tempo_fits, wish_from
from escalera.errors import EscaleraError, FormatError, InputError, NotFound
from escalera.formats.bundle import read_bundle, write_bundle
from escalera.formats.project import write_project
from escalera.formats.recording import content_of
from escalera.services.exporting import Options, export
from escalera.services.importing import import_bundle
from escalera.services.own_samples import own_samples
from escalera.services.reading_worker import LimitedReader
from escalera.services.sample_files import read_file
from escalera.services.sample_report import rights_csv
from escalera.services.studio import Studio
from escalera.sound.recording_files import library
from tests.recordings import BEAT as AUDIO
from tests.recordings import RATE, laid_in, loop, written
from tests.songs import ids, small_song

SONG = small_song()
V = ids(SONG)["Verse"]


KINDS = {
    "eight.wav": dict(subtype="PCM_U8"), "sixteen.wav": dict(subtype="PCM_16"), "twentyfour.wav": dict(subtype="PCM_24"),
    "float.wav": dict(subtype="FLOAT"), "a.aiff": dict(subtype="PCM_16"), "a.flac": dict(subtype="PCM_24"), "vorbis.ogg": dict(format="OGG", subtype="VORBIS"),
    "a.mp3": dict(format="MP3"), "a.opus": dict(format="OGG", subtype="OPUS", rate=48_000), "low.wav": dict(rate=22_050), "high.wav": dict(rate=96_000),
}  # fmt: skip


@pytest.mark.parametrize("name", KINDS)
def test_files_of_every_kind_are_read_alike(tmp_path, name):
    how = dict(KINDS[name])
    rate = how.pop("rate", RATE)
    audio = AUDIO if rate == RATE else _at(rate)
    reading = read_file(written(tmp_path, name, audio, rate, **how)).reading
    assert reading.tempo_bpm == pytest.approx(112.0, rel=0.01)
    assert reading.bars == 2 and reading.kind == "loop"


def _at(rate):
    import soxr

    return soxr.resample(AUDIO.T, RATE, rate).reshape(-1, 1).T


def test_many_channels_become_two(tmp_path):
    many = np.repeat(AUDIO, 6, axis=0) * np.array([[1, 0, 1, 0, 1, 0]]).T
    read = read_file(written(tmp_path, "six.wav", many), tmp_path)
    kept, _ = soundfile.read(read.kept)
    assert kept.shape[1] == 2 and np.abs(kept[:, 1]).max() < 1e-6 < np.abs(kept[:, 0]).max()


def test_what_is_kept_is_what_was_brought_in_above_full_scale_too(tmp_path):
    loud = AUDIO * np.float32(3.0)
    read = read_file(written(tmp_path, "loud.wav", loud, subtype="FLOAT"), tmp_path)
    library.add_folder(tmp_path)
    assert np.abs(library.read(read.content) - loud).max() < 1e-5
    assert content_of(read.kept) == read.content
    assert read.reading.true_peak_dbtp > 3
    library.remove_folder(tmp_path)


def raw(data):
    return lambda path: path.write_bytes(data)


def sound(audio, **how):
    return lambda path: soundfile.write(path, audio.T, how.pop("rate", RATE), format="WAV", **how)


def cut_short(path):
    soundfile.write(path, AUDIO.T, RATE, format="WAV")
    path.write_bytes(path.read_bytes()[:40_000])


def promises(path):
    soundfile.write(path, AUDIO.T[:4000], RATE, format="WAV")
    data = bytearray(path.read_bytes())
    data[40:44] = (0xFFFFFFF0).to_bytes(4, "little")
    path.write_bytes(data)


BAD = {
    "a text": (raw(b"hello " * 100), "not audio"), "nothing": (raw(b""), "empty"), "a picture": (raw(b"\x89PNG\r\n\x1a\n" + b"\0" * 500), "PNG picture"),
    "an M4A": (raw(b"\0\0\0 ftypM4A " + b"\0" * 500), "Convert it to WAV"), "not a number": (sound(np.full((1, 9000), np.nan, np.float32), subtype="FLOAT"), "not numbers"),
    "silence": (sound(np.zeros((1, 40_000), np.float32)), "silent"), "an offset": (sound(np.full((1, 40_000), 0.3, np.float32)), "offset"),
    "two samples": (sound(np.ones((1, 2), np.float32)), "at least 5 ms"), "24 channels": (sound(np.zeros((24, 3000), np.float32)), "at most 16"),
    "4 kHz": (sound(AUDIO, rate=4000), "8,000 to 192,000"),
}  # fmt: skip


@pytest.mark.parametrize("name", BAD)
def test_a_bad_file_is_refused_in_a_sentence_and_leaves_nothing(studio, tmp_path, name):
    make, why = BAD[name]
    path = tmp_path / "odd <b>name.wav"
    make(path)
    with pytest.raises(FormatError, match=why) as refused:
        studio.samples.add_file(path)
    assert str(refused.value).endswith(".")
    assert studio.samples.count() == 0 and not list(studio.samples.folder.iterdir())


@pytest.mark.parametrize(("make", "seconds"), [(cut_short, 0.4), (promises, 0.09)])
def test_a_file_that_lies_about_its_length_is_counted_and_said(studio, tmp_path, make, seconds):
    path = tmp_path / "short.wav"
    make(path)
    try:
        id, _ = studio.samples.add_file(path)
    except FormatError as refused:
        assert str(refused).endswith(".")
        return
    reading = studio.samples.reading(id)
    assert reading.seconds == pytest.approx(seconds, rel=0.3)


def test_what_is_too_long_or_brings_the_reader_down_is_said(tmp_path):
    import os
    import signal
    from threading import Timer

    path = written(tmp_path, "a.wav")
    reader = LimitedReader(seconds=0.001)
    with pytest.raises(FormatError, match=r"longer than|brought"):
        reader.read(path)
    reader.close()
    strong = LimitedReader()
    strong.read(path)
    long = written(tmp_path, "long.wav", np.tile(AUDIO, 60))
    Timer(0.2, lambda: os.kill(strong._process.pid, signal.SIGKILL)).start()
    with pytest.raises(FormatError, match="brought the reader down"):
        strong.read(long, tmp_path)
    assert not list(tmp_path.glob(".*"))
    assert strong.read(path).reading.bars == 2, "the next file is read by a new one"
    strong.close()


def test_the_same_sound_is_one_sample_whatever_its_file(studio, tmp_path):
    steps = np.rint(AUDIO * 8_000_000).astype(np.int32) << 8
    first = studio.samples.add_file(written(tmp_path, "one.wav", steps, subtype="PCM_24"))
    second = studio.samples.add_file(written(tmp_path, "other name.flac", steps, subtype="PCM_24"))
    assert first == (second[0], False) and second[1]
    assert [c.name for c in studio.samples.cards()] == ["one"]


def test_corrections_stay_and_can_be_taken_back(studio, tmp_path):
    id, _ = studio.samples.add_file(written(tmp_path, "Beat 56 bpm.wav"))
    assert studio.samples.card(id).doubts == 1
    studio.samples.correct(id, {"tempo_bpm": "56", "key": "F minor"})
    card = studio.samples.card(id)
    assert (card.tempo_bpm, card.key) == (56.0, "F minor")
    assert studio.samples.reading(id).bars == 1 and studio.samples.reading(id).tempo_confidence == 1.0
    studio.samples.correct(id, {"tempo_bpm": "", "key": ""})
    assert studio.samples.card(id).tempo_bpm == pytest.approx(112, rel=0.01)
    with pytest.raises(InputError, match="outside 20 to 400"):
        studio.samples.correct(id, {"tempo_bpm": "4000"})


# files on their way ------------------------------------------------------------------------------------------------


def test_a_file_in_pieces_goes_on_where_it_broke_off_and_a_bad_one_stops_nothing(studio, tmp_path):
    arrivals = studio.arrivals
    data = written(tmp_path, "long.wav", np.tile(AUDIO, 12), subtype="FLOAT").read_bytes()
    token = arrivals.begin("long.wav", len(data))
    size = 4_000_000
    assert not arrivals.piece(token, 0, data[:size])
    assert arrivals.pieces(token) == 1
    with pytest.raises(InputError, match="does not fit"):
        arrivals.piece(token, 5, data[:size])
    assert arrivals.piece(token, 1, data[size : 2 * size]) == (len(data) <= 2 * size)
    for number in range(2, -(-len(data) // size)):
        arrivals.piece(token, number, data[number * size : (number + 1) * size])
    bad = arrivals.begin("bad.wav", 600)
    arrivals.piece(bad, 0, b"x" * 600)
    assert Studio.__name__ and arrivals.read_all() == 2
    lines = {line["name"]: line["state"] for line in arrivals.standing().lines}
    assert lines == {"long.wav": "in", "bad.wav": "refused"}
    assert studio.samples.count() == 1 and arrivals.standing().waiting == 0


@pytest.mark.parametrize(
    ("name", "size", "why"),
    [("a.exe", 10, "no ending"), ("a.wav", 0, "0.0 MB"), ("a.wav", 10**13, "at most"), ("../../a.wav", 10, None)],
)
def test_what_may_be_announced(studio, name, size, why):
    if why is None:
        assert studio.arrivals.begin(name, size)
        return
    with pytest.raises(InputError, match=why):
        studio.arrivals.begin(name, size)
    with pytest.raises(NotFound):
        studio.arrivals.piece("../../../etc/passwd", 0, b"x")


def test_a_full_library_says_so(studio, tmp_path):
    studio.samples._limit_mb = 0
    with pytest.raises(InputError, match="ESCALERA_SAMPLES_MB"):
        studio.samples.add_file(written(tmp_path, "one.wav"))


# finding -----------------------------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def cards(tmp_path_factory):
    folder = tmp_path_factory.mktemp("found")
    opened = Studio(folder, max_pages=0, cache_mb=60)
    rows = (
        ("Beat A", "drums", 112.0, {}),
        ("Beat B no kick", "drums", 112.0, dict(beat="sparse")),
        ("Chords", "chords", 96.0, dict(key=9, mode="minor")),
        ("Fast beat", "drums", 174.0, dict(beat="broken")),
    )
    for name, kind, tempo, options in rows:
        opened.samples.add_audio(
            name, loop(kind, tempo, 2, **options)[0], "tests", "own" if name != "Chords" else "unknown", "here"
        )
    yield opened.samples.cards()
    opened.close()


WISHES = {
    "words": (dict(words="beat kick"), {"Beat B no kick"}), "kind": (dict(sample_kind="hit"), set()), "tempo, doubled too": (dict(tempo_low="85", tempo_high="90"), {"Fast beat"}),
    "key, relative too": (dict(key="C major", sample_kind="loop", words="chords"), {"Chords"}), "key, transposed": (dict(key="D major", transposed_by="2", words="chords"), {"Chords"}),
    "not transposed": (dict(key="D major", words="chords"), set()), "not cleared": (dict(has="not cleared"), {"Chords"}), "all": ({}, {"Beat A", "Beat B no kick", "Chords", "Fast beat"}),
}  # fmt: skip


@pytest.mark.parametrize("name", WISHES)
def test_samples_are_found(cards, name):
    fields, wanted = WISHES[name]
    assert {c.name for c in found(cards, wish_from(fields))} == wanted


def test_the_nearest_come_first_and_odd_wishes_are_refused(cards):
    by_name = {c.name: c for c in cards}
    near = found(cards, SampleWish(near_id=by_name["Beat A"].id))
    assert near[0].name == "Beat A" and near[-1].name == "Chords"
    assert distance(by_name["Beat A"], by_name["Beat A"]) == 0
    assert tempo_fits(60, 118, 122) and not tempo_fits(None, 118, 122) and key_fits("", "C major", 0)
    assert set(BY_WAY) == {
        "any",
        "takes",
        "no kick",
        "has a kick",
        "leaves space",
        "favourites",
        "never used",
        "not cleared",
        "doubtful",
        "mostly low",
        "mostly high",
    }
    sung = replace(by_name["Beat A"], id=99, name="Take of today, lead", source="Take of Small")
    assert [c.id for c in found([*cards, sung], SampleWish(way="takes"))] == [99], "sung takes are found in their song"
    assert 99 not in {c.id for c in found([*cards, sung], SampleWish())} and found(
        [sung], SampleWish(words="lead")
    ) == [sung]
    for fields in (dict(tempo_low="x"), dict(has="louder"), dict(sort="up"), dict(tempo_high="9e9")):
        with pytest.raises(InputError):
            wish_from(fields)


# in songs ----------------------------------------------------------------------------------------------------------


def test_a_sample_is_swept_only_when_nothing_names_it(studio, tmp_path):
    song_id, id = laid_in(studio, SONG, V, tmp_path)
    content = studio.samples.card(id).content
    assert studio.samples.card(id).used_in == ("Small",)
    studio.samples.remove(id)
    assert library.has(content), "a song plays it"
    studio.undo(song_id)
    studio.samples.sweep()
    assert library.has(content), "a state that redo reaches names it"
    studio.set_deleted(song_id, True)
    studio.erase(song_id)
    assert not library.has(content)


def test_a_bundle_carries_the_sound_and_comes_back_whole(studio, tmp_path):
    song_id, _ = laid_in(studio, SONG, V, tmp_path)
    song = studio.head(song_id).song
    (tmp_path / "out").mkdir()
    path, mimetype = export(song, studio.rendering, "bundle", Options(), tmp_path / "out")
    assert mimetype == "application/zip" and sorted(zipfile.ZipFile(path).namelist())[1] == "project.json"
    other = (
        Studio(tmp_path / "elsewhere", max_pages=0, cache_mb=60) if (tmp_path / "elsewhere").mkdir() is None else None
    )
    studio.samples.close()  # so that the sound is found in one place only
    found_there = import_bundle(path, other.samples)
    assert found_there.song == song and library.has(song.samples[0].content)
    other.close()
    assert not library.has(song.samples[0].content)
    library.add_folder(studio.samples.folder)


def tampered(path, change, target):
    with zipfile.ZipFile(path) as old, zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED) as new:
        for info in old.infolist():
            for name, data in change(info.filename, old.read(info)):
                new.writestr(name, data)
    return target


BROKEN = {
    "an entry outside": (lambda n, d: [(n, d), ("../evil.sh", b"x")] if n == "project.json" else [(n, d)], "does not belong"),
    "another sound": (lambda n, d: [(n, d)] if n == "project.json" else [("audio/" + "0" * 32 + ".flac", d)], "another recording"),
    "no project": (lambda n, d: [] if n == "project.json" else [(n, d)], "no project.json"),
    "a flood": (lambda n, d: [(n, b"{" + b" " * 9_000_000 + b"}")] if n == "project.json" else [(n, d)], "200 times"),
    "no sound": (lambda n, d: [(n, d)] if n == "project.json" else [(n, b"fLaC" + b"\0" * 90)], "cannot be read"),
}  # fmt: skip


@pytest.mark.parametrize("name", BROKEN)
def test_a_bundle_that_was_tampered_with_leaves_nothing(studio, tmp_path, name):
    change, why = BROKEN[name]
    song_id, id = laid_in(studio, SONG, V, tmp_path)
    content = studio.samples.card(id).content
    whole = tmp_path / "whole.zip"
    write_bundle(write_project(studio.head(song_id).song), {content: library.path(content)}, whole)
    with pytest.raises(FormatError, match=why):
        read_bundle(tampered(whole, change, tmp_path / "bad.zip"), tmp_path / "aside")
    assert not (tmp_path / "aside").exists()
    (tmp_path / "cut.zip").write_bytes(whole.read_bytes()[:-200])
    with pytest.raises(FormatError, match="not whole"):
        read_bundle(tmp_path / "cut.zip", tmp_path / "aside")


def test_what_is_not_cleared_is_listed_to_the_end(studio, tmp_path):
    song_id, id = laid_in(studio, SONG, V, tmp_path, licence="unknown")
    song = studio.head(song_id).song
    assert "not cleared" in open_points(song)[0] and "Beat" in rights_csv(song)
    cleared = replace(song, samples=tuple(replace(s, licence="attribution") for s in song.samples))
    assert "needs a credit line" in open_points(cleared)[0]
    assert not open_points(replace(song, samples=tuple(replace(s, licence="own") for s in song.samples)))
    evil = replace(song, samples=tuple(replace(s, source="=HYPERLINK(1)") for s in song.samples))
    assert "'=HYPERLINK" in rights_csv(evil)


def test_what_was_looked_for_is_offered_when_it_comes_in(studio, tmp_path):
    studio.samples.want("dry snare room", 0, "rim knock")
    assert studio.samples.answers(studio.samples.wanted()[0], studio.samples.cards()) == []
    studio.samples.add_file(written(tmp_path, "Snare in a dry room.wav"))
    assert [c.name for c in studio.samples.answers(studio.samples.wanted()[0], studio.samples.cards())] == [
        "Snare in a dry room"
    ]
    studio.samples.forget_wanted(studio.samples.wanted()[0].id)
    assert not studio.samples.wanted()


def test_own_samples_are_many_and_say_what_is_wrong_with_them():
    rows = own_samples()
    assert len(rows) >= 60 and len({r.name for r in rows}) == len(rows)
    wrong = [r for r in rows if r.row.get("truth") or r.row.get("cents") or r.row.get("short_beats")]
    assert len(wrong) >= 6 and any(r.row.get("licence") == "unknown" for r in rows)
    assert all(r.recipe.endswith("engine") for r in rows)


def test_own_samples_are_made_once_and_the_same_again(studio, monkeypatch):
    some = [
        r
        for r in own_samples()
        if r.name in ("Funk beat 104", "Long kick-bass G", "Backbeat one beat short 116", "Piano a little flat 76 C")
    ]
    monkeypatch.setattr("escalera.services.samples.own_samples", lambda: some)
    assert studio.samples.add_own() == 4 and studio.samples.add_own() == 0
    by_name = {c.name: studio.samples.reading(c.id) for c in studio.samples.cards()}
    assert by_name["Backbeat one beat short 116"].remainder_beats == -1
    assert by_name["Piano a little flat 76 C"].tuning_cents == pytest.approx(-14, abs=3)
    assert studio.samples.doubts(next(c.id for c in studio.samples.cards() if "kick-bass" in c.name))
    assert json.loads(json.dumps(studio.samples.details(1)))["made"]


def test_a_state_that_holds_a_sample_is_refused_where_it_cannot_be_played():
    sample = sample_of("a" * 32, "Beat", read_file_reading())
    song = EDITS["lay_sample"](_plain(sample), V).apply(SONG)
    from escalera.formats.project import read_project

    data = json.loads(write_project(song))
    for change in (
        lambda p: p["song"].update(samples=[]),
        lambda p: next(x for x in p["song"]["layers"] if x.get("clips"))["clips"][0].update(end_s=99.0),
    ):
        bad = json.loads(json.dumps(data))
        change(bad)
        with pytest.raises(EscaleraError, match=r"does not know|ends after"):
            read_project(json.dumps(bad).encode())


def read_file_reading():
    from escalera.listen.whole_reading import read_recording

    return read_recording([AUDIO], RATE, 1)


def _plain(sample):
    from dataclasses import asdict

    return asdict(sample)

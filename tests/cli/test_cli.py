"""The command line: ids on standard output, one plain line for an error, stable JSON."""

import json
import sqlite3

import pytest
import soundfile
from click.testing import CliRunner

from escalera.cli import main
from escalera.cli.common import studio
from escalera.formats.midi_write import write_midi
from escalera.formats.project import write_project
from escalera.services.demo_shelf import put_more
from escalera.sound.mix import Renderer
from tests.recordings import RATE, loop
from tests.songs import small_song


@pytest.fixture
def run(tmp_path, monkeypatch):
    monkeypatch.setenv("ESCALERA_DATA", str(tmp_path / "data"))
    monkeypatch.chdir(tmp_path)

    def call(*args, status=0):
        result = CliRunner().invoke(main, list(args))
        assert result.exit_code == status, result.output
        return result

    return call


def test_songs_are_made_listed_and_taken_away(run, tmp_path):
    assert run("songs").stdout == ""
    (tmp_path / "in.mid").write_bytes(write_midi(small_song()))
    imported = run("import", "in.mid")
    assert imported.stdout == "1\n" and "layers" in imported.stderr
    assert run("new", "--title", "Mine", "--form", "intro 4, verse 8").stdout == "2\n"
    lines = run("songs").stdout.splitlines()
    assert [line.split("\t")[0] for line in lines] == ["2", "1"]
    for key in ("midi", "json", "cue", "flac"):
        run("export", "1", "--format", key, "-o", f"out.{key}")
        assert (tmp_path / f"out.{key}").stat().st_size > 100
    assert run("import", "out.json").stdout == "3\n"
    run("export", "1", "--format", "wav", "--stems", "-o", "stems")
    assert sorted(p.name for p in (tmp_path / "stems").iterdir()) == [
        "01-kick.wav",
        "02-plucked-bass.wav",
        "03-soft-pad.wav",
        "cue-sheet.txt",
    ]
    assert len({p.stat().st_size for p in (tmp_path / "stems").glob("*.wav")}) == 1
    run("backup", "copy.db")
    assert (tmp_path / "copy.db").stat().st_size > 10_000


def test_rendering_measuring_and_energy(run, tmp_path):
    (tmp_path / "in.mid").write_bytes(write_midi(small_song()))
    run("render", "in.mid", "-o", "part.wav", "--bars", "3-4", "--no-cache")
    report = json.loads(run("measure", "part.wav", "--json").stdout)
    assert set(report) == {
        "integrated_lufs",
        "range_lu",
        "max_momentary_lufs",
        "max_short_term_lufs",
        "true_peak_dbtp",
        "bands_db",
        "correlation",
    }
    assert (tmp_path / "part.wav").stat().st_size == pytest.approx(44 + 4 * 4 * 44_100, abs=64)
    energy = json.loads(run("energy", "in.mid", "--json").stdout)
    assert len(energy["bars"]) == 16 and {s["name"] for s in energy["sections"]} == {"Verse", "Chorus"}
    assert "joins move as the targets do" in run("energy", "in.mid").stdout


def rows_of(path):
    """How many rows every table of a database has."""
    with sqlite3.connect(path) as database:
        names = [name for (name,) in database.execute("select name from sqlite_master where type = 'table'")]
        return {name: database.execute(f"select count(*) from {name}").fetchone()[0] for name in names}


def test_demo_songs_are_put_on_an_empty_shelf_only_with_a_year_of_work(run, tmp_path):
    assert "23 demo songs" in run("demo", "--seed-only").stderr
    assert "they are kept" in run("demo", "--seed-only").stderr
    kept = rows_of(tmp_path / "data" / "escalera.db")
    with (
        studio() as opened
    ):  # a worker that begins anew after it was killed puts there what is missing, and nothing twice
        assert put_more(opened, with_year=True) == 0 and rows_of(opened.folder / "escalera.db") == kept
        opened.erase(next(card.id for card in opened.cards() if card.title == "Tin Quay"))
        assert (
            put_more(opened, with_year=True) == 1 and rows_of(opened.folder / "escalera.db")["songs"] == kept["songs"]
        )
    assert len(run("songs").stdout.splitlines()) == 23
    stages = {row["stage"] for row in json.loads(run("board", "--json").stdout)}
    assert stages == {"demo", "arranged", "recorded", "mixed", "mastered", "released", "left"}
    assert len(json.loads(run("logbook", "--json").stdout)["sessions"]) > 20
    rows = json.loads(run("today", "--mode", "start", "--minutes", "15", "--json").stdout)
    assert (
        rows
        and rows[0]["fits"]
        and rows[0]["minutes"] <= 15
        and rows[0]["step"] in run("today", "--mode", "start").stdout
    )
    assert "Artwork done" in run("dates").stdout
    assert (
        "dates written" in run("dates", "-o", "due.ics").stderr
        and b"BEGIN:VEVENT" in (tmp_path / "due.ics").read_bytes()
    )
    told = json.loads(run("set", "Salt, Rain, Rust", "--suggest", "late peak", "--json").stdout)[0]
    assert (
        len(told["songs"]) == 8
        and len(told["joins"]) == 7
        and sorted(told["orders"][0]["songs"]) == sorted(s["title"] for s in told["songs"])
    )
    assert "bpm" in run("set").stdout and "no set" in run("set", "nowhere", status=2).stderr
    assert "no shape" in run("set", "--suggest", "round", status=2).stderr
    assert "Week" in run("prompt", "--begin").stdout and len(run("songs").stdout.splitlines()) == 24
    assert (
        "songs were begun" in run("statistics").stdout and json.loads(run("statistics", "--json").stdout)["songs"] == 24
    )


def test_recordings_are_read_fitted_and_kept(run, tmp_path):
    audio, _ = loop("drums", 112.0, 2)
    file = tmp_path / "Beat 56.wav"
    soundfile.write(file, audio.T, RATE)
    (tmp_path / "bad.wav").write_bytes(b"no sound")
    found = json.loads(run("read", str(file), "--json").stdout)
    assert [
        set(f)
        >= {
            "file",
            "kind",
            "seconds",
            "tempo_bpm",
            "bars",
            "remainder_beats",
            "key",
            "pitch_hz",
            "bands_db",
            "onsets_s",
        }
        for f in found
    ] == [True]
    assert found[0]["tempo_bpm"] == pytest.approx(112, rel=0.01) and found[0]["bars"] == 2 and found[0]["key"] is None
    both = run("read", str(file), str(tmp_path / "bad.wav"))
    assert "2 bars" in both.stdout and "not audio" in both.stderr
    out = tmp_path / "fitted.wav"
    run("fit", str(file), "-o", str(out), "--tempo", "126", "--semitones", "2")
    assert soundfile.info(out).frames == round(audio.shape[1] * 112 / 126)
    run("fit", str(file), "-o", str(out), "--bars", "3", "--tempo", "112")
    assert soundfile.info(out).frames == round(3 * 4 * 60 / 112 * RATE)
    added = run("samples", "add", str(tmp_path))
    assert "2 brought in" in added.stdout and "1 refused" in added.stdout and "bad.wav" in added.stderr
    listed = json.loads(run("samples", "--json").stdout)
    assert {row["name"] for row in listed} == {"Beat 56", "fitted"} and listed[0]["licence"] == "unknown"


@pytest.mark.parametrize(("args", "says"), [
    (("energy", "77"), "no song 77"), (("energy", "none.mid"), "neither the id of a song nor a file"), (("render", "1", "-o", "x.ogg"), "does not end in .wav or .flac"),
    (("import", "none.mid"), "No such file"), (("measure", "none.wav"), "No such file"), (("new", "--tempo", "9"), "9 bpm lies outside"),
    (("serve", "--host", "0.0.0.0"), "ESCALERA_PASSCODE"), (("backup", "nowhere/x.db"), "does not exist"), (("render", "1", "-o", "x.wav", "--bars", "a"), "not a range of bars"),
    (("chords", "H7 C"), "Write B7 or Bb7"), (("chords", ""), "no chords in an empty line"), (("times", "--tempo", "900"), "900 bpm lies outside 30 to 300"), (("key", "none.mid"), "neither the id"),
    (("read", "none.wav"), "No such file"), (("fit", "none.wav", "-o", "x.wav"), "No such file"), (("groove", "boom zap"), "“zap” is not a word"), (("grooves", "--like", "none.mid"), "No such file"),
])  # fmt: skip
def test_an_error_is_one_plain_line_and_status_two(run, args, says):
    result = run(*args, status=2)
    assert says in result.stderr and result.stdout == "" and len(result.stderr.strip().splitlines()) == 1


def test_chords_say_their_tones_numerals_and_what_a_held_note_is(run):
    report = json.loads(run("chords", "Dm Bb F C", "--key", "D minor", "--held", "A", "--json").stdout)
    assert report["key"] == "D minor" and [c["roman"] for c in report["chords"]] == ["i", "VI", "III", "VII"]
    assert report["chords"][0] == {
        "symbol": "Dm",
        "roman": "i",
        "notes": ["D", "F", "A"],
        "held": [{"note": "A", "role": "fifth", "clash": False}],
    }
    assert [c["held"][0]["role"] for c in report["chords"]] == ["fifth", "major seventh", "major third", "sixth"]
    text = run("chords", "i VI", "--key", "F# minor", "--held", "A D").stdout
    assert text.splitlines()[1].split()[:5] == ["D", "VI", "D", "F♯", "A"] and "clash" in text


def test_the_key_of_a_file_and_note_values_of_a_tempo(run, tmp_path):
    (tmp_path / "in.mid").write_bytes(write_midi(small_song()))
    report = json.loads(run("key", "in.mid", "--json").stdout)
    assert (
        report["candidates"][0]["key"] == "C major" and len(report["candidates"]) == 24 and report["tuning_hz"] == 440
    )
    assert report["margin"] == pytest.approx(
        report["candidates"][0]["score"] - report["candidates"][1]["score"], abs=1e-3
    )
    assert "C major before" in run("key", "in.mid").stdout
    times = json.loads(run("times", "--tempo", "96", "--json").stdout)
    assert times["tempo_bpm"] == 96 and [times["ms"][n] for n in ("1/4", "1/8", "1/8 dotted", "1/8 triplet")] == [
        625,
        312.5,
        468.75,
        208.333,
    ]
    assert "468.75 ms" in run("times", "--tempo", "96").stdout


def test_a_spoken_beat_and_the_grooves_near_a_drum_track(run, tmp_path):
    report = json.loads(run("groove", "boom ka boom-boom ka", "--json").stdout)
    assert (report["metre"], report["bars"], report["spoken"]) == ("4/4", 1, "boom ka boom-boom ka")
    assert (
        report["hits"][3]["beat"] == 2.5
        and {"beat", "drum", "velocity"} == set(report["hits"][0])
        and 0 < report["hits"][0]["velocity"] <= 1
    )
    assert report["measures"]["hits_per_beat"] == 1.25 and "syncopation" in report["measures"]
    assert json.loads(run("groove", "boom-ka-ka boom", "--metre", "6/8", "--json").stdout)["hits"][1][
        "beat"
    ] == pytest.approx(1 / 3, abs=1e-5)
    (tmp_path / "beat.mid").write_bytes(write_midi(small_song()))
    near = json.loads(run("grooves", "--like", "beat.mid", "--json").stdout)
    assert (
        near["spoken"].startswith("boom boom boom boom") and near["near"][0]["distance"] <= near["near"][1]["distance"]
    )
    assert "Held-back four" in run("grooves", "--like", "beat.mid").stdout
    assert len(json.loads(run("grooves", "--json").stdout)["grooves"]) >= 90 and "Plain waltz" in run("grooves").stdout


def test_every_command_has_help(run):
    for name in main.commands:
        assert "Usage" in run(name, "--help").stdout


def test_findings_advice_and_moves_are_told_and_made(run, tmp_path, demos):
    (tmp_path / "engines.json").write_bytes(write_project(demos[1]))
    flawed = run("import", "engines.json").stdout.strip()
    rows = json.loads(run("checks", flawed, "--json").stdout)["findings"]
    assert set(rows[0]) == {"check", "title", "said", "sections", "layers", "members", "weight", "accepted"}
    assert len(rows) > 3 and [r["weight"] for r in rows if not r["accepted"]] == sorted(
        (r["weight"] for r in rows if not r["accepted"]), reverse=True
    )
    assert rows[0]["said"] in run("checks", flawed).stdout
    named = next(r["sections"][0] for r in rows if len(r["sections"]) == 1)
    helps = json.loads(run("helps", flawed, "--section", named, "--json").stdout)["helps"]
    assert all(set(h) == {"name", "change", "then"} for h in helps)
    listed = run("moves", flawed, "--section", named).stdout.splitlines()
    key, change = listed[0][:40].strip(), float(listed[0][40:].split()[0])
    assert run("moves", flawed, "--section", named, "--do", key).stdout.strip()
    assert "no move" in run("moves", flawed, "--section", named, "--do", "nothing", status=2).stderr
    assert "no section" in run("helps", flawed, "--section", "Nowhere", status=2).stderr
    heard = json.loads(run("balance", flawed, "--section", "Verse", "--json").stdout)["sections"]
    assert [s["name"] for s in heard] == ["Verse"] and set(heard[0]) == {
        "name", "integrated_lufs", "true_peak_dbtp", "limiter_db", "correlation", "mono_loss_db", "layers", "masking", "low_owner",
    }  # fmt: skip
    assert {x["name"] for x in heard[0]["layers"]} >= {"Kick", "Engine bass"} and all(
        0 <= x["audible"] <= 1 for x in heard[0]["layers"]
    )
    assert (
        sum(heard[0]["low_owner"].values()) == pytest.approx(1, abs=0.01)
        and "% heard" in run("balance", flawed, "--section", "Verse").stdout
    )
    assert isinstance(change, float)


def test_two_sections_of_one_name_are_told_apart_by_a_bar(run, tmp_path):
    run("new", "--form", "verse 4, verse 4")
    names = [s["name"] for s in json.loads(run("energy", "1", "--json").stdout)["sections"]]
    song = json.loads((run("export", "1", "--format", "json", "-o", "a.json"), (tmp_path / "a.json").read_text())[1])
    for section in song["song"]["sections"]:
        section["name"] = "Verse"
    (tmp_path / "a.json").write_text(json.dumps(song))
    assert len(names) == 2 and "Verse@1, Verse@5" in run("helps", "a.json", "--section", "verse", status=2).stderr
    assert "helps" in json.loads(run("helps", "a.json", "--section", "Verse@5", "--json").stdout)


def test_the_doctor_says_what_is_wrong(run, tmp_path):
    run("new")
    rows = {r["what"]: r["state"] for r in json.loads(run("doctor", "--json").stdout)["rows"]}
    assert rows["database"] == rows["songs"] == rows["packages"] == "ok" and "problem" not in rows.values()
    file = tmp_path / "data" / "escalera.db"
    with sqlite3.connect(file) as database:
        database.execute("PRAGMA writable_schema=ON")
        page = database.execute("SELECT rootpage FROM sqlite_master WHERE name='ix_revisions_song_id'").fetchone()[0]
    database.close()
    data = bytearray(file.read_bytes())
    data[4096 * (page - 1) : 4096 * page] = b"\xff" * 4096
    file.write_bytes(bytes(data))
    assert "damaged" in run("doctor", status=1).stdout


def test_a_whole_song_is_made_and_ways_of_laying_it_out_are_told_and_taken(run, tmp_path):
    assert "slow-waltz" in run("starts", "waltz").stdout and not run("starts", "xyzzy").stdout
    assert run("new", "--school", "song", "--form", "short", "--start", "piano-and-a-voice").stdout == "1\n"
    run("export", "1", "--format", "json", "-o", "before.json")
    report = json.loads(run("layout", "1", "--json").stdout)
    assert len(report) == 3 and all(set(row) >= {"sections", "joins_as_meant", "reasons"} for row in report)
    assert [s["name"] for s in report[0]["sections"]] == ["Intro", "Verse 1", "Chorus 1", "Verse 2", "Chorus 2", "Tag"]
    assert all(abs(s["target"] - s["arranged"]) <= 1.0 for row in report for s in row["sections"])
    other = json.loads(
        run("layout", "1", "--form", "intro 4, verse 8, chorus 8 x2", "--alternatives", "1", "--json").stdout
    )
    assert [s["name"] for s in other[0]["sections"]] == ["Intro", "Verse", "Chorus 1", "Chorus 2"]
    run("export", "1", "--format", "json", "-o", "after.json")
    before, after = ((tmp_path / f"{name}.json").read_text() for name in ("before", "after"))
    assert after == before, "nothing is changed without --take"
    assert "Drums and bass carry the verses".lower() in run("layout", "1", "--take", "2").stdout.lower()
    assert "is not a form" in run("layout", "1", "--form", "sonata", status=2).stderr


def test_a_bounce_is_told_as_json(run, tmp_path):
    (tmp_path / "song.json").write_bytes(write_project(small_song()))
    mix = Renderer(60).render(small_song())
    soundfile.write("mix.wav", mix.T, RATE)
    found = json.loads(run("bounce", "song.json", "mix.wav", "--json").stdout)
    assert set(found) == {"offset_s", "drift_ppm", "missing_bars", "added_bars", "sections"}
    assert abs(found["offset_s"]) < 0.004 and found["missing_bars"] == found["added_bars"] == []
    assert [set(s) for s in found["sections"]] == [
        {"name", "target", "arranged", "sketch", "bounce", "integrated_lufs"}
    ] * 2

"""Work judged as a class: files of all kinds read apart, zips that attack, likeness, overrides, speed of nothing and of much."""

import io
import json
import zipfile
from dataclasses import replace

import pytest

from escalera.core.tasks.task_text import read_task
from escalera.errors import EscaleraError, FormatError, InputError, NotFound
from escalera.formats.midi_write import write_midi
from escalera.formats.project import write_project
from escalera.formats.wav_cues import cue_chunks, info_chunk
from escalera.services.job_kinds import JUDGED
from escalera.services.tasks import plain_file_name, read_task_file, task_text, unpack_submissions
from tests.planned import SONG, made
from tests.services.test_import_forms import BAR, wav
from tests.songs import BASS, ids

I = ids(SONG)  # noqa: E741
TEXT = "Verse has 8 bars. The chorus is the highest. At most 4 layers. No samples."
NEVER = (lambda share: None, lambda: True)


def zipped(path, *entries):
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as out:
        for name, data in entries:
            out.writestr(name, data)
    return path


def test_a_class_is_judged_kept_and_overridden(studio, tmp_path):
    task_id = studio.tasks.write(TEXT, "First")
    files = {
        "ana.json": write_project(SONG),
        "ben.mid": write_midi(SONG),
        "cem.txt": b"Verse 1: 12 bars\nChorus: 8 bars",
        "dee.json": b"{",
        "eva.mid": b"",
    }
    for name, data in files.items():
        (tmp_path / name).write_bytes(data)
    shares = []
    count = studio.tasks.judge_files(task_id, [(n, tmp_path / n) for n in files], shares.append, lambda: True)
    assert count == 5 and shares == [0.2, 0.4, 0.6, 0.8, 1.0]
    found = {s.name: s for s in studio.tasks.submissions(task_id)}
    assert found["ana.json"].marks.points == 100 and found["ben.mid"].marks.points == 100
    assert (
        found["cem.txt"].marks.points < 80
        and "is empty" in found["eva.mid"].trouble
        and found["dee.json"].marks is None
    )
    first = found["ana.json"]
    _, song = studio.tasks.submission(task_id, first.id)
    assert song == SONG
    studio.tasks.override(task_id, first.id, 0, 10.0, "counted from the pickup")
    assert studio.tasks.submissions(task_id)[0].marks.points == 85.0
    rows = studio.tasks.table(task_id).splitlines()
    assert rows[0] == "file,points,of,1,2,3,4,trouble" and rows[1].startswith("ana.json,85,100,10.0,25.0")
    studio.tasks.judge_files(task_id, [("ana.json", tmp_path / "ana.json")], *NEVER)
    assert len(studio.tasks.submissions(task_id)) == 5 and studio.tasks.submissions(task_id)[0].marks.points == 100
    with pytest.raises(InputError, match="could not be read"):
        studio.tasks.override(task_id, found["dee.json"].id, 0, 1.0, "x")
    with pytest.raises(NotFound):
        studio.tasks.submission(task_id + 1, first.id)
    assert "5 submissions forgotten" in studio.tasks.forget_class(task_id) and not studio.tasks.submissions(task_id)


def test_criteria_on_sound_are_rendered(studio):
    task = read_task("Chorus is 1 LU louder than Verse").task
    (row,) = studio.tasks.marks(task, SONG).rows
    assert row.met is not None and "LU" in row.value
    emptied = made(
        SONG,
        *(
            ("lift", dict(section_id=I["Chorus"], layer_id=I[n], phrase=p))
            for n in ("Round kick", "Plucked bass")
            for p in (0, 1)
        ),
    )
    assert studio.tasks.marks(task, emptied).rows[0].met is False


def test_likeness_between_submissions_is_pointed_out_carefully(studio, tmp_path):
    task_id = studio.tasks.write(TEXT)

    def own(number):
        song = SONG
        for k in range(4):
            rows = [[240 * i, 200, 2, (i * (number + 2) + k) % 7, 0, 90] for i in range(6)]
            song = made(
                song,
                (
                    "add_layer",
                    dict(sound="glass-bell", name=f"Bell {k}", rows=rows, length_ticks=3840, section_id=I["Chorus"]),
                ),
            )
        return song

    works = {f"w{i}": own(i) for i in range(5)} | {"copy": replace(own(1), title="Other")}
    for name, song in works.items():
        (tmp_path / name).write_bytes(write_project(song))
    studio.tasks.judge_files(task_id, [(n, tmp_path / n) for n in works], *NEVER)
    assert [{s.one, s.other} for s in studio.tasks.shared(task_id)] == [{"w1", "copy"}]


# zips: entries, and what is said
ATTACKS = {
    "a path outside": ([("../out.json", b"{}")], "leads outside"),
    "an absolute path": ([("/etc/x.json", b"{}")], "leads outside"),
    "a path of another system": ([("..\\x.json", b"{}")], "leads outside"),
    "nothing that can be judged": ([("notes.pdf", b"x"), (".hidden.json", b"x"), ("__MACOSX/a.json", b"x")], "nothing in it that can be judged"),
    "five hundred and one": ([(f"{i}.json", b"{}") for i in range(501)], "at most 500"),
    "a bomb": ([("big.json", b"0" * 61_000_000)], "MB a file are read"),
}  # fmt: skip


@pytest.mark.parametrize("name", ATTACKS)
def test_a_zip_that_holds_too_much_or_leads_outside_is_refused(tmp_path, name):
    entries, says = ATTACKS[name]
    with pytest.raises(EscaleraError, match=says):
        unpack_submissions(zipped(tmp_path / "all.zip", *entries), tmp_path)
    assert {p.name for p in tmp_path.iterdir()} == {"all.zip"}


def test_names_in_a_zip_are_text_and_told_apart(tmp_path):
    path = zipped(tmp_path / "all.zip", ("a/Ana.json", b"{}"), ("b/ana.json", b"{}"), ("c/<b>\u202e.mid", b"x"))
    assert [n for n, _ in unpack_submissions(path, tmp_path)] == ["Ana.json", "ana (2).json", "<b> .mid"]
    assert plain_file_name("..\\..\\x\ty.mid") == "x y.mid" and plain_file_name("/") == "submission"
    (tmp_path / "no.zip").write_bytes(b"PK")
    with pytest.raises(FormatError, match="cannot be read"):
        unpack_submissions(tmp_path / "no.zip", tmp_path)


def test_tasks_are_kept_taken_from_songs_and_read_from_files(studio):
    task_id = studio.tasks.write(TEXT, "First")
    task = studio.tasks.get(task_id).task
    assert read_task_file(task_text(task).encode()) == task and read_task_file(TEXT.encode()).criteria == task.criteria
    assert studio.tasks.read_in(task_text(task).encode()) == task_id + 1
    assert studio.tasks.of_library(3) == studio.tasks.of_library(3)
    of_song = studio.tasks.get(studio.tasks.of_song(SONG)).task
    assert studio.tasks.marks(of_song, SONG).points == pytest.approx(100, abs=0.1)
    for data, says in ((b"{", "read as JSON"), (b"x" * 1_000_001, "at most 1,000,000"), (b"{}", "no task")):
        with pytest.raises(FormatError, match=says):
            read_task_file(data)
    with pytest.raises(NotFound):
        studio.tasks.of_library(10)
    studio.tasks.forget(task_id)
    with pytest.raises(NotFound):
        studio.tasks.get(task_id)


def test_a_class_over_http_from_a_zip_to_a_table(client, studio, tmp_path):
    studio.begin_work()
    task_id = int(client.post("/tasks", data=dict(text=TEXT, title="First")).location.rsplit("/", 1)[1])
    archive = zipped(
        tmp_path / "all.zip", ("ana.json", write_project(SONG)), ("ben.mid", write_midi(SONG)), ("=cmd.json", b"{")
    )
    other = zipped(tmp_path / "more.zip", ("ana.json", write_project(SONG)))
    both = [(io.BytesIO(path.read_bytes()), path.name) for path in (archive, other)]
    answer = client.post(f"/tasks/{task_id}/judge", data={"file": both}, content_type="multipart/form-data")
    assert "4 submissions were handed in" in answer.get_data(as_text=True)
    studio.jobs.wait(studio.last_job(JUDGED).id, 60)
    told = client.get(f"/tasks/{task_id}/class").get_data(as_text=True)
    assert "ana.json" in told and "100 of 100" in told.replace("\n", " ")
    assert {"ana.json", "ana (2).json"} <= {s.name for s in studio.tasks.submissions(task_id) if s.marks}
    assert "'=cmd.json" in client.get(f"/tasks/{task_id}/class.csv").get_data(as_text=True)
    assert not list((studio.folder / "submitted").iterdir()), "what was handed in is not left lying about"
    first = studio.tasks.submissions(task_id)[1]
    page = client.post(
        f"/tasks/{task_id}/submissions/{first.id}", data=dict(number="0", points="3", reason="")
    ).get_data(as_text=True)
    assert "Say why the points are others" in page
    assert "The points are kept" in client.post(f"/tasks/{task_id}/submissions/{first.id}", data=dict(number="0", points="3", reason="late")).get_data(as_text=True)  # fmt: skip
    assert client.get(f"/tasks/{task_id}/submissions/{first.id}/{I['Chorus']}.wav").data[:4] == b"RIFF"
    assert client.get(f"/tasks/{task_id}/submissions/999").status_code == 404


# address, form, status, what is said
ODD = {
    "an empty task": ("/tasks", dict(text=""), 422, "The task is empty"),
    "contradictions": ("/tasks", dict(text="Verse has 8 bars. Verse has 9 bars."), 422, "contradict each other"),
    "no library": ("/tasks", dict(library="77"), 404, "no such task"),
    "weights of nothing": ("/tasks/1", {f"weight.{i}": "0" for i in range(4)}, 422, "All weights are 0"),
    "a weight that is none": ("/tasks/1", {"weight.0": "much"}, 422, "is no weight"),
    "nothing handed in": ("/tasks/1/judge", {}, 400, "nothing in it that can be judged"),
    "a number that no store holds": ("/tasks", dict(song="9" * 30), 404, "no song 0"),
    "a song that no store holds": ("/tasks/1/begin", dict(song="77"), 404, "no song 77"),
    "a library that no store holds": ("/tasks", dict(library="9" * 30), 422, "is not a number"),
    "no example": ("/tasks/1/example", dict(which="passes"), 400, "tasks of the course only"),
    "nothing to do": ("/songs/1/task", dict(act="burn"), 422, "nothing that can be done"),
    "a task that is none": ("/songs/1/task", dict(act="take", task="99"), 404, "no such task"),
    "no task to lay down": ("/songs/1/task", dict(act="drop"), 422, "works on no task"),
    "a hint for nothing": ("/songs/1/task", dict(act="hint", number="1"), 422, "not in the task"),
}  # fmt: skip


@pytest.mark.parametrize("name", ODD)
def test_odd_input_is_a_sentence(client, studio, name):
    studio.add_song(SONG, "Made")
    studio.tasks.write(TEXT, "First")
    address, form, status, says = ODD[name]
    answer = client.post(address, data=form)
    assert (answer.status_code, says in answer.get_data(as_text=True)) == (status, True), answer.get_data(as_text=True)[
        :500
    ]


def test_a_task_lies_beside_the_song_and_hints_are_recorded(client, studio):
    song_id = studio.add_song(made(SONG, ("resize_section", dict(section_id=I["Verse"], bars=12))), "Made")
    studio.tasks.write(TEXT, "First")
    assert client.post("/tasks/1/begin", data=dict(song=str(song_id))).location.endswith("select=song")
    assert studio.head(song_id).song.task.title == "First"
    told = client.get(f"/songs/{song_id}/task").get_data(as_text=True)
    assert "What would mend it?" in told and "Make Verse 8 bars long" not in told
    told = client.post(f"/songs/{song_id}/task", data=dict(act="hint", number="0")).get_data(as_text=True)
    assert "Make Verse 8 bars long" in told and studio.head(song_id).song.hints == (0,)
    assert "No task" in client.post(f"/songs/{song_id}/task", data=dict(act="drop")).get_data(as_text=True)
    studio.tasks.of_library(0)
    for which in ("passes", "fails"):
        assert client.post("/tasks/2/example", data=dict(which=which)).status_code == 302
    assert json.loads(client.get("/tasks/1/task.json").data)["task"]["title"] == "First" and BASS


def test_a_mix_with_markers_is_judged_by_its_sections(studio, tmp_path):
    told = info_chunk("mix", "120 bpm, 4/4, A minor")
    path = wav(tmp_path / "mix.wav", 40, cue_chunks([(0, "Intro"), (4 * BAR, "Verse"), (12 * BAR, "Drop")]) + told)
    task = read_task(
        "The form is intro, verse, drop. Intro has 4 bars. Drop begins well. The key is A minor. Verse ends with bar 12."
    ).task
    song = studio.tasks.read_work(path, "mix.wav")
    assert studio.tasks.marks(task, song).points == 100.0 and not list(studio.samples.folder.glob("*.flac"))

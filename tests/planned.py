"""Songs and rows for what is planned: an example of every edit of stages, dates and people, where it applies and where it is refused."""

from datetime import date

from escalera.core.commands import COMMANDS
from tests.songs import small_song

SONG = small_song()
TODAY = date(2031, 5, 20)


def made(song, *rows):
    """The song after commands, each as its kind and its fields."""
    for kind, fields in rows:
        song = COMMANDS[kind](**fields).apply(song)
    return song


TWO = made(SONG, ("add_person", dict(name="Mira", roles="voice")), ("add_person", dict(name="Joris")))
MIRA, JORIS = (p.id for p in TWO.people)
SHARED = made(TWO, ("set_shares", dict(text="Mira 60\nJoris: 40 %")))
DATED = made(
    SONG, ("set_stage", dict(stage="arranged", on="2031-03-01")), ("set_release", dict(on="2031-08-01", gaps=None))
)


def due(song, what):
    return next((d for d in song.work.due if d.what == what), None)


TASKED = made(SONG, ("take_task", dict(text="Chorus is the highest. No samples")))
ROWS = {
    "set_stage": (DATED, (dict(stage="recorded", on="2031-05-20"), lambda s: [m.stage for m in s.work.marks] == ["arranged", "recorded"] and due(s, "Recording done").done), (dict(stage="recorded", on="2031-02-01"), "lies before 2031-03-01, when it became arranged")),
    "take_back_stage": (DATED, (dict(), lambda s: not s.work.marks and s.work.due), None),
    "set_release": (DATED, (dict(on="2031-09-01", gaps=[["Cover", "30", ""], ["Out", "0", "released"]]), lambda s: [(d.what, str(d.on)) for d in s.work.due] == [("Cover", "2031-08-02"), ("Out", "2031-09-01")]), (dict(on="soon"), "is no day. Write it as year-month-day")),
    "set_due": (DATED, (dict(what="Mix done", on="2031-07-01", today="2031-05-20"), lambda s: (due(s, "Mix done").days_before, str(due(s, "Mix done").on), due(s, "Mix done").stage) == (-1, "2031-07-01", "mixed") and COMMANDS["set_release"]("2031-12-01").apply(s).work.due[0].what == "Mix done"), (dict(what="Cover", on="2031-05-19", today="2031-05-20"), "2031-05-19 has passed: today is 2031-05-20")),
    "set_due_done": (DATED, (dict(what="announced"), lambda s: due(s, "Announced").done and not due(s, "Release").done), (dict(what="Party"), "not among the due dates any more")),
    "set_archived": (SONG, (dict(), lambda s: s.work.archived), None),
    "set_prompt": (SONG, (dict(rules=[["no kick", ""], ["few layers", "4"]]), lambda s: s.prompt == (("no kick", ""), ("few layers", "4"))), (dict(rules=[["few layers", "many"]]), "is no number from 1 to 24")),
    "take_task": (SONG, (dict(text="Stair. Chorus is the highest. No samples"), lambda s: (s.task.title, len(s.task.criteria)) == ("Stair", 2)), (dict(text="{"), "cannot be read")),
    "drop_task": (TASKED, (dict(), lambda s: s.task is None and not s.hints), None),
    "take_hint": (TASKED, (dict(number=1), lambda s: s.hints == (1,)), (dict(number=2), "is not in the task")),
    "add_person": (TWO, (dict(name=" Anna\tB ", roles="mix"), lambda s: (s.people[-1].name, s.people[-1].roles) == ("Anna B", "mix")), (dict(name="Miira"), "looks like Mira, who is on the list")),
    "set_person": (TWO, (dict(person_id=MIRA, sent="two takes\nof the chorus", owed="a rough mix"), lambda s: (s.people[0].name, s.people[0].sent, s.people[0].owed, s.people[0].roles) == ("Mira", "two takes\nof the chorus", "a rough mix", "voice")), (dict(person_id=MIRA, name="joris"), "joris is on the list already")),
    "remove_person": (TWO, (dict(person_id=MIRA), lambda s: [p.name for p in s.people] == ["Joris"]), (dict(person_id=9999), "not on the list any more")),
    "set_shares": (TWO, (dict(), lambda s: [p.share for p in s.people] == [50.0, 50.0]), (dict(text="Mira 60\nJoris 41"), "add up to 101 %, and must make 100 %. Take 1 % away")),
    "sign_share": (SHARED, (dict(person_id=MIRA, signed="message of Monday", on="2031-05-20"), lambda s: s.people[0].signed == "message of Monday" and not COMMANDS["set_shares"]("Mira 50\nJoris 50").apply(s).people[0].signed), (dict(person_id=9999, signed="x"), "not on the list any more")),
}  # fmt: skip

"""Edits of words: versions of a section's lyrics, words as they are sung, the language, moments tied to words."""

from __future__ import annotations

from dataclasses import replace

from escalera.cleaning import clean_text
from escalera.core.document.limits import MAX_LYRIC, MAX_LYRICS, MAX_MOMENTS, MAX_NAME, MAX_OWN_WORDS
from escalera.core.document.names import clean_name
from escalera.core.document.singing import CHORD, WORD_MOMENTS, Lyric, WordMoment
from escalera.core.document.song import Section, Song
from escalera.core.edits.edit import edit, one_of, section_of, whole_number, within
from escalera.core.edits.harmony_edits import home_fifths
from escalera.core.palette.join_kinds import JOIN_KINDS
from escalera.core.reading.section_harmony import section_key
from escalera.core.reading.timeline import timeline
from escalera.core.theory.chords import Chord, parse_chord
from escalera.core.voices.melody import melody_of, sung_lines
from escalera.core.voices.word_places import lines_of, moment_word
from escalera.core.words.lyric_lines import NONSENSE, WORD
from escalera.core.words.spoken_words import LANGUAGES, own_word, plain
from escalera.errors import EditError, shown


def checked_words(text: str) -> str:
    """A lyric cleaned. EditError where it is too long for one section."""
    cleaned = clean_text(text.replace("\r\n", "\n"))
    if len(cleaned) > MAX_LYRIC:
        raise EditError(
            f"These words have {len(cleaned):,} characters; a section takes {MAX_LYRIC:,}. Put the rest into the sections in which it is sung."
        )
    return cleaned


@edit("set_lyric", "singing")
class SetLyric:
    """Write the words of a section: those that are sung, or a new version of them."""

    section_id: int
    text: str
    name: str = ""
    anew: bool = False

    def apply(self, song: Song) -> Song:
        section, words = section_of(song, self.section_id), checked_words(self.text)
        at = min(section.lyric, len(section.lyrics) - 1)
        if self.anew or not section.lyrics:
            if len(section.lyrics) >= MAX_LYRICS:
                raise EditError(
                    f"{section.name} has {MAX_LYRICS} versions of its words, and no more fit. Take one out."
                )
            name = clean_name(self.name)[:MAX_NAME] if self.name.strip() else f"version {len(section.lyrics) + 1}"
            lyrics = (*section.lyrics, Lyric(name, words))
            return song.with_section(replace(section, lyrics=lyrics, lyric=len(lyrics) - 1))
        old = section.lyrics[at]
        name = clean_name(self.name)[:MAX_NAME] if self.name.strip() else old.name
        changed = tuple(Lyric(name, words) if i == at else x for i, x in enumerate(section.lyrics))
        return song.with_section(_moments_kept(song, replace(section, lyrics=changed), section))

    def summary(self, song: Song) -> str:
        return f"{section_of(song, self.section_id).name}: words {'in a new version' if self.anew else 'written'}"


def _moments_kept(song: Song, after: Section, before: Section) -> Section:
    """A section whose moments stay with their words where other words come before them; moments of words that went are kept where
    they were counted."""
    if not before.moments:
        return after
    old = [plain(w.text) for line in lines_of(song, before) for w in line.words]
    new = [plain(w.text) for line in lines_of(song, after) for w in line.words]
    moved = []
    for moment in before.moments:
        word = old[moment.word] if moment.word < len(old) else ""
        places = [i for i, w in enumerate(new) if w == word]
        same = old[: moment.word].count(word)
        moved.append(replace(moment, word=places[min(same, len(places) - 1)]) if places and word else moment)
    return replace(after, moments=tuple(moved))


def _with_version(song: Song, section_id: int, number: int) -> Section:
    """A section that has a version of its words, counted from 0. EditError where it has not."""
    section = section_of(song, section_id)
    if not 0 <= number < len(section.lyrics):
        raise EditError(
            f"{section.name} has {len(section.lyrics)} versions of its words, no version {number + 1}. Choose one of them."
        )
    return section


@edit("choose_lyric", "singing")
class ChooseLyric:
    """Sing another version of a section's words."""

    section_id: int
    number: int

    def apply(self, song: Song) -> Song:
        section = _with_version(song, self.section_id, self.number)
        return song.with_section(_moments_kept(song, replace(section, lyric=self.number), section))

    def summary(self, song: Song) -> str:
        section = section_of(song, self.section_id)
        return f"{section.name}: words of {section.lyrics[self.number].name or f'version {self.number + 1}'} sung"


@edit("remove_lyric", "singing")
class RemoveLyric:
    """Take a version of a section's words out."""

    section_id: int
    number: int

    def apply(self, song: Song) -> Song:
        section = _with_version(song, self.section_id, self.number)
        lyrics = tuple(x for i, x in enumerate(section.lyrics) if i != self.number)
        at = section.lyric - (section.lyric > self.number)
        after = replace(section, lyrics=lyrics, lyric=max(0, min(at, len(lyrics) - 1)))
        return song.with_section(_moments_kept(song, after, section))

    def summary(self, song: Song) -> str:
        return f"{section_of(song, self.section_id).name}: a version of the words taken out"


@edit("replace_word", "singing")
class ReplaceWord:
    """Put a word in the place of another one, nonsense syllables one by one as words are found."""

    section_id: int
    word: int
    text: str

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        if not section.lyrics:
            raise EditError(f"{section.name} has no words yet. Write some first.")
        lyric = section.lyrics[section.lyric]
        found = list(WORD.finditer(lyric.lines))
        if not 0 <= self.word < len(found):
            raise EditError(f"{section.name} has {len(found)} words, no word {self.word + 1}. Choose one of them.")
        mark = found[self.word]
        words = checked_words(lyric.lines[: mark.start()] + " ".join(self.text.split()) + lyric.lines[mark.end() :])
        return SetLyric(section.id, words).apply(song)

    def summary(self, song: Song) -> str:
        return f"{section_of(song, self.section_id).name}: “{shown(self.text)}” put in a word’s place"


@edit("fill_nonsense", "singing")
class FillNonsense:
    """Write nonsense syllables onto every note of a section's melody, a line a breath, to be replaced by words one by one."""

    section_id: int
    syllable: str = "la"

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        one_of(self.syllable, sorted(NONSENSE), "syllable")
        notes = melody_of(song, timeline(song).span_of(section.id))
        if not notes:
            raise EditError(f"No melody sings in {section.name} yet. Write a guide on the bench, or hum one.")
        text = "\n".join(" ".join([self.syllable] * (b - a)) for a, b in sung_lines(notes))
        return SetLyric(section.id, text, "nonsense", bool(section.lyrics)).apply(song)

    def summary(self, song: Song) -> str:
        return f"{section_of(song, self.section_id).name}: {self.syllable} on every note"


@edit("divide_word", "singing")
class DivideWord:
    """Say how a word is sung: its syllables with hyphens, the stressed one in capitals; without hyphen and capitals it is read anew."""

    text: str

    def apply(self, song: Song) -> Song:
        key, divided = own_word(self.text)
        rest = tuple(row for row in song.divided if row[0] != key)
        if "-" not in divided and not divided.isupper():
            return replace(song, divided=rest)
        if len(rest) >= MAX_OWN_WORDS:
            raise EditError(
                f"{MAX_OWN_WORDS} words are divided by hand, and no more fit. Take some back by writing them without hyphens."
            )
        return replace(song, divided=tuple(sorted((*rest, (key, divided)))))

    def summary(self, song: Song) -> str:
        return f"Sung as {shown(self.text)}"


@edit("set_language", "singing")
class SetLanguage:
    """Say in which language the words are."""

    language: str

    def apply(self, song: Song) -> Song:
        return replace(song, language=one_of(self.language, list(LANGUAGES), "language"))

    def summary(self, song: Song) -> str:
        return f"Words in {LANGUAGES.get(self.language, shown(self.language))}"


@edit("tie_moment", "singing")
class TieMoment:
    """Let something happen on a word: a stop, a gap, a hit, an echo, another chord; it moves with the word."""

    section_id: int
    word: int
    what: str
    beats: float = 1.0
    layer_id: int = 0
    chord: str = ""

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        kind = one_of(self.what, list(WORD_MOMENTS), "moment")
        beats = within(self.beats, 0.25, 64, "A length of", "beats")
        words = [w for line in lines_of(song, section) for w in line.words]
        if not 0 <= self.word < len(words):
            raise EditError(f"{section.name} has {len(words)} words, no word {self.word + 1}. Choose one of them.")
        if len(section.moments) >= MAX_MOMENTS:
            raise EditError(f"{section.name} has {MAX_MOMENTS} moments tied to words, and no more fit. Take one away.")
        if kind == CHORD:
            moment = WordMoment(self.word, kind, beats, chord=_stored_chord(song, section, self.chord))
        else:
            moment = WordMoment(self.word, kind, beats, _layer_of_moment(song, kind, self.layer_id))
        rest = tuple(m for m in section.moments if (m.word, m.kind) != (self.word, kind))
        return song.with_section(replace(section, moments=(*rest, moment)))

    def summary(self, song: Song) -> str:
        section = section_of(song, self.section_id)
        word = moment_word(song, section, WordMoment(self.word, self.what))
        what = f"chord {shown(self.chord)}" if self.what == CHORD else JOIN_KINDS[self.what].label.lower()
        return f"{section.name}: {what} on “{word}”"


def _stored_chord(song: Song, section: Section, text: str) -> Chord:
    """A chord as typed, in the key that sounds in the section, moved to the song's own key. Raises ChordError."""
    if not text.strip():
        raise EditError("No chord was named for the word. Write one, for example Am7, or a degree, for example bVII.")
    return parse_chord(text, section_key(song, section)).moved(-home_fifths(song, section))


def _layer_of_moment(song: Song, kind: str, layer_id: int) -> int:
    """The layer that plays a moment: one of those whose sound it takes, or for an echo the voice that sings."""
    told = JOIN_KINDS[kind]
    if layer_id in song.layer_by_id:
        return layer_id
    if told.sounds:
        found = next((x for x in song.layers if x.sound_key in told.sounds), None)
        if found is None:
            raise EditError(
                f"No layer plays {told.label.lower()}. Add one with such a sound on the page of joins, or choose another moment."
            )
        return found.id
    if told.plays:
        voices = [x for x in song.layers if x.family == "voices"] or [x for x in song.layers if x.family in told.plays]
        if not voices:
            raise EditError(
                f"Nothing sings that could be given {told.label.lower()}. Record a take, or write a guide, first."
            )
        return max(voices, key=lambda x: bool(x.clips)).id
    return 0


@edit("untie_moment", "singing")
class UntieMoment:
    """Take a moment away from a word."""

    section_id: int
    number: int

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section_id)
        at = whole_number(self.number, "moment")
        if not 0 <= at < len(section.moments):
            raise EditError(
                f"{section.name} has {len(section.moments)} moments, no moment {at + 1}. Choose one of them."
            )
        return song.with_section(replace(section, moments=tuple(m for i, m in enumerate(section.moments) if i != at)))

    def summary(self, song: Song) -> str:
        return f"{section_of(song, self.section_id).name}: a moment taken away"

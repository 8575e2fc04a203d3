"""Forms: lists of sections with lengths, as data."""

from __future__ import annotations

from escalera.lazy_dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Form:
    key: str
    label: str
    text: str
    help: str


FORMS: dict[str, Form] = {form.key: form for form in (
    Form("loop", "One loop", "Idea 8", "Eight bars to fill; sections come later."),
    Form("verse-chorus", "Verse and chorus", "Intro 8, Verse 16, Chorus 8, Verse 16, Chorus 8, Bridge 8, Chorus 16, Outro 8",
         "The song form with a bridge before the last chorus."),
    Form("chorus-first", "Chorus first", "Chorus 8, Verse 16, Pre-chorus 4, Chorus 8, Verse 8, Pre-chorus 4, Chorus 16, Outro "
 "4",
         "Opens on the chorus, so every later one has to grow."),
    Form("two-drops", "Two drops", "Intro 16, Build 8, Drop 16, Break 16, Build 8, Drop 16, Outro 16",
         "Builds, drops and a break between them."),
    Form("strophic", "Strophes", "Intro 4, Verse 16, Interlude 4, Verse 16, Interlude 4, Verse 16, Tag 4",
         "The same strophe again; the arrangement makes the difference."),
    Form("through", "Through-composed", "Intro 8, Verse 12, Interlude 6, Jam 16, Breakdown 8, Bridge 10, Outro 12",
         "Nothing returns; the stair alone leads."),
    Form("double-chorus", "Double chorus at the end", "Intro 4, Verse 16, Pre-chorus 8, Chorus 8, Verse 8, Pre-chorus 8, Chorus 8, Bridge "
 "8, Chorus 8, Chorus 8, Outro 4",
         "The last chorus comes twice; something has to be kept for the second."),
    Form("loop-piece", "A loop with a contrasting part", "Intro 8, Theme 16, Theme 16, Contrast 16, Theme 16, Outro 8",
         "One loop grows and thins; once something else answers it."),
    Form("build-drop-break", "Build, drop, break, second drop", "Intro 16, Verse 16, Build 8, Drop 16, Break 16, Build 8, Drop 24, Outro 8",
         "Two peaks, the second longer, and a valley between."),
    Form("short", "Short and over", "Intro 4, Verse 8, Chorus 8, Verse 8, Chorus 16, Tag 4",
         "Under two minutes at most tempos: the chorus early, twice."),
)}  # fmt: skip

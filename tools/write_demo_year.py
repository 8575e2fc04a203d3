"""Lays the songs of the made-up year out and keeps them as projects, so that a first start need not."""

from pathlib import Path
from zipfile import ZIP_DEFLATED, ZipFile, ZipInfo

from escalera.formats.project import write_project
from escalera.services import library
from escalera.services.demo_year import SONGS_FILE, YEAR_FILE, file_of, made_song

if __name__ == "__main__":
    path = Path(library.__file__).parent.parent / "demo" / SONGS_FILE
    with ZipFile(path, "w", ZIP_DEFLATED, compresslevel=9) as songs:
        for row in library.data(YEAR_FILE)["songs"]:
            songs.writestr(ZipInfo(file_of(row), (2026, 1, 1, 0, 0, 0)), write_project(made_song(row)), ZIP_DEFLATED, 9)
    print(f"{path.name}: {path.stat().st_size:,} bytes")

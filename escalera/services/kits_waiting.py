"""Stems on their way: those of one kit wait in a folder of their own until all are there."""

from __future__ import annotations

import shutil
from pathlib import Path

SIZE = ".size"


class KitsWaiting:
    """Folders of stems by the number of their kit."""

    def __init__(self, folder: Path):
        self._folder = folder

    def folder(self, kit: int) -> Path:
        return self._folder / str(int(kit))

    def take(self, kit: int, file: Path, name: str) -> None:
        """Put a file beside the others of its kit, in the order in which they come."""
        folder = self.folder(kit)
        folder.mkdir(parents=True, exist_ok=True)
        file.replace(folder / f"{self._count(kit):03d} {name}")

    def named(self, kit: int) -> list[tuple[Path, str]]:
        """The files of a kit with the names they had."""
        folder = self.folder(kit)
        found = sorted(f for f in folder.iterdir() if f.name != SIZE) if folder.is_dir() else []
        return [(file, file.name[4:]) for file in found]

    def whole(self, kit: int, size: int, fewer: bool = False) -> bool:
        """Whether a kit of `size` stems is there; where `fewer` come than were announced, that number is kept."""
        folder, kept = self.folder(kit), self.folder(kit) / SIZE
        if fewer:
            folder.mkdir(parents=True, exist_ok=True)
            kept.write_text(str(size))
        elif kept.exists():
            size = min(size, int(kept.read_text()))
        return self._count(kit) >= size

    def _count(self, kit: int) -> int:
        return len(self.named(kit))

    def clear(self, kit: int) -> None:
        shutil.rmtree(self.folder(kit), ignore_errors=True)

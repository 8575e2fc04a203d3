"""One table of settings: name, environment variable, default, meaning."""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path


@dataclass(frozen=True)
class Setting:
    key: str
    variable: str
    default: str
    help: str


TABLE = (
    Setting("data_folder", "ESCALERA_DATA", "var", "where the database and the secret key lie"),
    Setting("host", "ESCALERA_HOST", "127.0.0.1", "address to serve on; any other than 127.0.0.1 needs a passcode"),
    Setting("port", "ESCALERA_PORT", "5000", "port to serve on"),
    Setting(
        "passcode", "ESCALERA_PASSCODE", "", "passcode asked for when the program is reachable from other machines"
    ),
    Setting(
        "max_pages", "ESCALERA_MAX_PAGES", "0", "largest size of the database in pages of 4096 bytes; 0 is no limit"
    ),
    Setting("cache_mb", "ESCALERA_CACHE_MB", "700", "memory for rendered sound, in megabytes"),
    Setting("soundfont", "ESCALERA_SOUNDFONT", "", "a SoundFont file to use; by default the first one installed"),
    Setting(
        "disk_cache_mb", "ESCALERA_DISK_CACHE_MB", "1000", "rendered sound kept on disk, in megabytes; 0 keeps none"
    ),
    Setting("upload_mb", "ESCALERA_UPLOAD_MB", "24", "largest file that may be brought in, in megabytes"),
)


def value(key: str) -> str:
    """The value of a setting: the environment's, else the default."""
    row = next(row for row in TABLE if row.key == key)
    return os.environ.get(row.variable) or row.default


def number(key: str) -> int:
    return int(value(key))


def data_folder() -> Path:
    folder = Path(value("data_folder")).resolve()
    folder.mkdir(parents=True, exist_ok=True)
    return folder

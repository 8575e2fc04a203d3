"""The settings, from environment variables ESCALERA_…; each says what it is for."""

from __future__ import annotations

import os
import sys
from pathlib import Path

from pydantic import Field
from pydantic_settings import BaseSettings, SettingsConfigDict

# Where kernels and pages lie as they were compiled: part of the installation, not of the data
COMPILED = Path(os.environ.get("NUMBA_CACHE_DIR") or Path(sys.prefix) / "numba-cache")


class Settings(BaseSettings):
    """Read anew wherever it is made, so that a changed environment counts at once."""

    model_config = SettingsConfigDict(env_prefix="ESCALERA_", env_ignore_empty=True)

    data: Path = Field(Path("var"), description="where the database and the secret key lie")
    host: str = Field("127.0.0.1", description="address to serve on; any other than 127.0.0.1 needs a passcode")
    names: str = Field(
        "", description="further names it may be called by, between commas, when served to other machines"
    )
    port: int = Field(5000, ge=1, le=65_535, description="port to serve on")
    passcode: str = Field("", description="passcode asked for when the program is reachable from other machines")
    max_pages: int = Field(0, ge=0, description="largest size of the database in pages of 4096 bytes; 0 is no limit")
    cache_mb: int = Field(140, ge=0, description="memory for rendered sound, in megabytes")
    soundfont: str = Field("", description="a SoundFont file to use; by default the first one installed")
    disk_cache_mb: int = Field(1000, ge=0, description="rendered sound kept on disk, in megabytes; 0 keeps none")
    exports_mb: int = Field(2000, ge=1, description="files that were made, kept for a while, in megabytes")
    samples_mb: int = Field(8000, ge=1, description="recordings in the library, in megabytes")
    sample_upload_mb: int = Field(1500, ge=1, description="largest recording that may be brought in, in megabytes")
    queue: str = Field(
        "", description="address of a Redis for the queue of long work; by default a file beside the database"
    )
    workers: int = Field(
        1, ge=0, le=8, description="workers started with the server; 0 leaves the work to `escalera work`"
    )
    work_key: str = Field(
        "",
        pattern=r"^(.{16,200})?$",
        description="key by which workers on other machines may take work; 16 characters or more, none lets nobody",
    )
    watch: Path | None = Field(
        None, description="a folder that a workstation bounces into: newer files with the name of a bounce are read"
    )
    log: str = Field("info", pattern="^(debug|info|warning|error)$", description="how much is written into the log")
    language: str = Field(
        "en", pattern=r"^[a-z]{2,3}(_[A-Z]{2})?$", description="language of the pages, where web/texts has it"
    )
    upload_mb: int = Field(24, ge=1, description="largest file that may be imported, in megabytes")


def data_folder() -> Path:
    """The folder of the database, made where it is not there."""
    folder = Settings().data.resolve()
    folder.mkdir(parents=True, exist_ok=True)
    return folder

"""What carries one section into the next: devices and builds, and the song as it is played with them."""

from escalera.core.joins.as_played import device_tiles, played, played_at

__all__ = ["device_tiles", "played", "played_at"]

"""What carries one section into the next: devices and builds, and the song as it is played with them."""

from escalera.core.joins.as_played import played, played_at

__all__ = ["played", "played_at"]

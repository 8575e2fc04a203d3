"""A finished track taken apart: what was read of it, what people say of such a track, and a song built on its shape."""

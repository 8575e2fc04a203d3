"""Laying out: which layer plays where, so that the sections come near their targets within the rules of practice."""

from escalera.core.layout.song_layout import Layout, alternatives, lay_out_song

__all__ = ["Layout", "alternatives", "lay_out_song"]

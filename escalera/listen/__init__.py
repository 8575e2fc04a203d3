"""Recordings -> facts: tempo, bars, key, pitch, kind, bands. Knows arrays and nothing of songs, files or pages."""

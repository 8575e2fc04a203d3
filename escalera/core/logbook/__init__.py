"""The logbook: when was worked, on what, and what was decided."""

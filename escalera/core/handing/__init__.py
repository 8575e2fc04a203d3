"""What a song is handed over as: sheets of notes, recipes of sounds, tables, names of files, who needs what, what is not ready."""

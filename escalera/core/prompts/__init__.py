"""Prompts: rules that constrain a song, and that the program can check."""

"""Voices of a song: the melody they follow, the words on it, takes held against both, and what a stack is made of."""

"""Drills: questions with exact answers, made from songs and by the program; how difficult they are for whom, and when they come again."""

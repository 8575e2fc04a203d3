"""Where the work on a song stands: stages, days, people, what to do next and how long it takes."""

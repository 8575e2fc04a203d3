"""Sets of songs: an album, a single with versions, a live set, a class; read, judged and put in order."""

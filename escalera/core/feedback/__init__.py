"""What listeners said of a song: read from a list, laid where it belongs, held against each other."""

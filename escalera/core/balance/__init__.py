"""What is heard of a mix: who fills which band, what hides what and what would help, width, space, levels. Arrays in, judgements out."""

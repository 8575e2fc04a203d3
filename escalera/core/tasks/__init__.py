"""Tasks: criteria that work is held against, read from what people say; marks with evidence."""

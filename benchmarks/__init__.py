import escalera  # noqa: F401  (before NumPy: what is timed is the program as it comes, with as many threads)

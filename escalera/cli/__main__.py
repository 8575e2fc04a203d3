"""`python -m escalera.cli` is the command `escalera`."""

from escalera.cli import main

main()

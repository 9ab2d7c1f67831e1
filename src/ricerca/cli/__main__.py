"""``python -m ricerca.cli``."""

from ricerca.cli import main

main()

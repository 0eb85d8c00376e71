"""``python -m oakladder``."""

from oakladder.cli import main

main()

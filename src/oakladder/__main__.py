"""``python -m oakladder``."""

from oakladder.cli import main

if __name__ == "__main__":  # the processes of a sweep read this too
    main()

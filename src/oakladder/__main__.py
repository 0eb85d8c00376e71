"""``python -m oakladder``."""

if __name__ == "__main__":  # the processes of a sweep read this too
    import sys

    try:
        from oakladder.cli import main

        main()
    except KeyboardInterrupt:  # while the program was still being loaded
        sys.exit(130)

"""``python -m oakladder``."""

if __name__ == "__main__":  # the processes of a sweep read this too
    import signal

    if signal.getsignal(signal.SIGINT) is signal.default_int_handler:
        signal.signal(signal.SIGINT, signal.SIG_DFL)  # while the program is loaded, Ctrl+C ends it without a traceback

    from oakladder.cli import main

    main()

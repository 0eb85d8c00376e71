"""What can be wrong with data, as a sentence for the user."""


class DataProblem(Exception):
    """Data that cannot be used; the text says what is wrong, where, and what to do."""


class NoBars(DataProblem):
    """A symbol has no bars from which those that were asked for are made."""


class Stopped(Exception):
    """Reading was stopped by whoever started it."""

"""What can be wrong with data, as a sentence for the user."""


class DataProblem(Exception):
    """Data that cannot be used; the text says what is wrong, where, and what to do."""


class NoBars(DataProblem):
    """A symbol has no bars to make the requested ones from."""


class UnknownSymbol(DataProblem, KeyError):
    """A library has no symbol of a name."""

    def __init__(self, symbol: str):
        super().__init__(f"There is no symbol {symbol} in the library.")

    def __str__(self) -> str:
        return str(self.args[0])  # a `KeyError` would show it in quotes


class Stopped(Exception):
    """The caller has cancelled reading."""

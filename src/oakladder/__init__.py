"""Oak Ladder: write a rule once; see it on the chart, down the watchlist, through the market."""

__version__ = "0.1.0"

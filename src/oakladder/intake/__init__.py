"""The user's own data: what a file looks like, reading it, tidying it, and taking it into a bar library."""

"""Samples of the way to far ends, without end: a process of its own that stands as long as the server wants it."""

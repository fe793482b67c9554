"""Watches: what a probe is to sample without end, what came in, and how it stands."""

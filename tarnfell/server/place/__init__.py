"""Test points, probes and far ends, and how a probe gets to a site."""
